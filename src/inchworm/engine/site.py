"""The site of a promotion or run: the open environment, and the bundle made ready for it."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import ExitStack, closing, contextmanager
from copy import copy
from functools import cached_property, lru_cache
from types import MappingProxyType
from typing import TYPE_CHECKING, Self

from inchworm.core.entry.rules import NO_RULES, Rules
from inchworm.core.environments.physical_names import PhysicalNames
from inchworm.core.identifiers import Kind, PartId, PromotionId, RelationName
from inchworm.core.lineage.facts import interfaces_digest
from inchworm.core.promotion.composition import Circumstances, Interface, LivePart, typed_column
from inchworm.core.promotion.rollback import Undone
from inchworm.core.rendered import Script
from inchworm.core.running.run import Run, RunId
from inchworm.core.structure.changes import Change
from inchworm.core.structure.losing import Loss
from inchworm.engine.open_environment import OpenEnvironment
from inchworm.engine.preparation import Prepared
from inchworm.engine.staging import StagingArea
from inchworm.engine.structure_record import StructureRecord
from inchworm.targets.databases.api_versions import ApiVersions

if TYPE_CHECKING:  # a run that builds nothing does without the parser's 30 MB
    from sqlglot import exp

_NO_CHANGES: Mapping[PartId, tuple[Change, ...]] = MappingProxyType({})
_NOTHING_UNDONE: Undone = MappingProxyType({})
_NO_STAKES: Mapping[int, tuple[Loss, ...]] = MappingProxyType({})


class Site:
    """Where actions are performed: one connection, and what goes with it.

    Args:
        prepared: the bundle, made ready for the environment.
        place: the open environment.
        id: the promotion's or run's id, with its ledger.
        building: logical names of the relations that are read from where they are staged.
        by: who is at work.
        now: the current time, ISO 8601, UTC.
        changes: the changes of structure that were drafted, by schema.
        undone: the migrations that are taken back, by schema.
        taking_back: logical names of the models whose replaced tables go live again.
        undoes: the keys of the promotions that a rollback takes back.
        exception: who let the promotion in although entry conditions were missing, and why.
        circumstances: with what a promotion comes about; None of a run.
        is_choice: whether parts were left out by choice.
        rules: the rules by which the promotion was let in.
        changed_by_hand: the parts that somebody had changed when this was drafted.
        run_subject: runs what is in place under a name, to see that it works.
        stakes: by step, what its script may not take away where anything is in it by then.
        rows_left: by step, what a migration left of what its undo script would take away.
    """

    def __init__(
        self,
        *,
        prepared: Prepared,
        place: OpenEnvironment,
        id: PromotionId | RunId,
        building: frozenset[RelationName],
        by: str,
        now: Callable[[], str],
        changes: Mapping[PartId, tuple[Change, ...]] = _NO_CHANGES,
        undone: Undone = _NOTHING_UNDONE,
        taking_back: frozenset[RelationName] = frozenset(),
        undoes: tuple[str, ...] = (),
        exception: str = "",
        circumstances: Circumstances | None = None,
        is_choice: bool = False,
        rules: Rules = NO_RULES,
        changed_by_hand: frozenset[PartId] = frozenset(),
        run_subject: Callable[[str], Run] | None = None,
        stakes: Mapping[int, tuple[Loss, ...]] = _NO_STAKES,
    ) -> None:
        self.prepared = prepared
        self.changes = changes
        self.undone = undone
        self.taking_back = taking_back
        self.undoes = undoes
        self.exception = exception
        self.circumstances = circumstances
        self.is_choice = is_choice
        self.rules = rules
        self.changed_by_hand = changed_by_hand
        self.run_subject = run_subject
        self.stakes = stakes
        self.day: dt.date | None = None
        """Another day than this one, for which a run is asked for."""
        self.rows_left: dict[int, dict[str, str | None]] = {}
        self.id = id
        self.building = building
        self.by = by
        self.now = now
        self.assembly = prepared.reading.assembly
        self.rendered = prepared.rendered
        self.environment = prepared.environment
        self.failed: list[int] = []
        """Numbers of the steps that failed; their parts are not expected to be in place."""
        self._reach(place)

    def _reach(self, place: OpenEnvironment) -> None:
        """Work over a connection."""
        self.place = place
        self.database = place.database
        self.bookkeeping = place.bookkeeping
        self.api_versions = ApiVersions(place.database, place.bookkeeping.schema, place.project)
        self.names = PhysicalNames(self.assembly, self.environment, self.database.dialect)
        taking_back = frozenset(map(self.physical, self.taking_back))
        self.staging = StagingArea(place, self.id.key, taking_back)
        self.structures = StructureRecord(place, self.names, self._live_parts, self.now)
        self._schemas: set[str] = set()

    def at(self, place: OpenEnvironment) -> Self:
        """The same site over another connection."""
        other = copy(self)
        other._reach(place)
        return other

    @contextmanager
    def crew(self, size: int) -> Iterator[Sequence[Self]]:
        """Up to ``size`` sites that can be worked at the same time, this one first.

        A database that only one connection can write to gets one.
        """
        sites = [self]
        with ExitStack() as stack:
            while len(sites) < size and (database := self.database.new_session()) is not None:
                stack.enter_context(closing(database))
                sites.append(self.at(self.place.over(database)))
            yield sites

    # ---- names --------------------------------------------------------------------------------

    def physical(self, name: str) -> RelationName:
        """A logical table's name in this environment."""
        return self.names.table(name)

    def physical_schema(self, schema: PartId) -> str:
        """The name of a schema part in this environment."""
        return self.names.schema(schema.name)

    def staged(self, name: str) -> RelationName:
        """The staging relation of a model that is built."""
        return self.staging.names[self.physical(name)]

    def present(self, name: str) -> RelationName:
        """Until the switch-over, what is built is read from its staging relation."""
        return self.staged(name) if name in self.building else self.physical(name)

    def sql(self, query: str | exp.Query, name: Callable[[str], str]) -> str:
        """A query as the database reads it, each table under the name that ``name`` gives it."""
        from inchworm.core.sql.renamed_tables import with_tables
        from inchworm.core.sql.render import to_text

        dialect = self.assembly.dialect
        tree = _parsed(query, dialect) if isinstance(query, str) else query
        return to_text(with_tables(tree, name, dialect), self.database.dialect)

    def type(self, type_: str) -> str:
        """A column type of the project's dialect in the database's."""
        from sqlglot import exp

        kind = exp.DataType.build(type_, dialect=self.assembly.dialect, udt=True)
        return kind.sql(dialect=self.database.dialect)

    def statements(self, sql: str) -> Iterator[str]:
        """The statements of a script, under the names that schemas have in this environment."""
        from inchworm.core.sql.parse import split_script

        for statement in split_script(sql, self.assembly.dialect):
            yield self.names.statement(statement)

    def run(self, sql: str) -> None:
        """Run the statements of a script."""
        for statement in self.statements(sql):
            self.database.execute(statement)

    def ensure_schema(self, schema: str) -> None:
        """Make a schema unless it is there; asked once of each."""
        if schema not in self._schemas:
            self.database.create_schema(schema)
            self._schemas.add(schema)

    def migration(self, part: PartId, name: str) -> Script:
        """A migration as it is rendered for this environment."""
        return self.rendered.schema(part).migration(name)

    def former(self, model: PartId) -> RelationName | None:
        """The relation whose rows and rights a model takes over: its own, or of a former name.

        None where no promotion has put either in place: what somebody else made under the model's
        name has no rows for it.
        """
        if model in self._recorded:
            return self.physical(model.relation)
        moved_from = self.assembly.outlines[model].moved_from
        if moved_from and PartId(Kind.MODEL, moved_from) in self._recorded:
            return self.physical(moved_from)
        return None

    @cached_property
    def _recorded(self) -> frozenset[PartId]:
        """The parts that promotions have put in place before this one."""
        return frozenset(part.part for part in self.bookkeeping.parts_of_ours())

    # ---- bookkeeping --------------------------------------------------------------------------

    def mark(self, step: int) -> None:
        """Record that a step took effect. Called in the transaction that has the effect."""
        self.bookkeeping.record_step(self.id.key, step, self.now())

    def live_part(self, part: PartId, built_on: str = "") -> LivePart:
        """A part of the bundle as it is recorded once it is in place.

        Args:
            part: the part.
            built_on: of a model, the columns that it was built on, with their types.
        """
        bundle = self.prepared.others.get(part) or self.prepared.bundle
        return LivePart(
            part=part,
            project=self.prepared.bundle.project,
            bundle=bundle.name,
            digest=self.rendered.digest(part),
            content=self.assembly.parts[part].digest,
            commit=bundle.commit,
            promotion=self.id.key,
            put_at=self.now(),
            interface_text=self._interface(part).text,
            recipe=self.rendered.recipe(part),
            structure=interfaces_digest(self.assembly.outlines[part]),
            built_on=built_on,
        )

    def built_on(self, models: Sequence[PartId]) -> dict[PartId, str]:
        """The columns that models read, with the types that they have now, as they are recorded."""
        reads = {
            model: {
                self.physical(table): columns
                for table, columns in self.assembly.facts[model].columns_read.items()
            }
            for model in models
        }
        tables = self.database.tables({name for of_model in reads.values() for name in of_model})
        return {
            model: "\n".join(
                typed_column(name, column)
                for name, columns in sorted(of_model.items())
                if name in tables
                for column in tables[name].columns
                if column.name.lower() in {each.lower() for each in columns}
            )
            for model, of_model in reads.items()
        }

    def _interface(self, part: PartId) -> Interface:
        facts = self.assembly.facts[part]
        return Interface(
            values={use.parameter: self.prepared.values[use.parameter].text for use in facts.uses},
            tables={t.name: tuple((c.name, c.type) for c in t.columns) for t in facts.provides},
            required={
                t.name: names
                for t in facts.provides
                if (names := tuple(c.name for c in t.columns if c.required))
            },
            managed=not facts.managed_outside,
            keeps_rows=facts.keeps_rows,
            keys={t.name: t.key for t in facts.provides if t.key},
            reads={table: tuple(sorted(names)) for table, names in facts.columns_read.items()},
        )

    def _live_parts(self) -> dict[PartId, LivePart]:
        return {part: self.live_part(part) for part in self.assembly.parts}

    @cached_property
    def of_others(self) -> frozenset[RelationName]:
        """Physical names of what is live and not of our schemas."""
        return self.place.of_others(self.bookkeeping.parts())


@lru_cache(maxsize=4096)
def _parsed(query: str, dialect: str) -> exp.Query:
    """The tree of a query; a model is tried before it is built. Nobody changes the tree."""
    from inchworm.core.sql.parse import parse_query

    return parse_query(query, dialect)
