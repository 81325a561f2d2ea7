"""From logical SQL to what one database runs: values for parameters, physical names for logical.

Values enter through the syntax tree and never as text, so a hostile value stays a value.
"""

from __future__ import annotations

import datetime as dt
import re
from collections.abc import Mapping
from decimal import Decimal
from typing import TypeVar

from sqlglot import exp

from inchworm.core.parameters.values import Type, Value
from inchworm.core.sql.spelled_out import LACKING, spelled_out

_DEEP = 100

Query = TypeVar("Query", bound=exp.Expr)


def parameters_in(query: exp.Expr) -> list[str]:
    """The named parameters (``:name``) of a query, sorted."""
    return sorted({p.this for p in query.find_all(exp.Placeholder) if isinstance(p.this, str)})


def line_of_parameter(name: str, text: str) -> int | None:
    """The line on which ``:name`` first stands; the syntax tree does not know it."""
    match = re.search(rf":{re.escape(name)}\b", text)
    return text.count("\n", 0, match.start()) + 1 if match else None


def literal(value: Value) -> exp.Expr:
    """A value as a typed literal.

    Raises:
        ValueError: for a secret, which must never stand in SQL text.
    """
    if value.type is Type.SECRET:
        raise ValueError("a secret cannot be used in SQL")
    match value.plain:
        case None:
            return exp.Null()
        case bool():
            return exp.Boolean(this=value.plain)
        case dt.datetime():
            kind = "TIMESTAMPTZ" if value.plain.tzinfo else "TIMESTAMP"
            return exp.cast(exp.Literal.string(value.text), kind)
        case dt.date():
            return exp.cast(exp.Literal.string(value.text), "DATE")
        case dt.timedelta():
            seconds = str(int(value.plain.total_seconds()))
            return exp.Interval(this=exp.Literal.string(seconds), unit=exp.Var(this="SECOND"))
        case int() | Decimal():
            number = exp.Literal.number(str(abs(value.plain)))
            return exp.Paren(this=exp.Neg(this=number)) if value.plain < 0 else number
    return exp.Literal.string(value.text)


def with_values(query: Query, values: Mapping[str, Value]) -> Query:
    """A copy of the query with its named parameters replaced by literals.

    Raises:
        KeyError: with the name of a parameter that has no value.
        ValueError: when a parameter is a secret.
    """
    copy: Query = query.copy()
    for placeholder in list(copy.find_all(exp.Placeholder)):
        if isinstance(placeholder.this, str):
            placeholder.replace(literal(values[placeholder.this]))
    return copy


def to_text(query: exp.Expr, dialect: str) -> str:
    """SQL text without comments: the same meaning always gives the same text.

    On readable lines, unless it is nested so deeply that laying it out would take minutes.
    """
    if dialect in LACKING:
        query = spelled_out(query, dialect)
    return query.sql(dialect=dialect, pretty=not _is_deep(query), comments=False)


def _is_deep(query: exp.Expr) -> bool:
    waiting = [(query, 0)]
    while waiting:
        node, depth = waiting.pop()
        if depth > _DEEP:
            return True
        waiting.extend((child, depth + 1) for child in node.iter_expressions())
    return False
