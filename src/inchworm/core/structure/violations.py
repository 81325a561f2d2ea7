"""Constraints as databases tell them, and the rows that would break a new one."""

from __future__ import annotations

import re

from msgspec import Struct

from inchworm.core.sql.spelling import spelled
from inchworm.core.structure.changes import Demand

_FOREIGN = re.compile(
    r"FOREIGN KEY ?\((?P<columns>.*?)\) REFERENCES (?P<target>[^(]+?) ?\((?P<others>.*?)\)"
)
_KEY = re.compile(r"(?P<kind>PRIMARY KEY|UNIQUE) ?\((?P<columns>[^()]*)\)$")
_CHECK = re.compile(r"CHECK ?(?P<condition>\(.*\))$", re.DOTALL)
_NAME = re.compile(r'"((?:[^"]|"")*)"|([^,\s"]+)')


class ForeignKey(Struct, frozen=True, kw_only=True):
    """A foreign key as the server tells it."""

    columns: tuple[str, ...]
    target: str
    target_columns: tuple[str, ...]


def foreign_key(text: str) -> ForeignKey | None:
    """The foreign key that a constraint is; None if it is none that is understood."""
    clause = _FOREIGN.match(text)
    if clause is None:
        return None
    return ForeignKey(
        columns=_names(clause["columns"]),
        target=".".join(_names(clause["target"].replace(".", ","))),
        target_columns=_names(clause["others"]),
    )


def violations(table: str, text: str) -> tuple[Demand, ...]:
    """Queries that count the rows of a live table that a new constraint would refuse.

    Args:
        table: its present name.
        text: the constraint, as the server tells it.
    """
    source = _quoted(table)
    broken = f"{table} breaks {text}"
    key = _KEY.match(text)
    if key is not None:
        columns = [spelled(name) for name in _names(key["columns"])]
        present = " AND ".join(f"{column} IS NOT NULL" for column in columns)
        grouped = ", ".join(columns)
        twice = (
            f"SELECT coalesce(sum(n), 0) FROM (SELECT count(*) AS n FROM {source} WHERE {present} "
            f"GROUP BY {grouped} HAVING count(*) > 1) AS repeated"
        )
        return (Demand(query=twice, message=broken),)
    check = _CHECK.match(text)
    if check is not None:
        query = f"SELECT count(*) FROM {source} WHERE NOT {check['condition']}"
        return (Demand(query=query, message=broken),)
    foreign = foreign_key(text)
    if foreign is None:
        return ()
    pairs = list(zip(foreign.columns, foreign.target_columns, strict=True))
    same = " AND ".join(f"b.{spelled(o)} = a.{spelled(c)}" for c, o in pairs)
    present = " AND ".join(f"a.{spelled(column)} IS NOT NULL" for column in foreign.columns)
    query = (
        f"SELECT count(*) FROM {source} AS a WHERE {present} AND NOT EXISTS "
        f"(SELECT 1 FROM {_quoted(foreign.target)} AS b WHERE {same})"
    )
    return (Demand(query=query, message=broken),)


def _names(listed: str) -> tuple[str, ...]:
    return tuple(
        quoted.replace('""', '"') if quoted else plain for quoted, plain in _NAME.findall(listed)
    )


def _quoted(table: str) -> str:
    return ".".join(spelled(part) for part in table.split(".", 1))
