"""Models that grow: which rows are new since the last value seen, and which stay.

The last value seen is read from the table itself, so it can never say something else than the rows.
"""

from __future__ import annotations

from collections.abc import Sequence

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


def kept_rows(beside: str, live: str, columns: Sequence[str], key: Sequence[str]) -> str:
    """An INSERT of the rows that stay into the table that has the new ones.

    Args:
        beside: the table with the new rows, by real name.
        live: the table as it is.
        columns: those that both have.
        key: columns by which a row replaces another.
    """
    listed = ", ".join(map(spelled, columns))
    selected = ", ".join(f"old.{spelled(column)}" for column in columns)
    statement = (
        f"INSERT INTO {sql_name(beside)} ({listed}) SELECT {selected} FROM {sql_name(live)} AS old"
    )
    if not key:
        return statement
    same = " AND ".join(f"came.{_column(c)} = old.{_column(c)}" for c in key)
    return f"{statement} WHERE NOT EXISTS (SELECT 1 FROM {sql_name(beside)} AS came WHERE {same})"


def _column(name: str) -> str:
    """A column as settings name it: its case does not count."""
    return spelled(name.lower())
