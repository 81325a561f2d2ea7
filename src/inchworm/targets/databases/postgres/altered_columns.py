"""What adds a column to a table of PostgreSQL, and what makes one that it has another."""

from __future__ import annotations

from collections.abc import Iterator

from inchworm.core.sql.spelling import spelled
from inchworm.core.sql.type_names import normal_type
from inchworm.core.structure.change import Renames, keeps_values, sql_name
from inchworm.core.structure.changes import Change, Demand, Effect
from inchworm.core.structure.shapes import ColumnShape, column_sql
from inchworm.targets.databases.postgres.rows import filling, misfits

_DIALECT = "postgres"
_COSTLY = ("nextval", "random", "clock_timestamp", "uuid")
"""Defaults that give every row another value, so that all rows are written when they come."""

_NUMBERS = ("SMALLINT", "INT", "BIGINT", "DECIMAL", "NUMERIC", "REAL", "DOUBLE")
_TIMES = ("DATE", "TIMESTAMP")


def alter(table: str, how: str) -> str:
    """The statement that alters a table."""
    return f"ALTER TABLE {sql_name(table)} {how}"


def added_column(table: str, column: ColumnShape, renames: Renames) -> Change:
    """A column that comes to a table; one that has to have a value, only to one without rows."""
    fills_itself = column.default is not None or column.generated or column.identity
    is_costly = column.generated is not None or bool(column.identity)
    if column.default is not None and any(word in column.default for word in _COSTLY):
        is_costly = True
    demands: tuple[Demand, ...] = ()
    if column.required and not fills_itself:
        demands = (
            Demand(
                query=f"SELECT count(*) FROM {sql_name(renames.table_before(table))}",
                message=f"{table}.{column.name} is required and has no default",
            ),
        )
    return Change(
        what="add column",
        name=f"{table}.{column.name}",
        statements=(alter(table, f"ADD COLUMN {column_sql(column)}"),),
        effect=Effect.SLOW if is_costly else Effect.SAFE,
        demands=demands,
    )


class AlteredColumn:
    """A column that stays, and is otherwise than before.

    Args:
        table: the name of its table, after the renames.
        old: as it is.
        new: as it should be.
        renames: by which what is lost, or in the way, is named as it is called now.
    """

    def __init__(self, table: str, old: ColumnShape, new: ColumnShape, renames: Renames) -> None:
        self._table = table
        self._old = old
        self._new = new
        self._column = f"ALTER COLUMN {spelled(new.name)}"
        self._name = f"{table}.{new.name}"
        self._name_now = renames.now(table, new.name)
        self._table_now = sql_name(renames.table_before(table))
        self._column_now = renames.column_before(table, new.name)

    def changes(self) -> Iterator[Change]:
        """The changes, in the order in which they can be done."""
        old, new = self._old, self._new
        is_retyped = new.type != old.type
        has_other_default = new.default != old.default or is_retyped
        if old.generated is not None:
            yield self._change("keep as plain column", "DROP EXPRESSION")
        if old.identity and not new.identity:
            yield self._change("no identity", "DROP IDENTITY")
        if old.default is not None and has_other_default:
            yield self._change("no default", "DROP DEFAULT")
        if is_retyped:
            yield self._retyped()
        if new.default is not None and has_other_default:
            yield self._change("default", f"SET DEFAULT {new.default}")
        if new.required and not old.required:
            yield self._required()
        if old.required and not new.required:
            yield self._change("not required", "DROP NOT NULL")
        if new.identity and not old.identity:
            yield self._numbered()
        elif new.identity and new.identity != old.identity:
            yield self._change("identity", f"SET GENERATED {new.identity.upper()}")

    def _change(self, what: str, how: str) -> Change:
        """A change that keeps every value and takes no time."""
        return Change(what=what, name=self._name, statements=(self._altered(how),))

    def _altered(self, how: str) -> str:
        return alter(self._table, f"{self._column} {how}")

    def _retyped(self) -> Change:
        old, new = self._old, self._new
        was, will = (normal_type(each.type, _DIALECT) for each in (old, new))
        keeps = keeps_values(was, will)
        fits = misfits(self._table_now, self._column_now, was, will)
        is_quick = keeps and was.startswith("VARCHAR") and will.startswith(("VARCHAR", "TEXT"))
        through = "" if keeps or _is_alike(was, will) else "::text"
        how = f"TYPE {new.type} USING {spelled(new.name)}{through}::{new.type}"
        return Change(
            what=f"type {old.type} to {new.type}",
            name=self._name,
            statements=(self._altered(how),),
            effect=Effect.SAFE if is_quick else Effect.SLOW if keeps else Effect.LOSES,
            lost=() if keeps else (self._name_now,),
            misfits=((self._name_now, fits),) if fits and not keeps else (),
            if_fitting=(self._altered(f"TYPE {new.type}"),) if _shortens(will) else (),
            reshapes=self._table,
        )

    def _required(self) -> Change:
        new, source, called = self._new, self._table_now, spelled(self._column_now)
        value = new.default or filling(normal_type(new.type, _DIALECT))
        fill = f"UPDATE {source} SET {called} = {value} WHERE {called} IS NULL"
        demand = Demand(
            query=f"SELECT count(*) FROM {source} WHERE {called} IS NULL",
            message=f"{self._name} is to be required, and is empty",
            remedy=f"Fill it first, with a value that is right: {fill};",
        )
        return Change(
            what="required",
            name=self._name,
            statements=(self._altered("SET NOT NULL"),),
            effect=Effect.SLOW,
            demands=(demand,),
        )

    def _numbered(self) -> Change:
        """By a sequence that goes on behind the highest number that is there."""
        table, new = sql_name(self._table), self._new
        sequence = f"pg_get_serial_sequence('{table}', '{new.name}')"
        highest = f"(SELECT max({spelled(new.name)}) FROM {table})"
        return Change(
            what="identity",
            name=self._name,
            statements=(
                self._altered(f"ADD GENERATED {new.identity.upper()} AS IDENTITY"),
                f"SELECT setval({sequence}, greatest({highest}, 1), {highest} IS NOT NULL)",
            ),
            effect=Effect.SLOW,
        )


def _is_alike(old: str, new: str) -> bool:
    """Whether a value of one type can be made one of the other without writing it as text."""
    return any(old.startswith(kind) and new.startswith(kind) for kind in (_NUMBERS, _TIMES))


def _shortens(type_: str) -> bool:
    """Whether the server refuses texts that are too long for a type, unless told to cut them."""
    return type_.startswith(("VARCHAR(", "CHAR("))
