"""What has to hold in an environment once a promotion is there: asked of it, and answered."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping
from enum import StrEnum
from typing import Any

from msgspec import Struct
from msgspec.structs import asdict


class Asked(StrEnum):
    """Who is asked."""

    QUERY = "query"
    """The database: the first value of the first row."""
    HTTP = "http"
    """A service: the status of its answer, and something in its body."""
    VALUE = "value"
    """The environment's values: what a parameter is there."""
    RUN = "run"
    """A run of a pipeline, model, notebook or flow: how it ended."""


class Verification(Struct, frozen=True, kw_only=True):
    """A question with its expected answer.

    Attributes:
        name: by which messages call it.
        question: a SELECT, an address, a parameter, or the name of what is run.
        answer: what is expected, such as ``> 0``, ``= open`` or ``contains test``; of an address,
            the same of a key in the body, ``state = open``, or nothing; of a run, its state.
        status: of an address, the status that is expected.
        token: of an address, ``${secret}`` whose value goes along; None where none does.
        waits: seconds in which it may come to hold.
    """

    name: str
    asked: Asked
    question: str
    answer: str = ""
    status: int = 200
    token: str | None = None
    waits: float = 0.0

    def to_json(self) -> dict[str, Any]:
        """The verification as it is remembered."""
        return asdict(self) | {"asked": self.asked.value}

    @classmethod
    def from_json(cls, data: Mapping[str, Any]) -> Verification:
        """A verification as it was remembered."""
        given = {name: data[name] for name in cls.__struct_fields__ if name in data}
        return cls(**{**given, "asked": Asked(given["asked"])})


_EXPECTED = re.compile(r"\s*(?P<how><=|>=|!=|<|>|=|contains\b)?\s*(?P<what>.*?)\s*", re.DOTALL)
_IN_BODY = re.compile(
    r"(?P<key>[\w.-]+)\s*(?P<expected>(?:<=|>=|!=|<|>|=|contains\b).*)", re.DOTALL
)

_COMPARED: Mapping[str, Callable[[Any, Any], bool]] = {
    "=": lambda got, wanted: bool(got == wanted),
    "!=": lambda got, wanted: bool(got != wanted),
    "<": lambda got, wanted: bool(got < wanted),
    ">": lambda got, wanted: bool(got > wanted),
    "<=": lambda got, wanted: bool(got <= wanted),
    ">=": lambda got, wanted: bool(got >= wanted),
}


def holds(expected: str, got: object) -> bool:
    """Whether an answer is as expected: numbers as numbers, everything else as text.

    Args:
        expected: ``> 0``, ``= open``, ``contains test``; without a sign, the text itself.
        got: the answer.
    """
    match = _EXPECTED.fullmatch(expected)
    assert match is not None  # it takes every text
    how, wanted = match["how"] or "=", match["what"]
    text = spelled(got)
    if how == "contains":
        return wanted in text
    numbers = _number(text), _number(wanted)
    if None not in numbers:
        return _COMPARED[how](*numbers)
    return _COMPARED[how](text, wanted)


def key_in_body(text: str) -> tuple[str, str]:
    """``data.0.state = open``: the key, and what is expected of it.

    Raises:
        ValueError: when the text is nothing of the kind.
    """
    match = _IN_BODY.fullmatch(text.strip())
    if match is None:
        raise ValueError(f"{text!r} is not a key with what is expected of it, such as state = open")
    return match["key"], match["expected"]


def value_at(body: Any, key: str) -> Any:
    """What a body has under a key with dots; an index in a list is a number.

    Raises:
        KeyError: when it has nothing there.
    """
    for piece in key.split("."):
        try:
            body = body[int(piece)] if isinstance(body, list) else body[piece]
        except (KeyError, IndexError, ValueError, TypeError) as error:
            raise KeyError(key) from error
    return body


def spelled(value: object) -> str:
    """A value as text: booleans and nothing as JSON has them."""
    if value is None:
        return "null"
    return str(value).lower() if isinstance(value, bool) else str(value)


def _number(text: str) -> float | None:
    try:
        return float(text)
    except ValueError:
        return None
