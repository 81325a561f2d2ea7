"""The names that databases give columns of a select list which have none.

Whoever reads the result has no other name for them, so a wrong one is a column that is not found.
DuckDB and SQLite take the text of the expression, as far as they have not read it otherwise.
PostgreSQL takes the name of the column or function that an expression is about, or else the type
that it is cast to; see "Output columns" in its documentation of SELECT, and what its server shows.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from typing import NamedTuple

from sqlglot import exp

from inchworm.core.sql.names import fold

_DIALECT = "postgres"
_CALL = re.compile(r"(\w+)\(")
_WORD = re.compile(r"\w+")
_SIDES = {"LEADING": "ltrim", "TRAILING": "rtrim"}
_TYPES = {
    exp.DType.BIGINT: "int8",
    exp.DType.BOOLEAN: "bool",
    exp.DType.CHAR: "bpchar",
    exp.DType.DECIMAL: "numeric",
    exp.DType.DOUBLE: "float8",
    exp.DType.FLOAT: "float4",
    exp.DType.INT: "int4",
    exp.DType.SMALLINT: "int2",
    exp.DType.TIMESTAMPTZ: "timestamptz",
}
"""Types whose own name is another than the standard's; that of all others is as it is written."""


class _Name(NamedTuple):
    """A name for an expression, and whether one that stands around it may give it another."""

    text: str
    is_weak: bool = False


_NONE = _Name("?column?", is_weak=True)


def is_count_of_rows(projection: exp.Expr) -> bool:
    """Whether it is ``count(*)``, or ``count()``: DuckDB calls both of them ``count_star()``."""
    return isinstance(projection, exp.Count) and isinstance(projection.this, exp.Star | None)


def name_in_postgres(projection: exp.Expr) -> str:
    """The name that PostgreSQL gives a column of a select list that has none."""
    return _name(projection).text


def _name(node: exp.Expr | None) -> _Name:
    match node:
        case exp.Alias() | exp.Column() | exp.Dot():
            return _written(node)
        case exp.Paren() | exp.Bracket() | exp.Collate():
            return _name(node.this)
        case exp.Window() | exp.Filter() | exp.WithinGroup() | exp.IgnoreNulls():
            return _name(node.this)
        case exp.Cast():
            inner = _name(node.this)
            return _Name(_type_name(node.to), is_weak=True) if inner.is_weak else inner
        case exp.Interval():
            return _Name("interval", is_weak=True)
        case exp.Case():
            default = _name(node.args.get("default"))
            return _Name("case", is_weak=True) if default.is_weak else default
        case exp.Query():
            return _name(node.selects[0]) if node.selects else _NONE
        case exp.Tuple():
            return _Name("row")
        case exp.AtTimeZone():
            return _Name("timezone")
        case exp.Trim():
            return _Name(_SIDES.get(str(node.args.get("position")), "btrim"))
        case exp.Array():
            return _Name("array")
        case exp.Func() | exp.Exists():
            return _called(node)
    return _NONE


def _written(node: exp.Expr) -> _Name:
    """The name that stands there: an alias, a column, a field of a value; or a call in a schema."""
    name = node.args["alias"] if isinstance(node, exp.Alias) else node.this
    if isinstance(node, exp.Dot):
        name = node.expression
    return _Name(fold(name, _DIALECT)) if isinstance(name, exp.Identifier) else _name(name)


def _called(node: exp.Func | exp.Exists) -> _Name:
    """The name of a function as PostgreSQL has it.

    The parser has one kind of node for several names, and knows how long the one was that stood
    there. Some operators are functions to it, which are spelled with what stands on their left.
    """
    kind = type(node)
    names = [*(kind.sql_names() if isinstance(node, exp.Func) else ()), *_MORE_NAMES.get(kind, ())]
    length = node.meta["end"] - node.meta["start"] + 1 if "start" in node.meta else None
    text = node.sql(dialect=_DIALECT)
    called = _CALL.match(text) or _WORD.fullmatch(text)
    name = called.group(called.lastindex or 0) if called else ""
    as_long = [other for other in names if len(other) == length]
    if len(name) != length and len(as_long) == 1:
        return _Name(as_long[0].lower())
    is_operator = isinstance(node, exp.Binary) and (length is None or name not in names)
    return _NONE if is_operator or not name else _Name(name.lower())


_MORE_NAMES: Mapping[type[exp.Expr], tuple[str, ...]] = {
    exp.CurrentTimestamp: ("NOW",),
    exp.StrPosition: ("STRPOS",),
}
"""Names of functions in PostgreSQL that the parser does not count among those of a kind."""


def _type_name(type_: exp.DataType) -> str:
    known = _TYPES.get(type_.this)
    return known or type_.sql(dialect=_DIALECT).partition("(")[0].lower()
