"""Working out the change from the structure that a schema has to the one that it should have.

Both sides are definitions in the database's own words, so that nothing differs by spelling alone.
A database that can alter tables where they stand works its changes out itself; for those that can
alter little there is :mod:`~inchworm.core.structure.rebuilding`.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence

from msgspec import Struct, field
from msgspec.structs import replace

from inchworm.core.errors import ProjectError
from inchworm.core.identifiers import RelationName
from inchworm.core.sql.spelling import spelled
from inchworm.core.structure.changes import Change
from inchworm.core.structure.definitions import Definition, Thing
from inchworm.core.structure.shape_reading import shape_of
from inchworm.core.structure.shapes import ColumnShape


class Renames(Struct, frozen=True, kw_only=True):
    """Names that changed, and whose values stay.

    Attributes:
        tables: old full name by new full name.
        columns: old column by new table (full) and column.
    """

    tables: Mapping[str, str] = field(default_factory=dict)
    columns: Mapping[tuple[str, str], str] = field(default_factory=dict)

    def __bool__(self) -> bool:
        return bool(self.tables or self.columns)

    def table_before(self, name: str) -> str:
        """The name that a table had before."""
        return self.tables.get(name, name)

    def column_before(self, table: str, column: str) -> str:
        """The name that a column had before; the table is given by its new name."""
        return self.columns.get((table, column), column)

    def now(self, table: str, column: str) -> str:
        """The full name that a column has before the renames."""
        return f"{self.table_before(table)}.{self.column_before(table, column)}"


def tables_of(definitions: Iterable[Definition], dialect: str) -> dict[str, Definition]:
    """The tables among some definitions, by name, each with its shape.

    Raises:
        ProjectError: when the statement of one is not understood.
    """
    tables = {
        d.name: d if d.shape is not None else replace(d, shape=shape_of(d.sql, dialect))
        for d in definitions
        if d.thing is Thing.TABLE
    }
    for definition in tables.values():
        if definition.shape is None:
            raise ProjectError(
                f"the structure of {definition.name} is not understood, so no change to it can be "
                "worked out.",
                next='Manage its schema with managed = "migrations".',
            )
    return tables


def renames_that_apply(
    declared: Mapping[str, str],
    live: Sequence[Definition],
    desired: Sequence[Definition],
    dialect: str,
) -> Renames:
    """Of the renames that a schema declares, those not done yet.

    Args:
        declared: new name by old; a table's, or ``table.column`` with the table's new name.
        live: the definitions that it has.
        desired: the definitions that it should have.
        dialect: of the database.
    """
    if not declared:
        return Renames()
    before, after = tables_of(live, dialect), tables_of(desired, dialect)
    schema = next((RelationName(name).schema for name in {**after, **before}), "")
    tables: dict[str, str] = {}
    for old, new in declared.items():
        was, will = f"{schema}.{old}", f"{schema}.{new}"
        goes = "." not in old and was in before and was not in after
        if goes and will in after and will not in before:
            tables[will] = was
    moves: dict[str, dict[str, str]] = {}
    for old, new in declared.items():
        name, dot, column = old.partition(".")
        if dot:
            moves.setdefault(f"{schema}.{name}", {})[column] = new
    columns: dict[tuple[str, str], str] = {}
    for table, names in moves.items():
        live_table, then = before.get(tables.get(table, table)), after.get(table)
        if live_table is not None and then is not None and live_table.shape and then.shape:
            has, gets = live_table.shape.by_name, then.shape.by_name
            for old, new in _to_do(names, has, gets).items():
                columns[table, new] = old
    return Renames(tables=tables, columns=columns)


def _to_do(
    names: Mapping[str, str], has: Mapping[str, ColumnShape], gets: Mapping[str, ColumnShape]
) -> dict[str, str]:
    """Of the new names of a table's columns, by old, those that are not given yet.

    A name is free if its column gets another one itself. Of columns that change places only their
    types can tell whether they have done so.
    """
    left = {old: new for old, new in names.items() if old in has and new in gets}
    while True:
        blocked = [
            old
            for old, new in left.items()
            if (new in has and new not in left) or (old in gets and old not in left.values())
        ]
        if not blocked:
            break
        for old in blocked:
            del left[old]
    if left and set(left) == set(left.values()):
        is_to_do = all(has[old].type == gets[new].type for old, new in left.items())
        is_done = all(has[name].type == gets[name].type for name in left)
        return left if is_to_do and not is_done else {}
    return left


def renaming(renames: Renames) -> list[Change]:
    """The renames as statements, for a database in which all that uses a name follows it."""
    changes = [
        Change(
            what="rename table",
            name=old,
            statements=(f"ALTER TABLE {sql_name(old)} RENAME TO {spelled(new.partition('.')[2])}",),
        )
        for new, old in renames.tables.items()
    ]
    for table in dict.fromkeys(table for table, _ in renames.columns):
        own = {old: new for (name, new), old in renames.columns.items() if name == table}
        for old, new in _in_free_order(own):
            how = f"ALTER TABLE {sql_name(table)} RENAME COLUMN {spelled(old)} TO {spelled(new)}"
            changes.append(Change(what="rename column", name=f"{table}.{old}", statements=(how,)))
    return changes


_BETWEEN = "__between"
"""Ends the name that a column has while two of them change places."""


def _in_free_order(names: Mapping[str, str]) -> list[tuple[str, str]]:
    """Renames, each to a name that is free by then; of a ring, one goes by a name between."""
    left = dict(names)
    ordered: list[tuple[str, str]] = []
    while left:
        free = next((old for old, new in left.items() if new not in left), None)
        if free is not None:
            ordered.append((free, left.pop(free)))
            continue
        old = next(iter(left))
        new = left.pop(old)
        ordered.append((old, f"{old}{_BETWEEN}"))
        left[f"{old}{_BETWEEN}"] = new
    return ordered


def under_schema(definition: Definition, old: str, new: str) -> Definition:
    """A definition of what was made in a scratch schema, as if made in the real one.

    The scratch schema's name is one that occurs nowhere else.
    """

    def told(text: str) -> str:
        return text.replace(old, new)

    shape = definition.shape
    if shape is not None:
        shape = replace(
            shape,
            columns=tuple(
                replace(
                    c,
                    type=told(c.type),
                    default=None if c.default is None else told(c.default),
                    generated=None if c.generated is None else told(c.generated),
                )
                for c in shape.columns
            ),
            constraints={told(name): told(text) for name, text in shape.constraints.items()},
            refers_to=frozenset(map(told, shape.refers_to)),
        )
    return replace(
        definition,
        name=told(definition.name),
        sql=told(definition.sql),
        needs=None if definition.needs is None else tuple(map(told, definition.needs)),
        shape=shape,
    )


_INTEGERS = ("TINYINT", "SMALLINT", "INT", "BIGINT", "HUGEINT")
_TEXT = frozenset({"TEXT", "VARCHAR"})


def keeps_values(old: str, new: str) -> bool:
    """Whether every value of one type is a value of another. Types as ``normal_type`` spells them.

    What is not known to be so is not.
    """
    if old == new or new in _TEXT:
        return True
    (was, few), (will, more) = _cut(old), _cut(new)
    if was in _INTEGERS and will in _INTEGERS:
        return _INTEGERS.index(was) <= _INTEGERS.index(will)
    if was == will == "VARCHAR" and few and more:
        return few[0] <= more[0]
    if was == will == "DECIMAL" and len(few) == len(more) == 2:
        return few[1] <= more[1] and few[0] - few[1] <= more[0] - more[1]
    return (was, will) in {("REAL", "DOUBLE"), ("REAL", "DOUBLE PRECISION"), ("DATE", "TIMESTAMP")}


def _cut(type_: str) -> tuple[str, list[int]]:
    """A type without its brackets, and the numbers in them."""
    name, _, inside = type_.partition("(")
    numbers = [int(n) for n in inside.rstrip(")").split(",") if n.strip().isdigit()]
    return name.strip().replace("NUMERIC", "DECIMAL"), numbers


def sql_name(name: str) -> str:
    """``schema.table`` as it can stand in SQL."""
    return ".".join(map(spelled, name.split(".", 1)))
