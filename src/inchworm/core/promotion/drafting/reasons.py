"""Which parts a promotion works on, and why: content, values, and whatever is upstream."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from functools import cached_property
from typing import NamedTuple

from inchworm.core.identifiers import Kind, PartId, RelationName, relation
from inchworm.core.promotion.composition import LivePart, typed_column
from inchworm.core.promotion.drafting.request import Request
from inchworm.core.promotion.drafting.schedules import stays_stopped
from inchworm.core.promotion.migrations import Pending
from inchworm.core.promotion.rollback import Undone
from inchworm.core.structure.changes import Effect


class Reason(NamedTuple):
    """What becomes of a part, in one word, and why."""

    action: str
    why: str


def reasons_of(
    request: Request, pending: Sequence[Pending], undone: Undone
) -> dict[PartId, Reason]:
    """Action and reason of every part that does not stay as it is.

    Args:
        request: what the draft is made from.
        pending: the migrations that are going to run or to be assumed.
        undone: the migrations that are taken back.
    """
    return _Reasons(request).run(pending, undone)


class _Reasons:
    def __init__(self, request: Request) -> None:
        self.request = request
        self.assembly = request.assembly
        self.live = request.live
        self.reasons: dict[PartId, Reason] = {}

    def run(self, pending: Sequence[Pending], undone: Undone) -> dict[PartId, Reason]:
        """Each part by itself, then everything downstream."""
        for part in self.assembly.parts:
            if self._stays(part):
                continue
            changed = self._changed(part)
            if changed is not None:
                self.reasons[part] = changed
        self._spread(self._tables_touched(pending) | self._tables_undone(undone))
        return self.reasons

    def _stays(self, part: PartId) -> bool:
        """Whether a part is left as it is, whatever values are there now."""
        if part not in self.request.sources:
            return False
        live = self.live.parts.get(part)
        return live is not None and live.content == self.assembly.parts[part].digest

    def _changed(self, part: PartId) -> Reason | None:
        """Action and reason for a part by itself, without what is upstream of it."""
        live = self.live.parts.get(part)
        if part.kind.is_service:
            return self._changed_item(part, live)
        if live is None:
            moved = self.request.moved.get(part)
            return Reason("add", f"is moved here from {moved.name}" if moved else "new here")
        if live.digest != self.request.rendered.digest(part):
            return Reason("change", self._why(part, live))
        if part.kind is Kind.MODEL and self.request.physical(part.name) not in self.live.tables:
            return Reason("rebuild", "is missing in the database")
        if part.kind is Kind.MODEL and part not in self.request.unchosen:
            return self._other_types(live)
        return None

    def _other_types(self, live: LivePart) -> Reason | None:
        """The reason to build a model again that reads a column which has another type now."""
        built_on = live.built_on.splitlines()
        if self._typed_columns.issuperset(built_on):
            return None
        for line in built_on:
            name, _, before = line.partition("\t")
            now = self._types.get(name)
            if now is not None and now != before:
                return Reason("rebuild", f"{name} is {now} now, and was {before} when it was built")
        return None

    @cached_property
    def _types(self) -> Mapping[str, str]:
        """The type of each live column, by its name with that of the table."""
        lines = (line.partition("\t") for line in self._typed_columns)
        return {name: kind for name, _, kind in lines}

    @cached_property
    def _typed_columns(self) -> frozenset[str]:
        return frozenset(
            typed_column(name, column)
            for name, table in self.live.tables.items()
            for column in table.columns
        )

    def _changed_item(self, part: PartId, live: LivePart | None) -> Reason | None:
        item = self.live.items.get(part)
        digest = self.request.rendered.digest(part)
        if item is None:
            if live is None:
                return Reason("add", "new here")
            may_have_moved = part.kind is Kind.NOTEBOOK and self.request.environment.notebooks
            missing = "is not at the notebook server" if may_have_moved else _REMOVED_BY_HAND
            if self.live.is_simulation_new:
                missing = "is not in this checkout's simulated service yet"
            return Reason("add", missing)
        if item.digest != digest:
            if live is None:
                return Reason("change", "is there, but not from a bundle")
            if live.digest == digest:
                return Reason("change", "was changed there by hand")
            return Reason("change", self._why(part, live))
        if part.kind.is_activated and item.state != "active":
            if live is None or live.digest != digest:
                return Reason("change", "is not active")
            if not stays_stopped(self.request, part):
                return Reason("change", "was stopped by hand, and is to run again")
        return None

    def _why(self, part: PartId, live: LivePart) -> str:
        """Why a part is rendered differently from what is live."""
        if live.content != self.assembly.parts[part].digest:
            return "content changed"
        used = sorted({use.parameter for use in self.assembly.outlines[part].uses})
        changed = [n for n in used if live.values.get(n) != self.request.values[n].text]
        if changed:
            return f"parameter{'s' if len(changed) > 1 else ''} {', '.join(changed)} changed"
        return "rendered differently"

    def _spread(self, touched: set[str]) -> None:
        """Everything that reads what changes is built again, in lineage order."""
        provider, outlines = self.assembly.provider, self.assembly.outlines
        models = [part for part in self.reasons if part.kind is Kind.MODEL]
        changing = touched.union(*(outlines[part].interfaces for part in models))
        for part in self.assembly.model_order:
            reads = outlines[part].reads
            if part in self.reasons or changing.isdisjoint(reads):
                continue
            changing |= outlines[part].interfaces.keys()
            upstream = {provider[table] for table in reads if table in provider} - {part}
            rebuilt = [p.name for p in upstream if p in self.reasons and p.kind is Kind.MODEL]
            by_schema = [table for table in reads if table in touched]
            if rebuilt:
                self.reasons[part] = Reason("rebuild", f"depends on {listed(sorted(rebuilt))}")
            elif by_schema:
                self.reasons[part] = Reason("rebuild", f"a migration changes {listed(by_schema)}")

    def _tables_touched(self, pending: Sequence[Pending]) -> set[str]:
        """Logical names of the tables that migrations and changes of structure work on."""
        touched: set[str] = set()
        for migration in pending:
            if migration.assumed:
                continue
            script = self.request.rendered.schema(migration.schema).migration(migration.name)
            touched |= _tables_in(script.sql, self.assembly.dialect)
        for schema, planned in self.request.structures:
            for change in planned.changes:
                if not change.late and (change.lost or change.effect is Effect.SLOW):
                    table = RelationName(change.name).table.split(".")[0]
                    touched.add(relation(schema.name, table))
        return touched

    def _tables_undone(self, undone: Undone) -> set[str]:
        """Logical names of the tables that undo scripts work on."""
        touched: set[str] = set()
        for those in undone.values():
            for each in those:
                touched |= _tables_in(each.undo, self.assembly.dialect)
        return touched


def _tables_in(script: str, dialect: str) -> set[str]:
    from inchworm.core.sql.columns import tables_in  # the parser, only where needed
    from inchworm.core.sql.parse import parse_statements

    statements = parse_statements(script, dialect)
    return {table for statement in statements for table in tables_in(statement, dialect)}


def listed(names: Sequence[str]) -> str:
    """The first names of some, and how many more there are."""
    shown = ", ".join(names[:3])
    return f"{shown} and {len(names) - 3} more" if len(names) > 3 else shown


_REMOVED_BY_HAND = "was removed there by hand"
