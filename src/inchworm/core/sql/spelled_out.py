"""Short forms of DuckDB, spelled out for databases that do not have them."""

from __future__ import annotations

from typing import TypeVar

from sqlglot import exp

Query = TypeVar("Query", bound=exp.Expr)

LACKING = frozenset({"postgres", "sqlite"})
"""Dialects that have neither GROUP BY ALL nor ORDER BY ALL."""

_JSON_ARRAYS = {"postgres": "json_agg", "sqlite": "json_group_array"}


def spelled_out(query: Query, dialect: str) -> Query:
    """A query without short forms; the same one where it has none.

    ``GROUP BY ALL`` groups by the shown expressions that do not aggregate, and ``ORDER BY ALL``
    orders by all of them, each by its number.

    Args:
        query: the query.
        dialect: that of the database which is going to read it.
    """
    if not any(map(_is_short, query.walk())):
        return query
    copy: Query = query.copy()
    for node in list(copy.walk()):
        parent = node.parent
        if isinstance(node, exp.Group) and isinstance(parent, exp.Select) and _is_short(node):
            parent.set("group", _group(parent))
        if isinstance(node, exp.Order) and isinstance(parent, exp.Select):
            _order(node, parent)
        if isinstance(node, exp.Anonymous) and str(node.this).lower() == "json_group_array":
            node.set("this", _JSON_ARRAYS[dialect])
    return copy


def _is_short(node: exp.Expr) -> bool:
    if isinstance(node, exp.Group):
        return bool(node.args.get("all"))
    if isinstance(node, exp.Ordered):
        return _is_all(node)
    return isinstance(node, exp.Anonymous) and str(node.this).lower() == "json_group_array"


def _is_all(ordered: exp.Expr) -> bool:
    return isinstance(ordered.this, exp.Var) and str(ordered.this.this).upper() == "ALL"


def _group(select: exp.Select) -> exp.Group | None:
    """A grouping by the number of each shown expression that does not aggregate."""
    numbers = [
        exp.Literal.number(number)
        for number, shown in enumerate(select.selects, start=1)
        if not _aggregates(shown, select)
    ]
    return exp.Group(expressions=numbers) if numbers else None


def _aggregates(shown: exp.Expr, select: exp.Select) -> bool:
    """Whether an expression takes rows of its query together; windows take none."""
    for node in shown.walk():
        is_array = isinstance(node, exp.Anonymous) and _is_short(node)
        if not is_array and not isinstance(node, exp.AggFunc):
            continue
        if node.find_ancestor(exp.Window, exp.Query) is select:
            return True
    return False


def _order(order: exp.Order, select: exp.Select) -> None:
    for ordered in order.expressions:
        if _is_all(ordered):
            several = []
            for number in range(1, len(select.selects) + 1):
                each = ordered.copy()
                each.set("this", exp.Literal.number(number))
                several.append(each)
            order.set("expressions", several)
            return
