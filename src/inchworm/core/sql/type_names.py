"""The one spelling of a type in a dialect.

Databases tell the same few types over and over; those are looked up, so that whoever only looks at
a database does not wait for the parser.
"""

from __future__ import annotations

from collections.abc import Mapping
from functools import lru_cache

_COMMON: Mapping[str, Mapping[str, str]] = {
    "duckdb": {
        "BIGINT": "BIGINT",
        "BOOLEAN": "BOOLEAN",
        "DATE": "DATE",
        "DOUBLE": "DOUBLE",
        "FLOAT": "REAL",
        "HUGEINT": "INT128",
        "INTEGER": "INT",
        "SMALLINT": "SMALLINT",
        "TIME": "TIME",
        "TIMESTAMP": "TIMESTAMP",
        "TIMESTAMP WITH TIME ZONE": "TIMESTAMPTZ",
        "VARCHAR": "TEXT",
    },
    "postgres": {
        "bigint": "BIGINT",
        "boolean": "BOOLEAN",
        "date": "DATE",
        "double precision": "DOUBLE PRECISION",
        "integer": "INT",
        "smallint": "SMALLINT",
        "text": "TEXT",
        "timestamp with time zone": "TIMESTAMPTZ",
        "timestamp without time zone": "TIMESTAMP",
    },
    "sqlite": {"INTEGER": "INTEGER", "REAL": "REAL", "TEXT": "TEXT"},
}
"""By dialect, the spelling of types as their databases tell them; a test holds it to the parser."""


@lru_cache(maxsize=4096)
def normal_type(text: str, dialect: str) -> str:
    """The one spelling of a type in a dialect: ``varchar`` and ``TEXT`` become the same text.

    Text that is no type of the dialect comes back in upper case as it was.
    """
    common = _COMMON.get(dialect, {}).get(text)
    return parsed_type(text, dialect) if common is None else common


def parsed_type(text: str, dialect: str) -> str:
    """The same, asked of the parser."""
    from sqlglot import exp
    from sqlglot.errors import SqlglotError

    try:
        return exp.DataType.build(text, dialect=dialect, udt=True).sql(dialect=dialect).upper()
    except (SqlglotError, ValueError):
        return text.upper()
