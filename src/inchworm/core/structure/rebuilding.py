"""Changing a structure by making tables anew, for databases that can alter little.

DuckDB and SQLite alter a few things in place. For anything else a table is copied aside, dropped,
made again as it is wanted, and filled from its copy, all in one transaction. DuckDB lets no table
go that a foreign key points at, so there the tables with such keys are made anew together with it.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping, Sequence

from inchworm.core.identifiers import RelationName
from inchworm.core.promotion.aside import aside
from inchworm.core.sql.parse import tokens_of
from inchworm.core.sql.spelling import spelled
from inchworm.core.sql.type_names import normal_type
from inchworm.core.structure.change import (
    Renames,
    keeps_values,
    renames_that_apply,
    sql_name,
    tables_of,
)
from inchworm.core.structure.changes import Alterations, Change, Demand, Effect, late_last
from inchworm.core.structure.definitions import Definition, Thing, in_working_order
from inchworm.core.structure.shapes import ColumnShape, TableShape
from inchworm.core.structure.violations import violations

_COPY = "__copy"


def rebuilt(
    live: Sequence[Definition],
    desired: Sequence[Definition],
    renames: Mapping[str, str],
    dialect: str,
    alterations: Alterations,
) -> list[Change]:
    """The changes that turn one structure into another, in the order in which they can be made.

    Args:
        live: the definitions that a schema has.
        desired: the definitions that it should have.
        renames: the new name of each table or ``table.column`` whose values stay; those that are
            done already do not count.
        dialect: of the database.
        alterations: how much of a table the database can alter where it stands.

    Raises:
        ProjectError: when there is a difference for which no change can be worked out.
    """
    applied = renames_that_apply(renames, live, desired, dialect)
    return late_last(_Rebuilding(live, desired, applied, dialect, alterations).changes())


class _Rebuilding:
    def __init__(
        self,
        live: Sequence[Definition],
        desired: Sequence[Definition],
        renames: Renames,
        dialect: str,
        alterations: Alterations,
    ) -> None:
        self.live = {d.key: d for d in live}
        self.wanted = {d.key: d for d in desired}
        self.renames = renames
        self.dialect = dialect
        self.alterations = alterations
        self.before = tables_of(live, dialect)
        self.after = tables_of(desired, dialect)
        self.sequences = [
            d.name
            for d in live
            if d.thing is Thing.SEQUENCE
            and d.key in self.wanted
            and self.wanted[d.key].sql != d.sql
        ]
        self.indexes = _by_table(live, dialect)
        self.indexes_after = _by_table(desired, dialect)
        self.anew = self._anew()
        """Tables that are made anew, by their new names."""
        self.sources = {renames.table_before(name) for name in self.anew}
        staying = {renames.table_before(name) for name in self.after}
        self.gone = [name for name in self.before if name not in staying]

    def changes(self) -> list[Change]:
        stages = [
            self._drop_views(),
            self._drop_indexes(),
            self._sequences(),
            self._tables(),
            *(self._in_place(name) for name in self.after),
            self._indexes(),
            self._views(),
            self._comments(),
            self._late(),
        ]
        return [change for stage in stages for change in stage]

    # ---- which tables -------------------------------------------------------------------------

    def _shapes(self, name: str) -> tuple[TableShape, TableShape] | None:
        """A table that stays, as it is and as it is wanted."""
        old, new = self.before.get(self.renames.table_before(name)), self.after[name]
        if old is None or old.shape is None or new.shape is None:
            return None
        return old.shape, new.shape

    def _anew(self) -> list[str]:
        anew = {name for name in self.after if self._must_be_anew(name)}
        if self.alterations.keys_and_indexes_pin_tables:
            anew |= {
                name
                for name in self.after
                if self._shapes(name) is not None
                and any(self._uses(name, sequence) for sequence in self.sequences)
            }
            while more := {n for n in self.after if n not in anew and self._refers(n, anew)}:
                anew |= more
        ordered = in_working_order([self.after[name] for name in sorted(anew)], self.dialect)
        return [definition.name for definition in ordered]

    def _refers(self, name: str, others: set[str]) -> bool:
        shapes = self._shapes(name)
        before = {self.renames.table_before(other) for other in others}
        return shapes is not None and not shapes[0].refers_to.isdisjoint(before)

    def _uses(self, name: str, sequence: str) -> bool:
        return sequence in self.before[self.renames.table_before(name)].sql.replace('"', "")

    def _must_be_anew(self, name: str) -> bool:
        shapes = self._shapes(name)
        if shapes is None:
            return False
        old, new = shapes
        if name in self.renames.tables or any(table == name for table, _ in self.renames.columns):
            return True
        if dict(old.constraints) != dict(new.constraints) or old.options != new.options:
            return True
        return not all(
            self._alters(name, old.by_name.get(c), new.by_name.get(c))
            for c in {**old.by_name, **new.by_name}
            if old.by_name.get(c) != new.by_name.get(c)
        )

    def _alters(self, table: str, old: ColumnShape | None, new: ColumnShape | None) -> bool:
        """Whether the database can make this change of a column in place."""
        if old is None and new is not None:
            is_plain = not (new.required or new.generated or new.rest)
            return is_plain and "(" not in (new.default or "").strip("()")
        if new is None and old is not None:
            return self._goes_in_place(table, old)
        if (
            old is None
            or new is None
            or not self.alterations.changes_columns
            or old.generated
            or new.generated
        ):
            return False
        if old.rest != new.rest:
            return False
        only_default = (old.type, old.required) == (new.type, new.required)
        return only_default or (self._is_alone(table) and not self._is_used(table, old))

    def _goes_in_place(self, table: str, column: ColumnShape) -> bool:
        is_plain = not column.generated and not self._is_used(table, column)
        return is_plain and (
            not self.alterations.keys_and_indexes_pin_tables or self._is_alone(table)
        )

    def _is_used(self, table: str, column: ColumnShape) -> bool:
        """Whether a key, a check or another column may use a column; by name alone, to be safe."""
        texts = [self.before[table].sql.split("(", 1)[1], *(i.sql for i in self._indexes_of(table))]
        name = re.compile(rf"\b{re.escape(column.name)}\b", re.IGNORECASE)
        return bool(column.rest) or sum(len(name.findall(text)) for text in texts) > 1

    def _is_alone(self, table: str) -> bool:
        """Whether nothing pins a table: no index, and no foreign key from or to it."""
        for tables in (self.before, self.after):
            shape = tables[table].shape
            is_pointed_at = any(d.shape and table in d.shape.refers_to for d in tables.values())
            if shape is None or shape.refers_to or is_pointed_at:
                return False
        return table not in self.indexes and table not in self.indexes_after

    def _indexes_of(self, table: str) -> Sequence[Definition]:
        return self.indexes.get(table, ())

    # ---- what is done -------------------------------------------------------------------------

    def _drop_views(self) -> Iterator[Change]:
        for view in reversed(self._of(self.live.values(), Thing.VIEW)):
            if self._view_goes(view) and (view.key in self.wanted or self.anew):
                yield _plain("drop view", view.name, f"DROP VIEW {sql_name(view.name)}")

    def _view_goes(self, view: Definition) -> bool:
        new = self.wanted.get(view.key)
        return bool(self.anew) or new is None or new.sql != view.sql

    def _views(self) -> Iterator[Change]:
        for view in self._of(self.wanted.values(), Thing.VIEW):
            old = self.live.get(view.key)
            if old is None or self._view_goes(old):
                yield _plain("make view", view.name, view.sql)

    def _drop_indexes(self) -> Iterator[Change]:
        for index in self._of(self.live.values(), Thing.INDEX):
            if not self._index_stays(index):
                yield _plain("drop index", index.name, f"DROP INDEX {sql_name(index.name)}")

    def _index_stays(self, index: Definition) -> bool:
        new = self.wanted.get(index.key)
        table = _table_of(index, self.dialect)
        same = new is not None and new.sql == index.sql
        return same and table not in self.sources

    def _indexes(self) -> Iterator[Change]:
        for index in self._of(self.wanted.values(), Thing.INDEX):
            old = self.live.get(index.key)
            if old is None or not self._index_stays(old):
                table = _table_of(index, self.dialect)
                is_new = self.renames.table_before(table) not in self.before
                effect = Effect.SAFE if is_new else Effect.SLOW
                yield _plain("make index", index.name, index.sql, effect)

    def _sequences(self) -> Iterator[Change]:
        for new in self._of(self.wanted.values(), Thing.SEQUENCE):
            if new.key not in self.live:
                yield _plain("make sequence", new.name, new.sql)

    def _tables(self) -> Iterator[Change]:
        if self.anew:
            yield self._set_aside()
        for name in self.sequences:
            again = (f"DROP SEQUENCE {sql_name(name)}", self.wanted[f"sequence {name}"].sql)
            yield Change(what="make sequence anew", name=name, statements=again)
        for table in self._of(self.wanted.values(), Thing.TABLE):
            if self._shapes(table.name) is None:
                yield _plain("make table", table.name, table.sql)
            elif table.name in self.anew:
                yield self._made_anew(table)

    def _set_aside(self) -> Change:
        """Tables made anew are copied, and dropped; before them, those that point at them."""
        was = {name: self.renames.table_before(name) for name in self.anew}
        leaving = self._leaving()
        going = in_working_order(
            [self.before[name] for name in (*leaving, *was.values())], self.dialect
        )
        return Change(
            what="set aside",
            name=", ".join(was.values()),
            several=tuple(was.values()),
            statements=(
                *(
                    f"CREATE TABLE {sql_name(_copy_of(new))} AS SELECT * FROM {sql_name(old)}"
                    for new, old in was.items()
                ),
                *(f"DROP TABLE {sql_name(d.name)}" for d in reversed(going)),
            ),
            effect=Effect.LOSES if leaving else Effect.SLOW,
            lost=tuple(leaving),
        )

    def _made_anew(self, table: Definition) -> Change:
        copy = _copy_of(table.name)
        lost = tuple(self._lost(table.name))
        return Change(
            what="make anew",
            name=table.name,
            statements=(
                table.sql,
                *self._filled(table.name, copy),
                f"DROP TABLE {sql_name(copy)}",
            ),
            effect=Effect.LOSES if lost else Effect.SLOW,
            lost=lost,
            misfits=tuple(self._misfits(table.name)),
            demands=tuple(self._demands(table.name)),
        )

    def _leaving(self) -> list[str]:
        """Tables that go anyway, and are in the way of those that are made anew, by their keys."""
        leaving: set[str] = set()
        while more := {n for n in self.gone if n not in leaving and self._points(n, leaving)}:
            leaving |= more
        return sorted(leaving)

    def _points(self, name: str, others: set[str]) -> bool:
        shape = self.before[name].shape
        return shape is not None and not shape.refers_to.isdisjoint(self.sources | others)

    def _filled(self, name: str, copy: str) -> Iterator[str]:
        pairs = self._pairs(name)
        if pairs:
            into = ", ".join(spelled(new.name) for _, new in pairs)
            values = ", ".join(spelled(old.name) for old, _ in pairs)
            yield (f"INSERT INTO {sql_name(name)} ({into}) SELECT {values} FROM {sql_name(copy)}")

    def _pairs(self, name: str) -> list[tuple[ColumnShape, ColumnShape]]:
        """The columns whose values are taken along, before and after."""
        shapes = self._shapes(name)
        assert shapes is not None  # only tables that are there are made anew
        old, new = shapes
        return [
            (old.by_name[before], column)
            for column in new.columns
            if column.generated is None
            and (before := self.renames.column_before(name, column.name)) in old.by_name
        ]

    def _lost(self, name: str) -> Iterator[str]:
        """Columns that go, and those of which not every value fits any more."""
        shapes = self._shapes(name)
        assert shapes is not None
        source = self.renames.table_before(name)
        pairs = self._pairs(name)
        stays = {old.name for old, _ in pairs}
        for column in shapes[0].columns:
            if column.name not in stays and column.generated is None:
                yield f"{source}.{column.name}"
        for old, new in pairs:
            types = (normal_type(c.type, self.dialect) for c in (old, new))
            if not self.alterations.has_loose_types and not keeps_values(*types):
                yield f"{source}.{old.name}"

    def _misfits(self, name: str) -> Iterator[tuple[str, str]]:
        """For columns whose type may not keep every value, the query that counts what would go."""
        source = self.renames.table_before(name)
        for old, new in self._pairs(name):
            if old.type != new.type and not self.alterations.has_loose_types:
                yield f"{source}.{old.name}", _misfit(source, old, new, self.dialect)

    def _demands(self, name: str) -> Iterator[Demand]:
        shapes = self._shapes(name)
        assert shapes is not None
        had = set(shapes[0].constraints.values())
        for text in shapes[1].constraints.values():
            if text not in had:
                yield from violations(self.renames.table_before(name), text)
        source = self.renames.table_before(name)
        from_old = {new.name: old for old, new in self._pairs(name)}
        for column in shapes[1].columns:
            old = from_old.get(column.name)
            fills_itself = column.default is not None or column.generated or "KEY" in column.rest
            if column.required and old is None and not fills_itself:
                message = f"{name}.{column.name} is required and has no default"
                yield Demand(query=f"SELECT count(*) FROM {sql_name(source)}", message=message)
            elif column.required and old is not None and not old.required:
                empty = f"SELECT count(*) FROM {sql_name(source)} WHERE {spelled(old.name)} IS NULL"
                yield Demand(
                    query=empty, message=f"{name}.{column.name} is to be required, and is empty"
                )

    def _in_place(self, name: str) -> Iterator[Change]:
        shapes = self._shapes(name)
        if shapes is None or name in self.anew:
            return
        old, new = shapes
        for column in new.columns:
            before = old.by_name.get(column.name)
            if before is None:
                how = f"ADD COLUMN {spelled(column.name)} {column.type}"
                if column.default is not None:
                    how += f" DEFAULT {column.default}"
                yield self._alter("add column", name, column.name, how)
            elif before != column:
                yield from self._altered(name, before, column)

    def _altered(self, table: str, old: ColumnShape, new: ColumnShape) -> Iterator[Change]:
        name = new.name
        column = f"ALTER COLUMN {spelled(name)}"
        if old.type != new.type:
            types = (normal_type(c.type, self.dialect) for c in (old, new))
            keeps = keeps_values(*types)
            if old.default is not None:
                yield self._alter("no default", table, name, f"{column} DROP DEFAULT")
            yield Change(
                what=f"type {old.type} to {new.type}",
                name=f"{table}.{name}",
                reshapes=table,
                statements=(f"ALTER TABLE {sql_name(table)} {column} TYPE {new.type}",),
                effect=Effect.SLOW if keeps else Effect.LOSES,
                lost=() if keeps else (f"{table}.{name}",),
                misfits=((f"{table}.{name}", _misfit(table, old, new, self.dialect)),),
            )
        if new.default is None and old.default is not None and old.type == new.type:
            yield self._alter("no default", table, name, f"{column} DROP DEFAULT")
        elif new.default is not None and (old.default != new.default or old.type != new.type):
            yield self._alter("default", table, name, f"{column} SET DEFAULT {new.default}")
        if new.required and not old.required:
            empty = f"SELECT count(*) FROM {sql_name(table)} WHERE {spelled(name)} IS NULL"
            message = f"{table}.{name} is to be required, and is empty"
            yield Change(
                what="required",
                name=f"{table}.{name}",
                statements=(f"ALTER TABLE {sql_name(table)} {column} SET NOT NULL",),
                effect=Effect.SLOW,
                demands=(Demand(query=empty, message=message),),
            )
        elif old.required and not new.required:
            yield self._alter("not required", table, name, f"{column} DROP NOT NULL")

    def _alter(self, what: str, table: str, column: str, how: str) -> Change:
        return _plain(what, f"{table}.{column}", f"ALTER TABLE {sql_name(table)} {how}")

    def _comments(self) -> Iterator[Change]:
        for new in self._of(self.wanted.values(), Thing.COMMENT):
            old = self.live.get(new.key)
            table = (new.needs or ("",))[0]
            if old is None or old.sql != new.sql or table in self.anew:
                yield _plain("comment", new.name, new.sql)
        for old in self._of(self.live.values(), Thing.COMMENT):
            table = (old.needs or ("",))[0]
            column = old.name.removeprefix(f"{table}.") if old.name != table else None
            shapes = self._shapes(table) if table in self.after else None
            stays = shapes is not None and (column is None or column in shapes[1].by_name)
            if old.key not in self.wanted and stays and table not in self.anew:
                yield _plain("comment", old.name, old.sql.split(" IS ", 1)[0] + " IS NULL")

    def _late(self) -> Iterator[Change]:
        for view in reversed(self._of(self.live.values(), Thing.VIEW)):
            if view.key not in self.wanted and not self.anew:
                how = f"DROP VIEW {sql_name(view.name)}"
                yield Change(
                    what="drop view",
                    name=view.name,
                    statements=(how,),
                    late=True,
                    reshapes=view.name,
                )
        for name in self.after:
            shapes = self._shapes(name)
            for column in shapes[0].columns if shapes and name not in self.anew else ():
                if shapes and column.name not in shapes[1].by_name:
                    yield Change(
                        what="drop column",
                        name=f"{name}.{column.name}",
                        reshapes=name,
                        statements=(
                            f"ALTER TABLE {sql_name(name)} DROP COLUMN {spelled(column.name)}",
                        ),
                        effect=Effect.LOSES,
                        late=True,
                        lost=(f"{name}.{column.name}",),
                    )
        left = set(self._leaving()) if self.anew else set()  # those have gone before
        leaving = [self.before[n] for n in self.gone if n not in left]
        for table in reversed(in_working_order(leaving, self.dialect)):
            yield Change(
                what="drop table",
                name=table.name,
                statements=(f"DROP TABLE {sql_name(table.name)}",),
                effect=Effect.LOSES,
                late=True,
                lost=(table.name,),
            )
        for old in self._of(self.live.values(), Thing.SEQUENCE):
            if old.key not in self.wanted:
                how = f"DROP SEQUENCE {sql_name(old.name)}"
                yield Change(what="drop sequence", name=old.name, statements=(how,), late=True)

    def _of(self, definitions: Iterable[Definition], thing: Thing) -> list[Definition]:
        return in_working_order((d for d in definitions if d.thing is thing), self.dialect)


def _plain(what: str, name: str, sql: str, effect: Effect = Effect.SAFE) -> Change:
    return Change(what=what, name=name, statements=(sql,), effect=effect)


def _by_table(
    definitions: Sequence[Definition], dialect: str
) -> Mapping[str, Sequence[Definition]]:
    """The indexes among some definitions, by their table."""
    indexes: dict[str, list[Definition]] = {}
    for definition in definitions:
        if definition.thing is Thing.INDEX:
            indexes.setdefault(_table_of(definition, dialect), []).append(definition)
    return indexes


def _table_of(index: Definition, dialect: str) -> str:
    """The table that an index is on."""
    schema = index.schema
    words = [token.text for token in tokens_of(index.sql, dialect)]
    at = [word.upper() for word in words].index("ON") + 1
    if at + 1 < len(words) and words[at + 1] == ".":
        return f"{words[at]}.{words[at + 2]}"
    return f"{schema}.{words[at]}"


def _copy_of(name: str) -> RelationName:
    """The table in which the rows wait while theirs is made anew."""
    return aside(RelationName(name), _COPY)


def _misfit(table: str, old: ColumnShape, new: ColumnShape, dialect: str) -> str:
    """The query that counts the values which another type does not take as they are."""
    column = spelled(old.name)
    cast = f"TRY_CAST({column} AS {new.type})"
    condition = f"{cast} IS NULL"
    if not normal_type(old.type, dialect).startswith(("TEXT", "VARCHAR", "CHAR")):
        back = f"TRY_CAST({cast} AS {old.type})"
        condition = f"({condition} OR {back} IS DISTINCT FROM {column})"
    return f"SELECT count(*) FROM {sql_name(table)} WHERE {column} IS NOT NULL AND {condition}"
