"""Whether the checks on a model's columns can be right at all."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from typing import TYPE_CHECKING

from inchworm.core.checks import rules
from inchworm.core.errors import did_you_mean
from inchworm.core.identifiers import ColumnName
from inchworm.core.sql.columns import Resolution
from inchworm.core.structure.tables import UNKNOWN_TYPE, Table
from inchworm.kinds.settings import Report

if TYPE_CHECKING:
    from inchworm.kinds.model import ColumnSettings, Model

_TEXT = frozenset({"TEXT", "VARCHAR", "CHAR", "STRING", "NVARCHAR", "BPCHAR", "UUID"})
_NO_NUMBER = _TEXT | {"BOOLEAN", "DATE", "TIME", "TIMESTAMP", "TIMESTAMPTZ", "INTERVAL", "BLOB"}


def check_column_checks(
    model: Model, resolution: Resolution, tables: Mapping[str, Table], report: Report
) -> None:
    """Report the checks in a model's settings that no data could satisfy, or that prove nothing."""
    types = {c.name: c.type.partition("(")[0].strip() for c in resolution.columns}
    for name, settings in model.settings.columns.items():
        kind = types.get(name.lower(), UNKNOWN_TYPE)
        for check, message, remedy in _wrong(settings, kind, tables):
            report(
                rules.CHECK_CANNOT_HOLD.finding(
                    f"{name}: {message}",
                    part=model.part,
                    file=model.file,
                    line=model.document.line_of(("columns", name, check)),
                    remedy=remedy,
                )
            )


def _wrong(
    settings: ColumnSettings, kind: str, tables: Mapping[str, Table]
) -> Iterator[tuple[str, str, str | None]]:
    """The checks of one column that cannot be right, each with the reason and a remedy."""
    if settings.between is not None:
        low, high = settings.between
        if low > high:
            yield "between", f"no value is between {low} and {high}", "Put the smaller one first."
        elif kind in _NO_NUMBER:
            yield "between", f"it is of type {kind}, and compared with numbers", None
    if settings.matches is not None:
        try:
            re.compile(settings.matches)
        except re.error as error:
            yield "matches", f"{settings.matches!r} is no regular expression: {error}", None
        if kind not in _TEXT | {UNKNOWN_TYPE}:
            yield "matches", f"it is of type {kind}, and no text that could match", None
    numbers = [v for v in settings.one_of if isinstance(v, int | float) and not isinstance(v, bool)]
    if numbers and kind in _NO_NUMBER:
        yield "one_of", f"it is of type {kind}, and compared with the number {numbers[0]}", None
    if settings.points_to is not None:
        yield from _points_nowhere(settings.points_to, tables)


def _points_nowhere(
    target: str, tables: Mapping[str, Table]
) -> Iterator[tuple[str, str, str | None]]:
    if target.count(".") < 2:  # as the check that is made of it needs it
        remedy = 'Write points_to = "schema.table.column".'
        yield "points_to", f"{target} is no column of a table", remedy
        return
    name = ColumnName(target.lower())
    table = tables.get(name.relation)
    if table is None:
        yield (
            "points_to",
            f"there is no table {name.relation}",
            did_you_mean(name.relation, tables, "Correct the name."),
        )
        return
    if name.column not in table.by_name:
        if not table.open:
            remedy = did_you_mean(name.column, table.by_name, "Correct the name.")
            yield "points_to", f"{name.relation} has no column {name.column}", remedy
        return
    if table.key and table.key != (name.column,):
        yield (
            "points_to",
            f"{target} is not the key of {name.relation}, which is {', '.join(table.key)}",
            "Point to a column that is unique by itself.",
        )
