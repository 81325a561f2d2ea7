"""JSON from outside, read as RFC 8259 has it: with no value that nothing can keep."""

from __future__ import annotations

import json
import math
from typing import Any


def read_json(text: str | bytes | bytearray) -> Any:
    """What a text says.

    Raises:
        ValueError: when it is no JSON, or has a number that is none or is too large.
        RecursionError: when it is nested too deeply.
    """
    return json.loads(text, parse_constant=_no_number, parse_float=_number)


def _no_number(constant: str) -> None:
    raise ValueError(f"{constant} is no number of JSON")


def _number(text: str) -> float:
    number = float(text)
    if math.isinf(number):
        raise ValueError(f"{text} is too large a number")
    return number
