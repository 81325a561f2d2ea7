"""The one spelling of a type in a dialect.

Databases tell the same few types over and over; those are looked up, so that whoever only looks at
a database does not wait for the parser.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from functools import lru_cache

COMMON: Mapping[str, Mapping[str, str]] = {
    "duckdb": {
        "BIGINT": "BIGINT",
        "BLOB": "BLOB",
        "BOOLEAN": "BOOLEAN",
        "DATE": "DATE",
        "DOUBLE": "DOUBLE",
        "FLOAT": "REAL",
        "HUGEINT": "INT128",
        "INTEGER": "INT",
        "INTERVAL": "INTERVAL",
        "JSON": "JSON",
        "SMALLINT": "SMALLINT",
        "TIME": "TIME",
        "TIMESTAMP": "TIMESTAMP",
        "TIMESTAMP WITH TIME ZONE": "TIMESTAMPTZ",
        "TINYINT": "TINYINT",
        "UBIGINT": "UBIGINT",
        "UINTEGER": "UINTEGER",
        "UUID": "UUID",
        "VARCHAR": "TEXT",
    },
    "postgres": {
        "bigint": "BIGINT",
        "boolean": "BOOLEAN",
        "bytea": "BYTEA",
        "character varying": "VARCHAR",
        "date": "DATE",
        "double precision": "DOUBLE PRECISION",
        "integer": "INT",
        "interval": "INTERVAL",
        "json": "JSON",
        "jsonb": "JSONB",
        "numeric": "DECIMAL",
        "real": "REAL",
        "smallint": "SMALLINT",
        "text": "TEXT",
        "text[]": "TEXT[]",
        "time without time zone": "TIME",
        "timestamp with time zone": "TIMESTAMPTZ",
        "timestamp without time zone": "TIMESTAMP",
        "uuid": "UUID",
    },
    "sqlite": {"BLOB": "BLOB", "INTEGER": "INTEGER", "REAL": "REAL", "TEXT": "TEXT"},
}
"""By dialect, the spelling of types as their databases tell them; a test holds it to the parser."""

SIZED: Mapping[str, Mapping[str, str]] = {
    "duckdb": {"DECIMAL": "DECIMAL"},
    "postgres": {"character": "CHAR", "character varying": "VARCHAR", "numeric": "DECIMAL"},
}
"""The same of types with a length, or a precision and scale, in parentheses."""

_SIZE = re.compile(r"(?P<type>[a-zA-Z ]+)\((?P<size>[0-9]+(,[0-9]+)?)\)")


@lru_cache(maxsize=4096)
def normal_type(text: str, dialect: str) -> str:
    """The one spelling of a type in a dialect: ``varchar`` and ``TEXT`` become the same text.

    Text that is no type of the dialect comes back in upper case as it was.
    """
    common = COMMON.get(dialect, {}).get(text)
    if common is None and (sized := _SIZE.fullmatch(text)):
        base = SIZED.get(dialect, {}).get(sized["type"])
        common = base and f"{base}({sized['size'].replace(',', ', ')})"
    return parsed_type(text, dialect) if common is None else common


def parsed_type(text: str, dialect: str) -> str:
    """The same, asked of the parser."""
    from sqlglot import exp
    from sqlglot.errors import SqlglotError

    try:
        return exp.DataType.build(text, dialect=dialect, udt=True).sql(dialect=dialect).upper()
    except (SqlglotError, ValueError):
        return text.upper()
