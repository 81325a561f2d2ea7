"""What the columns of a query are in a pandas DataFrame: the same from every database.

========================  ============================================================
whole numbers             ``int64``; ``Int64`` where a value is missing
decimals, floating point  ``float64``
true and false            ``bool``; ``boolean`` where a value is missing
dates, timestamps         ``datetime64[us]``; with a zone ``datetime64[us, UTC]``
texts                     ``str``
anything else             ``object``
========================  ============================================================
"""

from __future__ import annotations

import datetime as dt
from collections.abc import Sequence
from decimal import Decimal
from enum import Enum
from typing import Any


class Column(Enum):
    """What is known of a column, beyond its values."""

    WHOLE = "whole numbers"
    DECIMAL = "decimals"
    DATE = "dates, timestamps"
    ZONED = "timestamps with a zone"
    FLAG = "true and false"
    OTHER = "anything else"


def alike(frame: Any, columns: Sequence[Column]) -> Any:
    """A DataFrame with the types that its columns have whatever the database.

    Args:
        frame: as a driver made it.
        columns: what is known of each column.
    """
    for at, column in enumerate(columns):
        frame.isetitem(at, _typed(frame.iloc[:, at], column))
    return frame


def in_utc(frame: Any) -> Any:
    """A DataFrame whose moments with a zone are in UTC."""
    import pandas as pd

    def moved(values: Any) -> Any:
        is_zoned = isinstance(values.dtype, pd.DatetimeTZDtype)
        return values.dt.tz_convert("UTC") if is_zoned else values.map(_in_utc)

    may_have = [name for name in frame.columns if frame[name].dtype.kind in "MO"]
    return frame.assign(**{name: moved(frame[name]) for name in may_have})


def _in_utc(value: Any) -> Any:
    is_zoned = isinstance(value, dt.datetime) and value.tzinfo is not None
    return value.astimezone(dt.UTC) if is_zoned else value


def _typed(values: Any, column: Column) -> Any:
    import pandas as pd

    kind = values.dtype.kind
    if column is Column.OTHER and values.dtype == object:
        column = _told_by(values)
    if column is Column.WHOLE or kind in "iu":
        return values.astype("Int64") if values.isna().any() else values.astype("int64")
    if column is Column.DECIMAL or kind == "f":
        return values.astype("float64")
    if column in {Column.DATE, Column.ZONED} and values.dtype == object:
        zoned = column is Column.ZONED
        type_ = "datetime64[us, UTC]" if zoned else "datetime64[us]"
        return pd.to_datetime(values, utc=zoned).astype(type_)
    if column is Column.FLAG or kind == "b" or str(values.dtype) == "boolean":
        return values.astype("boolean") if values.isna().any() else values.astype("bool")
    if kind == "M":
        is_zoned = getattr(values.dtype, "tz", None) is not None
        return values.dt.tz_convert("UTC").astype("datetime64[us, UTC]") if is_zoned else values
    return values


def _told_by(values: Any) -> Column:
    """What the first value of a column says, where its database tells no types."""
    first = next((value for value in values if value is not None), None)
    if isinstance(first, Decimal):
        return Column.DECIMAL
    if isinstance(first, dt.date) and not isinstance(first, dt.datetime):
        return Column.DATE
    return Column.OTHER
