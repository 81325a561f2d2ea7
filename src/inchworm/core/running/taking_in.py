"""What a value that comes in, from a file or a request, is to the column that takes it.

Moments with an offset become UTC, whichever way they come in and whatever the database is.
"""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable, Mapping
from decimal import Decimal, InvalidOperation
from functools import partial


def value_for(text: object, type_: str) -> object:
    """A value that comes in, from a file or a request, as a column of a type takes it.

    Args:
        text: the value; one that is neither a text nor a moment stays what it is.
        type_: the column's SQL type, such as ``BIGINT`` or ``DECIMAL(10, 2)``.

    Raises:
        ValueError: when the text is no value of the type.
    """
    plain = type_.partition("(")[0].strip().upper()
    if isinstance(text, dt.datetime) and plain in _MOMENTS:
        return _moment(text, plain)
    convert = _CONVERSIONS.get(plain)
    if convert is None or not isinstance(text, str):
        return text
    if text == "":
        return None
    try:
        return convert(text.strip())
    except (ValueError, InvalidOperation) as error:
        raise ValueError(f"{text!r} is no {type_}") from error


def _flag(text: str) -> bool:
    flags = {"true": True, "t": True, "1": True, "false": False, "f": False, "0": False}
    if text.lower() not in flags:
        raise ValueError(text)
    return flags[text.lower()]


def _moment(value: dt.datetime, type_: str) -> dt.datetime:
    """In UTC: with the zone where the column has one, else without."""
    utc = value.astimezone(dt.UTC) if value.tzinfo else value.replace(tzinfo=dt.UTC)
    return utc if type_ == _ZONED else utc.replace(tzinfo=None)


def _moment_read(text: str, type_: str) -> dt.datetime:
    return _moment(dt.datetime.fromisoformat(text), type_)


def _time(text: str) -> str:
    """A time of day as it is written; with an offset, it would be of an unknown day."""
    if dt.time.fromisoformat(text).tzinfo is not None:
        raise ValueError(text)
    return text


_ZONED = "TIMESTAMPTZ"
_MOMENTS = ("TIMESTAMP", "TIMESTAMPNTZ", "DATETIME", _ZONED)
_WHOLE = ("TINYINT", "SMALLINT", "INT", "INTEGER", "BIGINT", "HUGEINT")
_CONVERSIONS: Mapping[str, Callable[[str], object]] = {
    **dict.fromkeys(_WHOLE, int),
    **dict.fromkeys(("DOUBLE", "FLOAT", "REAL"), float),
    **dict.fromkeys(("DECIMAL", "NUMERIC"), Decimal),
    "BOOLEAN": _flag,
    "DATE": dt.date.fromisoformat,
    "TIME": _time,
    **{type_: partial(_moment_read, type_=type_) for type_ in _MOMENTS},
}
