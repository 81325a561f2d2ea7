"""Models that grow: which rows are new since the last value seen, and which stay.

The last value seen is read from the table itself, so it can never say something else than the rows.
"""

from __future__ import annotations

import datetime as dt
from collections.abc import Sequence

from msgspec import Struct

from inchworm.core.sql.spelling import spelled
from inchworm.core.structure.change import sql_name


def new_rows(query: str, live: str, since: str, key: Sequence[str]) -> str:
    """A SELECT of what a model gives beyond the last value that its table has.

    With a key the last value itself is asked for again: its rows may be told anew, and replace
    those that are there. Without one only later values count, so that no row comes twice.

    Args:
        query: the model's SELECT.
        live: the table as it is, by real name.
        since: the column that tells new rows.
        key: columns by which a row replaces another.
    """
    column = _column(since)
    last = f"(SELECT max({column}) FROM {sql_name(live)})"
    comparison = ">=" if key else ">"
    return (
        f"SELECT * FROM ({query}) AS came WHERE {last} IS NULL OR came.{column} {comparison} {last}"
    )


class OneDay(Struct, frozen=True, kw_only=True):
    """The rows of a model that are about one day.

    Attributes:
        column: the column that tells the day: a date, or a moment of it.
        day: the day.
        dialect: the database's.
    """

    column: str
    day: dt.date
    dialect: str

    def has(self, alias: str) -> str:
        """A condition for a row of a relation: that it is about the day."""
        column = f"{alias}.{_column(self.column)}"
        if self.dialect == "sqlite":  # its dates are texts
            return f"date({column}) = '{self.day}'"
        return f"CAST({column} AS DATE) = DATE '{self.day}'"

    def rows(self, query: str) -> str:
        """A SELECT of what a model gives about the day."""
        return f"SELECT * FROM ({query}) AS came WHERE {self.has('came')}"


def kept_rows(
    beside: str, live: str, columns: Sequence[str], key: Sequence[str], anew: OneDay | None = None
) -> str:
    """An INSERT of the rows that stay into the table that has the new ones.

    Args:
        beside: the table with the new rows, by real name.
        live: the table as it is.
        columns: those that both have.
        key: columns by which a row replaces another.
        anew: the day whose rows are all told anew; None where only later ones are new.
    """
    listed = ", ".join(map(spelled, columns))
    selected = ", ".join(f"old.{spelled(column)}" for column in columns)
    statement = (
        f"INSERT INTO {sql_name(beside)} ({listed}) SELECT {selected} FROM {sql_name(live)} AS old"
    )
    conditions = [] if anew is None else [f"({anew.has('old')}) IS NOT TRUE"]
    if key:
        same = " AND ".join(f"came.{_column(c)} = old.{_column(c)}" for c in key)
        conditions.append(f"NOT EXISTS (SELECT 1 FROM {sql_name(beside)} AS came WHERE {same})")
    return f"{statement} WHERE {' AND '.join(conditions)}" if conditions else statement


def _column(name: str) -> str:
    """A column as settings name it: its case does not count."""
    return spelled(name.lower())
