"""What the values of a column of PostgreSQL say to another type: a query that counts them."""

from __future__ import annotations

import re

from inchworm.core.sql.spelling import spelled

_LENGTH = re.compile(r"(?:VARCHAR|CHAR)\((\d+)\)$")

_RANGES = {
    "SMALLINT": (-(2**15), 2**15 - 1),
    "INT": (-(2**31), 2**31 - 1),
    "BIGINT": (-(2**63), 2**63 - 1),
}
_NUMBER = r"^\s*[+-]?\d+\s*$"
_TEXTS = ("TEXT", "VARCHAR", "CHAR")
_NUMERIC = ("SMALLINT", "INT", "BIGINT", "DECIMAL", "NUMERIC", "REAL", "FLOAT", "DOUBLE")


def misfits(source: str, column: str, was: str, will: str) -> str:
    """The query that counts the values which a type would refuse; empty where none can tell.

    Args:
        source: the table, spelled in SQL.
        column: its column.
        was: the column's type, normal.
        will: the type that it gets, normal.
    """
    name, base = spelled(column), was.partition("(")[0]
    length = _LENGTH.match(will)
    condition = ""
    if length is not None and base in _TEXTS:
        condition = f"char_length({name}) > {length[1]}"
    elif will in _RANGES:
        low, high = _RANGES[will]
        beyond = f"NOT {{}}::numeric BETWEEN {low} AND {high}"
        if base in _TEXTS:
            number = f"({name} ~ '{_NUMBER}')"
            condition = f"CASE WHEN {number} THEN {beyond.format(name)} ELSE true END"
        elif base in _RANGES:
            condition = beyond.format(name)
    return f"SELECT count(*) FROM {source} WHERE {name} IS NOT NULL AND {condition}" * bool(
        condition
    )


def filling(type_: str) -> str:
    """A value of a type that says nothing, for whoever has to find a better one."""
    base = type_.partition("(")[0]
    if base in _NUMERIC:
        return "0"
    return {"BOOLEAN": "false", "DATE": "DATE '1900-01-01'"}.get(base, "''")
