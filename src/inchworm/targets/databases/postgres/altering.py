"""Changing a structure where it stands, as PostgreSQL can.

The order follows from what depends on what: what stands in the way goes first (views, foreign keys,
indexes, constraints), then types and sequences, tables and columns change, and the rest is put on
again. What is no longer wanted goes last of all, so that live models may read it until they have
been replaced.
"""

from __future__ import annotations

import re
from collections import defaultdict
from collections.abc import Iterator, Mapping, Sequence
from functools import cached_property

from inchworm.core.errors import ProjectError
from inchworm.core.sql.spelling import spelled
from inchworm.core.structure.change import Renames, sql_name, tables_of
from inchworm.core.structure.changes import Change, Effect
from inchworm.core.structure.definitions import Definition, Thing, in_working_order
from inchworm.core.structure.shapes import TableShape
from inchworm.core.structure.violations import foreign_key, violations
from inchworm.targets.databases.postgres.altered_columns import (
    AlteredColumn,
    added_column,
    alter,
)

_DIALECT = "postgres"
_LABEL = re.compile(r"'(?:[^']|'')*'")


def altered(
    live: Sequence[Definition], desired: Sequence[Definition], renames: Renames
) -> list[Change]:
    """What turns one structure into the other, in the order in which it can be done.

    Args:
        live: the definitions that it has, after the renames.
        desired: the definitions that it should have.
        renames: by which what is lost, or in the way, is named as it is called now.

    Raises:
        ProjectError: when there is a difference for which no change can be worked out.
    """
    return _Altering(live, desired, renames).changes()


