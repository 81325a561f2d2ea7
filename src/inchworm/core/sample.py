"""The first rows of a query, as people and records see them."""

from __future__ import annotations

import datetime as dt
import json
import math
from collections.abc import Mapping, Sequence
from decimal import Decimal
from typing import Any

from msgspec import Struct
from msgspec.structs import replace

Cell = str | int | float | bool | None
"""A value as JSON can say it."""


class Sample(Struct, frozen=True, kw_only=True):
    """The first rows of a query.

    Attributes:
        columns: the names of its columns.
        rows: the rows, each with a cell for every column.
        more: whether the query has more rows than these.
    """

    columns: tuple[str, ...]
    rows: tuple[tuple[Cell, ...], ...]
    more: bool = False

    @classmethod
    def of(cls, columns: Sequence[str], rows: Sequence[Sequence[object]], first: int) -> Sample:
        """The first rows of those that a database returned.

        Args:
            columns: the names of their columns.
            rows: one row more than ``first``, where there are as many.
            first: how many rows to take.
        """
        cells = tuple(tuple(map(plain, row)) for row in rows[:first])
        return cls(columns=tuple(columns), rows=cells, more=len(rows) > first)

    def hiding(self, classes: Mapping[str, str]) -> Sample:
        """The sample without the values of columns that have a class, such as ``personal``.

        Args:
            classes: the class of each such column, by its name in lower case.
        """
        classed = [classes.get(name.lower()) for name in self.columns]
        rows = (
            tuple(
                f"({class_})" if class_ and cell is not None else cell
                for cell, class_ in zip(row, classed, strict=True)
            )
            for row in self.rows
        )
        return replace(self, rows=tuple(rows))

    def to_json(self) -> dict[str, Any]:
        """The sample as the ledger keeps it."""
        return {
            "columns": list(self.columns),
            "rows": list(map(list, self.rows)),
            "more": self.more,
        }

    @classmethod
    def from_json(cls, data: Mapping[str, Any]) -> Sample:
        """A sample as the ledger kept it."""
        rows = tuple(map(tuple, data["rows"]))
        return cls(columns=tuple(data["columns"]), rows=rows, more=data["more"])


def plain(value: object) -> Cell:
    """A value of a database as JSON can say it: what is no number, text or flag as text."""
    match value:
        case None | bool() | int() | str():
            return value
        case float():
            return value if math.isfinite(value) else str(value)
        case Decimal():
            return _number(value)
        case dt.datetime():
            return value.isoformat(sep=" ")
        case bytes() | bytearray() | memoryview():
            return f"0x{bytes(value).hex()}"
        case dict() | list() | tuple():
            return json.dumps(value, default=str, ensure_ascii=False)
    return str(value)


def _number(value: Decimal) -> Cell:
    """The same number; text where a float would be another one."""
    if not value.is_finite():
        return str(value)
    if value == value.to_integral_value():
        return int(value)
    return float(value) if Decimal(repr(float(value))) == value else str(value)
