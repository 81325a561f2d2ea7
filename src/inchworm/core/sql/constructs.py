"""What SQL calls the constructs of a query, for notes about those that are not followed."""

from __future__ import annotations

from collections.abc import Mapping
from types import MappingProxyType

from sqlglot import exp

_SPELLED = MappingProxyType(
    {"matchrecognize": "MATCH_RECOGNIZE", "connect": "CONNECT BY", "tablesample": "SAMPLE"}
)

_TABLE_FUNCTIONS: Mapping[type[exp.Expr], str] = MappingProxyType(
    {exp.JSONTable: "json_table", exp.XMLTable: "xmltable", exp.OpenJSON: "openjson"}
)
"""Functions in FROM whose names the parser has only letter by letter."""

NAMES = (exp.Table, exp.Column)
"""The kinds of node that name a table or column."""


def is_name(node: exp.Expr) -> bool:
    """Whether a node is the name of a table or column; a star names none by itself."""
    if not isinstance(node, NAMES) or not isinstance(node.this, exp.Identifier):
        return False
    return node.find_ancestor(exp.Star, exp.Columns) is None


def clause(key: str) -> str:
    """The clause that the parser knows under a key: ``match_recognize`` is MATCH_RECOGNIZE."""
    return _SPELLED.get(key, key.rstrip("_").upper())


def construct_of(node: exp.Expr) -> str:
    """The clause of a query that a node stands in."""
    at = node
    while at.parent is not None and not isinstance(at.parent, exp.Query | exp.Join | exp.Table):
        at = at.parent
    return clause(at.key if at is not node else str(at.arg_key or at.key))


def called_in(item: exp.Expr) -> exp.Expr:
    """The function that an item of a FROM clause calls; the item itself if it is one."""
    called = item.this if isinstance(item, exp.Table | exp.Lateral) else item
    return called if isinstance(called, exp.Expr) else item


def function_name(function: exp.Expr) -> str:
    """The folded name of a function."""
    if isinstance(function, exp.Anonymous):
        return function.name.lower()
    if isinstance(function, exp.GenerateSeries):  # which the parser calls otherwise in PostgreSQL
        return "range" if function.args.get("is_end_exclusive") else "generate_series"
    if not isinstance(function, exp.Func):
        return clause(function.key)
    return _TABLE_FUNCTIONS.get(type(function)) or function.sql_name().lower()
