"""Data checks that a model's settings declare, as queries for the rows that are wrong."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from msgspec import Struct
from sqlglot import exp

from inchworm.core.identifiers import ColumnName, RelationName


class RowCheck(Struct, frozen=True, kw_only=True):
    """A check on the rows of one table.

    Attributes:
        text: the check in words.
        columns: the columns that it is about.
        failing: the SELECT of the rows that do not satisfy it, with all their columns.
        counted: what is counted where something is wrong: the same rows, or for a key the values
            that are repeated.
    """

    text: str
    columns: tuple[str, ...]
    failing: exp.Select
    counted: exp.Select

    @property
    def query(self) -> exp.Select:
        """The SELECT of one number: how many rows, or repeated values, are wrong."""
        return exp.select(exp.Count(this=exp.Star())).from_(self.counted.subquery("failing"))


def checks_of(
    table: str, key: Sequence[str], columns: Mapping[str, Mapping[str, Any]]
) -> list[RowCheck]:
    """The checks on one table.

    Args:
        table: its logical ``schema.table``.
        key: columns that are required, and unique together.
        columns: for each column its checks, as ``{"between": [0, 10], "required": True}``.
    """
    data_checks = [_required(table, name) for name in key]
    if key:
        data_checks.append(_unique(table, key))
    for name, checks in columns.items():
        for check, argument in checks.items():
            if check == "required" and name in key:
                continue
            data_checks.append(_BUILD[check](table, name, argument))
    return data_checks


def _required(table: str, column: str, _: Any = True) -> RowCheck:
    return _check(f"{column} is required", table, column, _column(column).is_(exp.null()))


def _unique(table: str, columns: Sequence[str]) -> RowCheck:
    names = [_column(column) for column in columns]
    groups = exp.select(*names).from_(_table(table)).group_by(*names)
    present = [name.copy().is_(exp.null()).not_() for name in names]
    groups = groups.where(*present).having(exp.Count(this=exp.Star()) > 1)
    same = [_column(name, "repeated").eq(_column(name, "here")) for name in columns]
    repeated = exp.select("1").from_(groups.copy().subquery("repeated")).where(*same)
    return RowCheck(
        text=f"{', '.join(columns)} is unique",
        columns=tuple(columns),
        failing=_rows(table, exp.Exists(this=repeated)),
        counted=groups,
    )


def _one_of(table: str, column: str, allowed: Sequence[Any]) -> RowCheck:
    condition = _column(column).isin(*(exp.convert(value) for value in allowed)).not_()
    shown = ", ".join(str(value) for value in allowed)
    return _check(f"{column} is one of {shown}", table, column, condition)


def _between(table: str, column: str, bounds: Sequence[Any]) -> RowCheck:
    low, high = (exp.convert(bound) for bound in bounds)
    condition = _column(column).between(low, high).not_()
    return _check(f"{column} is between {bounds[0]} and {bounds[1]}", table, column, condition)


def _matches(table: str, column: str, pattern: str) -> RowCheck:
    condition = exp.RegexpLike(this=_column(column), expression=exp.convert(pattern)).not_()
    return _check(f"{column} matches {pattern}", table, column, condition)


def _points_to(table: str, column: str, target: str) -> RowCheck:
    target_column = ColumnName(target)
    same = _column(target_column.column, "there").eq(_column(column, "here"))
    inner = exp.select("1").from_(_table(target_column.relation).as_("there")).where(same)
    condition = exp.and_(
        _column(column, "here").is_(exp.null()).not_(), exp.Exists(this=inner).not_()
    )
    return _check(f"{column} points to {target}", table, column, condition)


def _check(text: str, table: str, column: str, condition: exp.Expr) -> RowCheck:
    failing = _rows(table, condition)
    return RowCheck(text=text, columns=(column,), failing=failing, counted=failing)


def _rows(table: str, condition: exp.Expr) -> exp.Select:
    every = exp.Column(this=exp.Star(), table=exp.to_identifier("here"))
    return exp.select(every).from_(_table(table).as_("here")).where(condition)


def _table(name: str) -> exp.Table:
    relation = RelationName(name)
    return exp.table_(relation.table, db=relation.schema, quoted=True)


def _column(name: str, table: str | None = None) -> exp.Column:
    return exp.column(exp.to_identifier(name, quoted=True), table=table)


_BUILD = {
    "required": _required,
    "unique": lambda table, column, _: _unique(table, [column]),
    "one_of": _one_of,
    "between": _between,
    "matches": _matches,
    "points_to": _points_to,
}
