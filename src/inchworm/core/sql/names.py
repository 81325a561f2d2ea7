"""Names in SQL: when two of them mean the same thing."""

from __future__ import annotations

from functools import lru_cache

from sqlglot import exp
from sqlglot.dialects.dialect import Dialect, NormalizationStrategy


@lru_cache(maxsize=64)
def quoted_case_counts(dialect: str) -> bool:
    """Whether quoting a name makes its case significant in this dialect."""
    strategy = Dialect.get_or_raise(dialect).normalization_strategy
    return strategy in {
        NormalizationStrategy.LOWERCASE,
        NormalizationStrategy.UPPERCASE,
        NormalizationStrategy.CASE_SENSITIVE,
    }


def fold(identifier: exp.Identifier, dialect: str) -> str:
    """The form in which a name is compared: lower case, unless quotes make its case count.

    In a dialect that folds to upper case, a quoted all-upper name is the same as the bare one.
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
