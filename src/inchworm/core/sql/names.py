"""Names in SQL: when two of them mean the same thing."""

from __future__ import annotations

from functools import lru_cache

from sqlglot import exp
from sqlglot.dialects.dialect import Dialect, NormalizationStrategy


@lru_cache(maxsize=64)
def quoted_case_counts(dialect: str) -> bool:
    """Whether quoting a name makes its case significant in this dialect."""
    strategy = Dialect.get_or_raise(dialect).normalization_strategy
    return strategy in {NormalizationStrategy.LOWERCASE, NormalizationStrategy.UPPERCASE}


def fold(identifier: exp.Identifier, dialect: str) -> str:
    """The form in which a name is compared: lower case, unless quotes make its case count.

    Where case always counts, as in MySQL and ClickHouse, quotes change nothing, and two names that
    differ in case alone are taken for one. In a dialect that folds to upper case, a quoted
    all-upper name is the same as the bare one.
    """
    arguments = identifier.args
    text: str = arguments["this"]
    if not arguments.get("quoted") or not quoted_case_counts(dialect):
        return text.lower()
    upper = Dialect.get_or_raise(dialect).normalization_strategy is NormalizationStrategy.UPPERCASE
    return text.lower() if upper and text == text.upper() else text


def table_name(table: exp.Table, dialect: str) -> str:
    """The folded ``schema.table`` (or bare ``table``) that a table reference names."""
    return ".".join(fold(part, dialect) for part in table.parts if isinstance(part, exp.Identifier))


def line_of(node: exp.Expr) -> int | None:
    """The line on which a node stands; nodes without a position take that of their first child."""
    for part in node.walk(bfs=False):
        line = part.meta.get("line") if part.meta else None
        if isinstance(line, int):
            return line
    return None


def line_around(node: exp.Expr) -> int | None:
    """The line of a node, or of what it stands in: names without arguments have none."""
    at: exp.Expr | None = node
    while at is not None:
        line = line_of(at)
        if line is not None:
            return line
        at = at.parent
    return None


_SYSTEM_SCHEMAS = frozenset({"information_schema", "pg_catalog", "sys", "system"})
_SYSTEM_TABLES = frozenset({"dual", "sysibm.sysdummy1", "sqlite_master", "sqlite_schema"})


def is_of_system(name: str) -> bool:
    """Whether a table that the project does not know is one that every database has."""
    schema = name.rpartition(".")[0].rpartition(".")[2]
    is_bare = not schema and name.startswith("pg_")
    return is_bare or schema in _SYSTEM_SCHEMAS or name in _SYSTEM_TABLES
