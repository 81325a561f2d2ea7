"""Renames that somebody probably made by hand: told from what went and what came.

A table that went and one that came have the same columns; a column that went and one that came have
one type and one place. Where that fits several, nothing is taken for a rename.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Iterator, Mapping, Sequence

from inchworm.core.identifiers import RelationName
from inchworm.core.structure.change import tables_of
from inchworm.core.structure.definitions import Definition
from inchworm.core.structure.shapes import ColumnShape, TableShape

HasValues = Callable[[RelationName, str], bool]
"""Whether a live column has a value, or its table has no row that could have one."""


def probable_renames(
    before: Sequence[Definition],
    after: Sequence[Definition],
    dialect: str,
    has_values: HasValues,
) -> dict[str, str]:
    """The new name of each table and column (``table.column``, the table by its new name).

    Args:
        before: the definitions that a schema had.
        after: those that it has.
        dialect: of the database.
        has_values: asked of a column that came behind all others, as a new one would.

    Raises:
        ProjectError: when the statement of a table is not understood.
    """
    old, new = (
        {name: d.shape for name, d in tables_of(those, dialect).items() if d.shape is not None}
        for those in (before, after)
    )
    tables = dict(_tables(old, new))
    renames = {RelationName(was).table: RelationName(now).table for was, now in tables.items()}
    pairs = [*tables.items(), *((name, name) for name in old.keys() & new.keys())]
    for was, now in pairs:
        for column, other in _columns(RelationName(now), old[was], new[now], has_values):
            renames[f"{RelationName(now).table}.{column}"] = other
    return renames


def _tables(
    old: Mapping[str, TableShape], new: Mapping[str, TableShape]
) -> Iterator[tuple[str, str]]:
    gone, come = _by_columns(old, new), _by_columns(new, old)
    for columns, names in gone.items():
        others = come.get(columns, [])
        if len(names) == len(others) == 1:
            yield names[0], others[0]


def _by_columns(
    shapes: Mapping[str, TableShape], others: Mapping[str, TableShape]
) -> dict[tuple[tuple[str, str], ...], list[str]]:
    """The tables that are not among others, by their columns with their types."""
    by_columns: dict[tuple[tuple[str, str], ...], list[str]] = defaultdict(list)
    for name in sorted(shapes.keys() - others.keys()):
        by_columns[tuple((column.name, column.type) for column in shapes[name].columns)].append(
            name
        )
    return by_columns


def _columns(
    table: RelationName, old: TableShape, new: TableShape, has_values: HasValues
) -> Iterator[tuple[str, str]]:
    for gone, come, is_last in _gaps(old.columns, new.columns, old.by_name.keys() & new.by_name):
        if not gone or [c.type for c in gone] != [c.type for c in come]:
            continue
        if is_last and not all(has_values(table, column.name) for column in come):
            continue
        yield from ((was.name, now.name) for was, now in zip(gone, come, strict=True))


def _gaps(
    old: Sequence[ColumnShape], new: Sequence[ColumnShape], stays: frozenset[str] | set[str]
) -> Iterator[tuple[list[ColumnShape], list[ColumnShape], bool]]:
    """What went and what came between two columns that stay, and whether it is behind the last."""
    sides = [_between(columns, stays) for columns in (old, new)]
    last = [*sides[1]][-1]
    for place in sides[0]:
        gone, come = (side[place] for side in sides)
        yield gone, come, place == last


def _between(
    columns: Sequence[ColumnShape], stays: frozenset[str] | set[str]
) -> dict[str, list[ColumnShape]]:
    """The columns that do not stay, by the one before them that does."""
    by_neighbour: dict[str, list[ColumnShape]] = {"": []}
    last = ""
    for column in columns:
        if column.name in stays:
            last = column.name
            by_neighbour[last] = []
        else:
            by_neighbour[last].append(column)
    return by_neighbour