class _Altering:
    def __init__(
        self, live: Sequence[Definition], desired: Sequence[Definition], renames: Renames
    ) -> None:
        self.renames = renames
        self.live = {d.key: d for d in live}
        self.wanted = {d.key: d for d in desired}
        self.before = {name: _shape(d) for name, d in tables_of(live, _DIALECT).items()}
        self.after = {name: _shape(d) for name, d in tables_of(desired, _DIALECT).items()}
        self.both = [name for name in self.after if name in self.before]
        self.made_again = {
            name: again for name in self.both if (again := self._generated_again(name))
        }
        self.constraints_before = _constraints(live, self.before)
        self.constraints_after = _constraints(desired, self.after)
        self.views_go = any(self._retyped(name) or self.made_again.get(name) for name in self.both)
        """Whether views have to go, because a column that they read changes under them."""

    def changes(self) -> list[Change]:
        stages = [
            self._drop_views(),
            self._drop_constraints(),
            self._drop_indexes(),
            self._types(),
            self._sequences(),
            self._new_tables(),
            *(self._columns(name) for name in self.both),
            self._belongings(),
            self._make(Thing.INDEX, Effect.SLOW),
            self._add_constraints(),
            self._make_views(),
            self._comments(),
            self._drop_late(),
        ]
        return [change for stage in stages for change in stage]

    def _retyped(self, table: str) -> bool:
        before = self.before[table].by_name
        return any(
            c.name in before and before[c.name].type != c.type for c in self.after[table].columns
        )

    def _generated_again(self, table: str) -> list[str]:
        """Columns that have to be dropped and added: their values are worked out anew."""
        before = self.before[table].by_name
        return [
            c.name
            for c in self.after[table].columns
            if c.generated is not None
            and c.name in before
            and (before[c.name] != c or self._retyped(table))
        ]

    # ---- what stands in the way ---------------------------------------------------------------

    def _drop_views(self) -> Iterator[Change]:
        for key in reversed([d.key for d in self._ordered(self.live, Thing.VIEW)]):
            view = self.live[key]
            differs = key in self.wanted and self.wanted[key].sql != view.sql
            if self.views_go or differs:
                yield _view_goes(view)

    def _make_views(self) -> Iterator[Change]:
        for view in self._ordered(self.wanted, Thing.VIEW):
            old = self.live.get(view.key)
            if self.views_go or old is None or old.sql != view.sql:
                yield Change(what="make view", name=view.name, statements=(view.sql,))

    def _drop_constraints(self) -> Iterator[Change]:
        going = [
            (text.startswith("FOREIGN"), table, name)
            for table, named in self.constraints_before.items()
            for name, text in named.items()
            if (table in self.after and not self._stays(table, name, text))
            or (table not in self.after and text.startswith("FOREIGN"))
        ]
        for _, table, name in sorted(going, key=lambda each: not each[0]):
            new_name = self._renamed_to(table, name)
            if new_name is not None:
                how, what = f"RENAME CONSTRAINT {name} TO {new_name}", "rename constraint"
            else:
                how, what = f"DROP CONSTRAINT {name}", "drop constraint"
            yield Change(what=what, name=f"{table}.{name}", statements=(alter(table, how),))

    def _stays(self, table: str, name: str, text: str) -> bool:
        return (
            table not in self.made_again
            and self.constraints_after.get(table, {}).get(name) == text
            and not (text.startswith("FOREIGN") and self._meets_change(table, text))
        )

    def _meets_change(self, table: str, text: str) -> bool:
        """Whether types change at an end of a foreign key, or the key that it points at."""
        key = foreign_key(text)
        if key is None:
            return True
        ends = ((table, key.columns), (key.target, key.target_columns))
        is_retyped = any(self._retyped_columns(name) & set(columns) for name, columns in ends)
        return is_retyped or key.target in self._with_keys_going

    def _retyped_columns(self, table: str) -> set[str]:
        if table not in self.both:
            return set()
        before = self.before[table].by_name
        after = self.after[table].columns
        return {c.name for c in after if c.name in before and before[c.name].type != c.type}

    @cached_property
    def _with_keys_going(self) -> set[str]:
        return {
            table
            for table in self.both
            if table in self.made_again
            or any(
                self.constraints_after[table].get(name) != text
                for name, text in self.constraints_before[table].items()
                if text.startswith(("PRIMARY", "UNIQUE"))
            )
        }

    def _renamed_to(self, table: str, name: str) -> str | None:
        """The new name of a constraint of which nothing else changes."""
        if table in self.made_again or table not in self.after:
            return None
        before, after = self.constraints_before[table], self.constraints_after[table]
        if name in after or before[name].startswith("FOREIGN"):
            return None
        candidates = [n for n, text in after.items() if text == before[name] and n not in before]
        twins = [n for n, text in before.items() if text == before[name]]
        return candidates[0] if len(candidates) == 1 and len(twins) == 1 else None

    def _add_constraints(self) -> Iterator[Change]:
        coming = []
        for table, named in self.constraints_after.items():
            old = self.constraints_before.get(table, {})
            taken = {self._renamed_to(table, n) for n in old} if table in self.before else set()
            for name, text in named.items():
                is_foreign = text.startswith("FOREIGN")
                if table not in self.before and not is_foreign:
                    continue  # it comes with its table
                if name in taken:
                    continue
                if table not in self.before or not (
                    name in old and self._stays(table, name, old[name])
                ):
                    coming.append((is_foreign, table, name, text))
        for _, table, name, text in sorted(coming, key=lambda each: each[0]):
            how = alter(table, f"ADD CONSTRAINT {name} {text}")
            is_old = table in self.before
            live_table = self.renames.table_before(table)
            yield Change(
                what="add constraint",
                name=f"{table}.{name}",
                statements=(how,),
                effect=Effect.SLOW if is_old else Effect.SAFE,
                demands=violations(live_table, text) if is_old else (),
            )

    def _drop_indexes(self) -> Iterator[Change]:
        for index in self._of(self.live, Thing.INDEX):
            table = (index.needs or ("",))[0]
            if table in self.after and not self._index_stays(index):
                name = sql_name(index.name)
                yield Change(what="drop index", name=index.name, statements=(f"DROP INDEX {name}",))

    def _index_stays(self, index: Definition) -> bool:
        new = self.wanted.get(index.key)
        table = (index.needs or ("",))[0]
        return new is not None and new.sql == index.sql and table not in self.made_again

    # ---- what changes -------------------------------------------------------------------------

    def _types(self) -> Iterator[Change]:
        for new in self._of(self.wanted, Thing.TYPE):
            old = self.live.get(new.key)
            if old is None:
                yield Change(what="make type", name=new.name, statements=(new.sql,))
            elif old.sql != new.sql:
                yield self._labels(old, new)

    def _labels(self, old: Definition, new: Definition) -> Change:
        """Labels that are added to a type; they cannot be taken away."""
        had, gets = _LABEL.findall(old.sql), _LABEL.findall(new.sql)
        if [label for label in gets if label in had] != had:
            raise ProjectError(
                f"labels of the type {new.name} go or change places, which cannot be worked out.",
                next="Give the column another type, or keep the labels that are there.",
            )
        statements = []
        for i, label in enumerate(gets):
            if label not in had:
                place = f"AFTER {gets[i - 1]}" if i else f"BEFORE {had[0]}"
                statements.append(f"ALTER TYPE {sql_name(new.name)} ADD VALUE {label} {place}")
        return Change(what="add labels", name=new.name, statements=tuple(statements))

    def _sequences(self) -> Iterator[Change]:
        for new in self._of(self.wanted, Thing.SEQUENCE):
            old = self.live.get(new.key)
            if old is None:
                yield Change(what="make sequence", name=new.name, statements=(new.sql,))
            elif old.sql != new.sql:
                sql = new.sql.replace("CREATE", "ALTER", 1)
                sql += "" if sql.endswith(" CYCLE") else " NO CYCLE"
                yield Change(what="change sequence", name=new.name, statements=(sql,))

    def _belongings(self) -> Iterator[Change]:
        """Sequences that belong to other columns than before, or to one at all."""
        for new in self._of(self.wanted, Thing.BELONGING):
            old = self.live.get(new.key)
            if old is None or old.sql != new.sql:
                yield Change(what="tie sequence", name=new.name, statements=(new.sql,))
        for old in self._of(self.live, Thing.BELONGING):
            if old.key not in self.wanted and f"{Thing.SEQUENCE} {old.name}" in self.wanted:
                free = f"ALTER SEQUENCE {sql_name(old.name)} OWNED BY NONE"
                yield Change(what="free sequence", name=old.name, statements=(free,))

    def _new_tables(self) -> Iterator[Change]:
        for table in self._ordered(self.wanted, Thing.TABLE):
            if table.name not in self.before:
                yield Change(what="make table", name=table.name, statements=(table.sql,))

    def _columns(self, table: str) -> Iterator[Change]:
        before, after = self.before[table].by_name, self.after[table].by_name
        again = self.made_again.get(table, [])
        for name in again:
            was_plain = before[name].generated is None
            yield Change(
                what="drop column",
                name=f"{table}.{name}",
                reshapes=table,
                statements=(alter(table, f"DROP COLUMN {spelled(name)}"),),
                effect=Effect.LOSES if was_plain else Effect.SLOW,
                lost=(self.renames.now(table, name),) if was_plain else (),
            )
        for name, column in after.items():
            if name not in before:
                if column.generated is None:
                    yield added_column(table, column, self.renames)
            elif name not in again and before[name] != column:
                yield from AlteredColumn(table, before[name], column, self.renames).changes()
        for name, column in after.items():
            if name in again or (name not in before and column.generated is not None):
                yield added_column(table, column, self.renames)

    def _make(self, thing: Thing, effect: Effect) -> Iterator[Change]:
        for new in self._of(self.wanted, thing):
            old = self.live.get(new.key)
            if old is not None and self._index_stays(old):
                continue
            table = (new.needs or ("",))[0]
            yield Change(
                what=f"make {thing.value}",
                name=new.name,
                statements=(new.sql,),
                effect=effect if table in self.before else Effect.SAFE,
            )

    def _comments(self) -> Iterator[Change]:
        for new in self._of(self.wanted, Thing.COMMENT):
            old = self.live.get(new.key)
            owner = (new.needs or ("",))[0]
            is_view = f"{Thing.VIEW} {owner}" in self.wanted
            comes_again = (self.views_go and is_view) or (
                new.name.removeprefix(f"{owner}.") in self.made_again.get(owner, [])
            )
            view = self.live.get(f"{Thing.VIEW} {owner}")
            if view is not None and view.sql != self.wanted.get(view.key, view).sql:
                comes_again = True
            if old is None or old.sql != new.sql or comes_again:
                yield Change(what="comment", name=new.name, statements=(new.sql,))
        for old in self._of(self.live, Thing.COMMENT):
            owner = (old.needs or ("",))[0]
            column = old.name.removeprefix(f"{owner}.") if old.name != owner else None
            is_there = owner in self.after or f"{Thing.VIEW} {owner}" in self.wanted
            if column is not None and owner in self.after:
                is_there = column in self.after[owner].by_name
            if old.key not in self.wanted and is_there:
                text = _without_text(old.sql)
                yield Change(what="comment", name=old.name, statements=(f"{text} IS NULL",))

    # ---- what is no longer wanted -------------------------------------------------------------

    def _drop_late(self) -> Iterator[Change]:
        for view in reversed(self._ordered(self.live, Thing.VIEW)):
            if view.key not in self.wanted and not self.views_go:
                yield _view_goes(view, late=True)
        for table in self.both:
            for name, column in self.before[table].by_name.items():
                if name not in self.after[table].by_name:
                    is_worked_out = column.generated is not None
                    yield Change(
                        what="drop column",
                        name=f"{table}.{name}",
                        reshapes=table,
                        statements=(alter(table, f"DROP COLUMN {spelled(name)}"),),
                        effect=Effect.SAFE if is_worked_out else Effect.LOSES,
                        late=True,
                        lost=() if is_worked_out else (self.renames.now(table, name),),
                    )
        gone = [name for name in self.before if name not in self.after]
        for table in gone:
            yield Change(
                what="drop table",
                name=table,
                statements=(f"DROP TABLE {sql_name(table)}",),
                effect=Effect.LOSES,
                late=True,
                lost=(table,),
            )
        for thing in (Thing.SEQUENCE, Thing.TYPE):
            for old in self._of(self.live, thing):
                if old.key not in self.wanted:
                    # a sequence that belongs to a column goes with it
                    how = f"DROP {thing.value.upper()} IF EXISTS {sql_name(old.name)}"
                    yield Change(
                        what=f"drop {thing.value}", name=old.name, statements=(how,), late=True
                    )

    def _of(self, definitions: Mapping[str, Definition], thing: Thing) -> list[Definition]:
        return sorted((d for d in definitions.values() if d.thing is thing), key=lambda d: d.name)

    def _ordered(self, definitions: Mapping[str, Definition], thing: Thing) -> list[Definition]:
        return in_working_order([d for d in definitions.values() if d.thing is thing], _DIALECT)


