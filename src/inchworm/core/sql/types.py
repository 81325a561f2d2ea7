"""Types of expressions, as far as something certain can be said without asking a database.

A type is SQL text in the project's dialect, e.g. ``DOUBLE``; what is not certain is ``unknown``.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable

from sqlglot import exp

from inchworm.core.sql.type_names import normal_type
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
_COUNTING = (exp.Count, exp.RowNumber, exp.Rank, exp.DenseRank)
_TEXTUAL = (
    exp.Upper,
    exp.Lower,
    exp.Trim,
    exp.Substring,
    exp.Concat,
    exp.GroupConcat,
    exp.Replace,
)
_TIMES = ("DATE", "TIME", "INTERVAL")
_INTEGERS = ("TINYINT", "SMALLINT", "INT", "BIGINT")


_DEPTH = 60
"""Expressions nested deeper have no type that would be worth the search."""

_THROUGH = (exp.Alias, exp.Paren, exp.Window, exp.Filter, exp.Neg, exp.Distinct, *_SAME_AS_ARGUMENT)
_ARITHMETIC = (exp.Add, exp.Sub, exp.Mul)
_CASES = (
    *(exp.Column, exp.Cast, exp.Literal, exp.Case, exp.Coalesce, exp.Avg, exp.TimestampTrunc),
    *(exp.DPipe, exp.Length),
)


_cases: dict[type[exp.Expr], type[exp.Expr] | str | None] = {}


def _case_of(kind: type[exp.Expr]) -> type[exp.Expr] | str | None:
    """How the type of a kind of node is found: a fixed type, through its argument, or specially."""
    for fixed, kinds in _FIXED.items():
        if issubclass(kind, kinds):
            return fixed
    for case in (*_CASES, *_ARITHMETIC):
        if issubclass(kind, case):
            return exp.Add if case in _ARITHMETIC else case
    return exp.Paren if issubclass(kind, _THROUGH) else None


def _known_case(kind: type[exp.Expr]) -> type[exp.Expr] | str | None:
    if kind not in _cases:
        _cases[kind] = _case_of(kind)
    return _cases[kind]


_FIXED: dict[str, tuple[type[exp.Expr], ...]] = {
    "BOOLEAN": (exp.Boolean, *_BOOLEAN),
    "BIGINT": _COUNTING,
    "TEXT": _TEXTUAL,
    "DATE": (exp.CurrentDate,),
}


def type_of(
    node: exp.Expr, type_of_column: Callable[[exp.Column], str], dialect: str, depth: int = 0
) -> str:
    """The type of an expression, or ``unknown``."""
    case = _known_case(type(node))
    if case is None or depth > _DEPTH:
        return UNKNOWN_TYPE
    if isinstance(case, str):
        return normal_type(case, dialect)

    def of(child: object) -> str:
        if not isinstance(child, exp.Expr):
            return UNKNOWN_TYPE
        return type_of(child, type_of_column, dialect, depth + 1)

    if isinstance(node, exp.Min | exp.Max) and (node.expressions or node.args.get("count")):
        return UNKNOWN_TYPE  # the largest of some values, or a list of the largest ones
    if case is exp.Paren:
        return of(node.this)
    if case is exp.Column:
        return type_of_column(node)  # type: ignore[arg-type]
    if case is exp.Coalesce:
        return _agreed(of(argument) for argument in [node.this, *node.expressions])
    if case is exp.Case:
        branches = [branch.args.get("true") for branch in node.args.get("ifs", [])]
        return _agreed(of(b) for b in [*branches, node.args.get("default")] if b is not None)
    if case is exp.Add:
        left, right = of(node.this), of(node.args.get("expression"))
        return left if left == right and left in (*_INTEGERS, "DOUBLE") else UNKNOWN_TYPE
    if isinstance(node, exp.Cast):
        return _text_of_type(node.to, dialect)
    if isinstance(node, exp.Literal):
        kind = "TEXT" if node.is_string else _type_of_number(node)
        return UNKNOWN_TYPE if kind is None else normal_type(kind, dialect)
    if case is exp.DPipe:
        sides = (of(node.this), of(node.args.get("expression")))
        return next((side for side in sides if side.endswith("[]")), normal_type("TEXT", dialect))
    if case is exp.Length:
        return normal_type("INT" if dialect == "postgres" else "BIGINT", dialect)
    if case is exp.Avg and dialect == "duckdb" and not of(node.this).startswith(_TIMES):
        return normal_type("DOUBLE", dialect)
    if case is exp.TimestampTrunc and of(node.this) == "TIMESTAMP":
        return normal_type("TIMESTAMP", dialect)
    return UNKNOWN_TYPE


def _type_of_number(literal: exp.Literal) -> str | None:
    """The type of a whole number that fits one; None of all others."""
    if not literal.is_int:
        return None
    bits = int(literal.this).bit_length()
    return "INT" if bits < _BITS_OF_INT else "BIGINT" if bits < 2 * _BITS_OF_INT else None


_BITS_OF_INT = 32
"""With the one of its sign."""


def _text_of_type(kind: exp.Expr, dialect: str) -> str:
    return str(kind.sql(dialect=dialect)).upper()


def _agreed(types: Iterable[str]) -> str:
    """The type that all agree on; a NULL literal has none, so it leaves the answer unknown."""
    distinct = set(types)
    return distinct.pop() if len(distinct) == 1 else UNKNOWN_TYPE
