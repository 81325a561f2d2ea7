"""Data checks that a model's settings declare, as queries that count what is wrong."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from sqlglot import exp

from inchworm.core.identifiers import RelationName


@dataclass(frozen=True, kw_only=True)
class CountingCheck:
    """A query with one number: how many rows, or groups of rows, do not satisfy the check."""

    text: str
    query: exp.Select


def checks_of(
    table: str, key: Sequence[str], columns: Mapping[str, Mapping[str, Any]]
) -> list[CountingCheck]:
    """The checks on one table.

    Args:
        table: its logical ``schema.table``.
        key: columns that are required, and unique together.
        columns: for each column its checks, as ``{"between": [0, 10], "required": True}``.
    """
    found = [_required(table, name) for name in key]
    if key:
        found.append(_unique(table, key))
    for name, checks in columns.items():
        for check, argument in checks.items():
            if check == "required" and name in key:
                continue
            found.append(_BUILD[check](table, name, argument))
    return found


def _required(table: str, column: str, _: Any = True) -> CountingCheck:
    condition = _column(column).is_(exp.null())
    return CountingCheck(text=f"{column} is required", query=_count(table, condition))


def _unique(table: str, columns: Sequence[str]) -> CountingCheck:
    names = [_column(column) for column in columns]
    groups = exp.select(*names).from_(_table(table)).group_by(*names)
    present = [name.copy().is_(exp.null()).not_() for name in names]
    groups = groups.where(*present).having(exp.Count(this=exp.Star()) > 1)
    query = exp.select(exp.Count(this=exp.Star())).from_(groups.subquery("repeated"))
    return CountingCheck(text=f"{', '.join(columns)} is unique", query=query)


def _one_of(table: str, column: str, allowed: Sequence[Any]) -> CountingCheck:
    condition = _column(column).isin(*(exp.convert(value) for value in allowed)).not_()
    shown = ", ".join(str(value) for value in allowed)
    return CountingCheck(text=f"{column} is one of {shown}", query=_count(table, condition))


def _between(table: str, column: str, bounds: Sequence[Any]) -> CountingCheck:
    low, high = (exp.convert(bound) for bound in bounds)
    condition = _column(column).between(low, high).not_()
    text = f"{column} is between {bounds[0]} and {bounds[1]}"
    return CountingCheck(text=text, query=_count(table, condition))


def _matches(table: str, column: str, pattern: str) -> CountingCheck:
    condition = exp.RegexpLike(this=_column(column), expression=exp.convert(pattern)).not_()
    return CountingCheck(text=f"{column} matches {pattern}", query=_count(table, condition))


def _points_to(table: str, column: str, target: str) -> CountingCheck:
    other, _, other_column = target.rpartition(".")
    column_here = exp.column(exp.to_identifier(column, quoted=True), table="here")
    column_there = exp.column(exp.to_identifier(other_column, quoted=True), table="there")
    inner = (
        exp.select("1").from_(_table(other).as_("there")).where(column_there.eq(column_here.copy()))
    )
    query = (
        exp.select(exp.Count(this=exp.Star()))
        .from_(_table(table).as_("here"))
        .where(column_here.copy().is_(exp.null()).not_(), exp.Exists(this=inner).not_())
    )
    return CountingCheck(text=f"{column} points to {target}", query=query)


def _count(table: str, condition: exp.Expr) -> exp.Select:
    return exp.select(exp.Count(this=exp.Star())).from_(_table(table)).where(condition)


def _table(name: str) -> exp.Table:
    relation = RelationName(name)
    return exp.table_(relation.table, db=relation.schema, quoted=True)


def _column(name: str) -> exp.Column:
    return exp.column(exp.to_identifier(name, quoted=True))


_BUILD = {
    "required": _required,
    "unique": lambda table, column, _: _unique(table, [column]),
    "one_of": _one_of,
    "between": _between,
    "matches": _matches,
    "points_to": _points_to,
}
