"""Types of expressions, as far as something certain can be said without asking a database.

A type is SQL text in the project's dialect, e.g. ``DOUBLE``; what is not certain is ``unknown``.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from functools import lru_cache

from sqlglot import exp
from sqlglot.errors import SqlglotError

from inchworm.core.structure.tables import UNKNOWN_TYPE

_BOOLEAN = (
    exp.Connector,
    exp.Predicate,
    exp.Not,
    exp.Between,
    exp.In,
    exp.Exists,
)
_SAME_AS_ARGUMENT = (
    exp.Max,
    exp.Min,
    exp.Lag,
    exp.Lead,
    exp.FirstValue,
    exp.LastValue,
    exp.Abs,
    exp.AnyValue,
)
_COUNTING = (exp.Count, exp.RowNumber, exp.Rank, exp.DenseRank, exp.Length)
_TEXTUAL = (
    exp.Upper,
    exp.Lower,
    exp.Trim,
    exp.Substring,
    exp.Concat,
    exp.DPipe,
    exp.GroupConcat,
    exp.Replace,
)
_INTEGERS = ("TINYINT", "SMALLINT", "INT", "BIGINT")


@lru_cache(maxsize=4096)
def normal_type(text: str, dialect: str) -> str:
    """The one spelling of a type in a dialect: ``varchar`` and ``TEXT`` become the same text.

    Text that is no type of the dialect comes back in upper case as it was.
    """
    try:
        return exp.DataType.build(text, dialect=dialect, udt=True).sql(dialect=dialect).upper()
    except (SqlglotError, ValueError):
        return text.upper()


_DEPTH = 60
"""Expressions nested deeper have no type that would be worth the search."""


def type_of(
    node: exp.Expr, type_of_column: Callable[[exp.Column], str], dialect: str, depth: int = 0
) -> str:
    """The type of an expression, or ``unknown``."""
    if depth > _DEPTH:
        return UNKNOWN_TYPE

    def of(child: object) -> str:
        if not isinstance(child, exp.Expr):
            return UNKNOWN_TYPE
        return type_of(child, type_of_column, dialect, depth + 1)

    def named(name: str) -> str:
        return normal_type(name, dialect)

    match node:
        case exp.Column():
            return type_of_column(node)
        case exp.Alias() | exp.Paren() | exp.Window() | exp.Filter() | exp.Neg() | exp.Distinct():
            return of(node.this)
        case exp.Cast():
            return str(node.to.sql(dialect=dialect)).upper()
        case exp.Literal():
            if node.is_string:
                return named("TEXT")
            return named("INT") if node.is_int else UNKNOWN_TYPE
        case exp.Boolean():
            return named("BOOLEAN")
        case exp.Case():
            branches = [branch.args.get("true") for branch in node.args.get("ifs", [])]
            return _agreed(of(b) for b in [*branches, node.args.get("default")] if b is not None)
        case exp.Coalesce():
            return _agreed(of(argument) for argument in [node.this, *node.expressions])
        case exp.Add() | exp.Sub() | exp.Mul():
            left, right = of(node.this), of(node.expression)
            return left if left == right and left in (*_INTEGERS, "DOUBLE") else UNKNOWN_TYPE
        case exp.CurrentDate():
            return named("DATE")
    if isinstance(node, _BOOLEAN):
        return named("BOOLEAN")
    if isinstance(node, _COUNTING):
        return named("BIGINT")
    if isinstance(node, _TEXTUAL):
        return named("TEXT")
    if isinstance(node, _SAME_AS_ARGUMENT):
        return of(node.this)
    if isinstance(node, exp.Avg) and dialect == "duckdb":
        return named("DOUBLE")
    if isinstance(node, exp.TimestampTrunc) and of(node.this) == "TIMESTAMP":
        return named("TIMESTAMP")
    return UNKNOWN_TYPE


def _agreed(types: Iterable[str]) -> str:
    """The type that all agree on; a NULL literal has none, so it leaves the answer unknown."""
    distinct = set(types)
    return distinct.pop() if len(distinct) == 1 else UNKNOWN_TYPE
