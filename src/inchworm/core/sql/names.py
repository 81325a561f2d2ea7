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


def spelled(name: str) -> str:
    """A name as it can stand in SQL: in double quotes only where it needs them."""
    is_plain = name.isidentifier() and name == name.lower() and name.isascii()
    return name if is_plain and name not in _RESERVED else '"' + name.replace('"', '""') + '"'


_RESERVED = frozenset(
    """
    all analyse analyze and any array as asc asymmetric authorization binary both case cast
    check collate collation column concurrently constraint create cross current_catalog
    current_date current_role current_schema current_time current_timestamp current_user
    default deferrable desc distinct do else end except false fetch for foreign freeze from
    full grant group having ilike in initially inner intersect into is isnull join lateral
    leading left like limit localtime localtimestamp natural not notnull null offset on only
    or order outer overlaps placing primary references returning right select session_user
    similar some symmetric system_user table tablesample then to trailing true union unique
    user using variadic verbose when where window with
    """.split()  # noqa: SIM905  as a list it would fill a page
)
