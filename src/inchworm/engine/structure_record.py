"""What a promotion records of structures: only what it made or changed.

Whatever a step leaves as it was keeps the record that it had. So a change that somebody made by
hand stays one until it is taken up, overwritten on purpose, or put back.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from functools import cached_property

from inchworm.core.environments.physical_names import PhysicalNames
from inchworm.core.identifiers import PartId, RelationName
from inchworm.core.promotion.composition import LivePart
from inchworm.core.promotion.migrations import change_by_hand
from inchworm.core.rendered import Script
from inchworm.core.structure.definitions import Definition, differences, is_surrounding
from inchworm.core.structure.surroundings import handed_on_to
from inchworm.engine.open_environment import OpenEnvironment, outside_tables


class StructureRecord:
    """The record of structures while one promotion is at work.

    Args:
        place: the environment.
        names: its physical names.
        parts: the parts of the bundle, as they are going to be recorded.
        now: the current time, ISO 8601, UTC.
    """

    def __init__(
        self,
        place: OpenEnvironment,
        names: PhysicalNames,
        parts: Callable[[], Mapping[PartId, LivePart]],
        now: Callable[[], str],
    ) -> None:
        self._place = place
        self._bookkeeping = place.bookkeeping
        self._names = names
        self._parts = parts
        self._now = now
        self._before: dict[PartId, list[Definition]] = {}
        """Definitions of schemas before the migrations that have not been recorded."""

    @contextmanager
    def recording(self) -> Iterator[None]:
        """Record what the block changes in schemas that are ours. Called inside a transaction."""
        before = self._definitions()
        yield
        self._bookkeeping.record(before, self._definitions(), self._now())

    def record_whole(self, schema: PartId) -> None:
        """Record a schema as it is. Called inside a transaction."""
        self._record(schema, self._recorded_of(schema))

    def note_before(self, schema: PartId) -> None:
        """Note what a schema is like before the first of some migrations in a row.

        A schema that is not recorded yet is recorded whole, and so is one in which a migration of
        this promotion ran in a process that broke off.
        """
        if schema not in self.live_before:
            self._before[schema] = []
        elif self._names.schema(schema.name) in self._bookkeeping.unrecorded():
            self._before.setdefault(schema, self._recorded_of(schema))
        elif schema not in self._before:
            self._before[schema] = self.definitions_of(schema)

    def record_migrations(self, schema: PartId) -> None:
        """Record what some migrations in a row changed. Called in the transaction of the last."""
        before = self._before.get(schema)
        self._record(schema, self._recorded_of(schema) if before is None else before)

    def record_assumed(self, schema: PartId, script: Script) -> None:
        """Record what an assumed migration stands for: a whole schema, or a change by hand."""
        if not script.takes_up:
            self._record(schema, [])
            return
        physical = self._names.schema(schema.name)
        recorded, live = self._recorded_of(schema), self.definitions_of(schema)
        keys = {
            difference.key
            for difference in differences(recorded, live)
            if change_by_hand(difference, physical, schema.name)[0] in script.takes_up
        }
        either = [*recorded, *live]
        relations = {d.name for d in either if d.key in keys and d.thing.is_relation}
        keys |= {d.key for d in either if d.thing.is_surrounding and d.relation in relations}
        self._bookkeeping.record(
            [d for d in recorded if d.key in keys], [d for d in live if d.key in keys], self._now()
        )

    def record_models(self, models: Mapping[RelationName, RelationName]) -> None:
        """Record models that were switched over. Called inside a transaction.

        What surrounds a model was carried along, whoever had made it, so the record of that is left
        as it was, and goes to the new name where the model has one.

        Args:
            models: by physical name, the relation whose place each takes; its own, if none.
        """
        recorded = self._bookkeeping.structures()
        known = {d.relation for d in recorded}
        live = self._place.definitions(
            self._accounting, relations_only=known.issuperset(models.values())
        )
        handed_on = [
            handed_on_to(name, d, self._place.database.dialect)
            for name, former in models.items()
            if name != former
            for d in recorded
            if d.relation == former and not d.thing.is_relation
        ]
        new = [
            d
            for d in live
            if d.relation in models
            and not d.is_of_schema
            and (d.thing.is_relation or models[RelationName(d.relation)] not in known)
        ]
        self._bookkeeping.record(
            [d for d in recorded if d.name in models and d.thing.is_relation],
            [*handed_on, *new],
            self._now(),
        )

    def record_unrecorded(self, schemas: Iterable[PartId]) -> None:
        """Record schemas that migrations have changed, where no further one is going to run."""
        unrecorded = self._bookkeeping.unrecorded()
        with self._place.database.transaction():
            for schema in schemas:
                if self._names.schema(schema.name) in unrecorded:
                    self.record_migrations(schema)

    def record_rest(self, managed: Iterable[PartId], as_wanted: Collection[PartId]) -> None:
        """Record what no step has recorded: schemas that are new here, or as they are wanted.

        Tables that are managed outside are recorded as they are: they are their owners' to change.
        Models that are gone are forgotten. A schema that is not in the bundle any more is not: its
        tables stay, and whatever was changed in them by hand. Called inside a transaction.

        Args:
            managed: the schemas that are managed here.
            as_wanted: those of them that have been given their wanted structure.
        """
        recorded = self._bookkeeping.structures()
        schemas = {self._names.schema(part.name): part for part in managed}
        unrecorded = self._bookkeeping.unrecorded()
        whole = unrecorded | {
            schema
            for schema, part in schemas.items()
            if part in as_wanted
            or (part not in self.live_before and not any(d.schema == schema for d in recorded))
        }
        outside = self._names.outside
        models = self._place.of_models(self._accounting.values())
        foreign = outside_tables(self._accounting.values())

        def is_new(definition: Definition) -> bool:
            schema = definition.schema
            is_wholly_new = definition.is_of_schema and schema in whole
            return not recorded or is_wholly_new or definition.name in foreign

        def is_forgotten(definition: Definition) -> bool:
            if definition.is_of_schema:
                return definition.schema in outside
            return definition.relation not in models and definition.name not in foreign

        is_watched = self._bookkeeping.watches()
        asks = not recorded or whole or foreign or not is_watched
        live = self._definitions() if asks else []  # where none can be new, reading them is in vain
        before = [d for d in recorded if is_new(d) or is_forgotten(d)]
        self._bookkeeping.record(before, [d for d in live if is_new(d)], self._now())
        for schema in unrecorded:
            self._bookkeeping.recorded(schema)
        if not is_watched:
            self._bookkeeping.record([], [d for d in live if is_surrounding(d)], self._now())
            self._bookkeeping.begin_watching()

    @cached_property
    def live_before(self) -> frozenset[PartId]:
        """The parts that were live when this promotion looked first."""
        return frozenset(part.part for part in self._bookkeeping.parts_of_ours())

    @cached_property
    def _accounting(self) -> Mapping[PartId, LivePart]:
        """The parts that account for what is in our schemas, those of the bundle and those live."""
        live = {part.part: part for part in self._bookkeeping.parts_of_ours()}
        return {**live, **self._parts()}

    def _definitions(self) -> list[Definition]:
        return self._place.definitions(self._accounting)

    def _recorded_of(self, schema: PartId) -> list[Definition]:
        own = self._names.schema(schema.name)
        recorded = self._bookkeeping.structures()
        return [d for d in recorded if d.is_of_schema and d.schema == own]

    def definitions_of(self, schema: PartId) -> list[Definition]:
        """The definitions that the database has of all that a schema accounts for."""
        own = self._names.schema(schema.name)
        return [d for d in self._definitions() if d.is_of_schema and d.schema == own]

    def _record(self, schema: PartId, before: Sequence[Definition]) -> None:
        self._bookkeeping.record(before, self.definitions_of(schema), self._now())
        self._bookkeeping.recorded(self._names.schema(schema.name))
        self._before.pop(schema, None)