def _constraints(
    definitions: Sequence[Definition], shapes: Mapping[str, TableShape]
) -> dict[str, dict[str, str]]:
    """The constraints of every table by name, foreign keys too."""
    constraints: dict[str, dict[str, str]] = defaultdict(dict)
    for table, shape in shapes.items():
        constraints[table] = dict(shape.constraints)
    for definition in definitions:
        if definition.thing is Thing.CONSTRAINT and definition.needs:
            named = definition.sql.split(" ADD CONSTRAINT ", 1)[1]
            name, _, text = named.partition(" FOREIGN KEY")
            constraints[definition.needs[0]][name] = f"FOREIGN KEY{text}"
    return constraints


def _shape(definition: Definition) -> TableShape:
    assert definition.shape is not None  # tables_of has refused it
    return definition.shape


def _view_goes(view: Definition, *, late: bool = False) -> Change:
    what = "MATERIALIZED VIEW" if "MATERIALIZED" in view.sql[:40] else "VIEW"
    how = f"DROP {what} {sql_name(view.name)}"
    return Change(
        what="drop view", name=view.name, statements=(how,), late=late, reshapes=view.name
    )


def _without_text(comment: str) -> str:
    """``COMMENT ON ... `` up to the text that it gives."""
    return comment.split(" IS ", 1)[0]
