"""What a value that comes in, from a file or a request, is to the column that takes it.

Moments with an offset become UTC, whichever way they come in and whatever the database is.
"""

from __future__ import annotations

import datetime as dt
import math
from collections.abc import Callable, Mapping
from decimal import Decimal, InvalidOperation
from functools import partial


def value_for(value: object, type_: str) -> object:
    """A value that comes in, from a file or a request, as a column of a type takes it.

    Args:
        value: the value; one that is neither a text, a number nor a moment stays what it is.
        type_: the column's SQL type, such as ``BIGINT`` or ``DECIMAL(10, 2)``.

    Raises:
        ValueError: when it is no value of the type, or is too large for it.
    """
    plain, _, size = type_.partition("(")
    plain = plain.strip().upper()
    if isinstance(value, str):
        if not value.isascii() and not _is_whole(value):
            raise ValueError("it is no text: it has half of a letter")
        convert = _CONVERSIONS.get(plain)
        if convert is None:
            return value
        if value == "":
            return None
        try:
            value = convert(value.strip())
        except (ValueError, InvalidOperation) as error:
            raise ValueError(f"{value!r} is no {type_}") from error
    if isinstance(value, dt.datetime) and plain in _MOMENTS:
        return _moment(value, plain)
    if isinstance(value, int | float | Decimal) and plain in _NUMBERS:
        _check_size(value, plain, size, type_)
    return value


def _is_whole(text: str) -> bool:
    try:
        text.encode()
    except UnicodeEncodeError:
        return False
    return True


def _check_size(value: float | Decimal, plain: str, size: str, type_: str) -> None:
    """Whether a number is one, and not too large: databases say neither where it stands."""
    if plain in _WHOLE:
        bound = 2 ** (_WHOLE[plain] - 1)
    elif size:
        digits, _, decimals = size.rstrip(" )").partition(",")
        bound = 10 ** (int(digits) - int(decimals or 0))
    else:
        return
    if not math.isfinite(value):
        raise ValueError(f"{value} is no {type_}")
    if not -bound <= value < bound:
        raise ValueError(f"{value} is too large for {type_}")


def _flag(text: str) -> bool:
    flags = {"true": True, "t": True, "1": True, "false": False, "f": False, "0": False}
    if text.lower() not in flags:
        raise ValueError(text)
    return flags[text.lower()]


def _moment(value: dt.datetime, type_: str) -> dt.datetime:
    """In UTC: with the zone where the column has one, else without."""
    utc = value.astimezone(dt.UTC) if value.tzinfo else value.replace(tzinfo=dt.UTC)
    return utc if type_ == _ZONED else utc.replace(tzinfo=None)


def _finite(text: str, number: Callable[[str], float | Decimal]) -> float | Decimal:
    value = number(text)
    if not math.isfinite(value):
        raise ValueError(text)
    return value


def _time(text: str) -> str:
    """A time of day as it is written; with an offset, it would be of an unknown day."""
    if dt.time.fromisoformat(text).tzinfo is not None:
        raise ValueError(text)
    return text


_ZONED = "TIMESTAMPTZ"
_MOMENTS = ("TIMESTAMP", "TIMESTAMPNTZ", "DATETIME", _ZONED)
_WHOLE = {
    "TINYINT": 8,
    "SMALLINT": 16,
    "INT": 32,
    "INTEGER": 64,
    "BIGINT": 64,
    "INT128": 128,
    "HUGEINT": 128,
}
"""The bits of whole numbers; INTEGER is what SQLite calls them, and holds all of them."""
_FRACTIONS = ("DECIMAL", "NUMERIC")
_FLOATING = ("DOUBLE", "DOUBLE PRECISION", "FLOAT", "REAL")
_NUMBERS = (*_WHOLE, *_FRACTIONS)
_CONVERSIONS: Mapping[str, Callable[[str], object]] = {
    **dict.fromkeys(_WHOLE, int),
    **dict.fromkeys(_FLOATING, partial(_finite, number=float)),
    **dict.fromkeys(_FRACTIONS, partial(_finite, number=Decimal)),
    "BOOLEAN": _flag,
    "DATE": dt.date.fromisoformat,
    "TIME": _time,
    **dict.fromkeys(_MOMENTS, dt.datetime.fromisoformat),
}
