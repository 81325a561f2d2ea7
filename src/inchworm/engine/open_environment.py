"""An environment that is open: its database and services, and what they have."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable, Collection, Iterable, Mapping
from functools import cached_property
from typing import TYPE_CHECKING

from msgspec import Struct
from msgspec.structs import replace

from inchworm.core.environments.environment import Environment
from inchworm.core.errors import TargetError, WrongEnvironment
from inchworm.core.identifiers import Home, Kind, PartId, RelationName
from inchworm.core.promotion.composition import Composition, LiveItem, LivePart
from inchworm.core.running.api_versions import ApiVersion
from inchworm.core.structure.definitions import (
    Definition,
    Difference,
    Thing,
    differences,
    is_surrounding,
)
from inchworm.engine.lazy_connection import LazyConnection
from inchworm.store.compositions import Compositions, Remembered
from inchworm.store.remembered_values import Remembering
from inchworm.targets.databases import Database
from inchworm.targets.databases.api_versions import ApiVersions
from inchworm.targets.databases.bookkeeping import Bookkeeping
from inchworm.targets.databases.registry import Product
from inchworm.targets.machine import Machine
from inchworm.targets.services import Gateway, Service, Workspace

if TYPE_CHECKING:
    from inchworm.targets.jupyter_server import JupyterServer


class OpenEnvironment(Struct, frozen=True, kw_only=True, dict=True):
    """One environment, reached."""

    environment: Environment
    project: str
    product: Product
    connection: LazyConnection
    workspace: Workspace
    gateway: Gateway
    notebooks: JupyterServer | None
    machine: Machine
    read_of: str | None = None
    """The database with its state, and how it is reached, as text; None where that is not known."""
    remembered: Remembered | None = None
    """What the database had when it was read last, if nobody has written to it since."""
    known: Bookkeeping | None = None
    """The bookkeeping over another connection, where the database has been asked who it is."""

    @property
    def database(self) -> Database:
        """The database, connected.

        Raises:
            TargetError: when it cannot be reached.
            EnvironmentMoved: when another process holds it.
        """
        return self.connection.database

    @cached_property
    def bookkeeping(self) -> Bookkeeping:
        """The database's own bookkeeping.

        Raises:
            TargetError: when the database cannot be reached.
            EnvironmentMoved: when another process holds it.
            WrongEnvironment: when the database is that of another environment.
        """
        if self.known is not None:
            return self.known.over(self.database)
        schema = self.environment.database.bookkeeping
        bookkeeping = Bookkeeping(self.database, self.project, schema)
        claim = bookkeeping.latest_claim()
        check_name(self.environment, self.project, claim.environment)
        check_owner(self.environment, claim.owner)
        return bookkeeping

    def over(self, database: Database) -> OpenEnvironment:
        """The same environment over another connection to its database."""
        connection = LazyConnection(lambda: database)
        return replace(self, connection=connection, known=self.bookkeeping)

    @property
    def identity(self) -> str:
        """Who we are there."""
        return self.database.identity

    def clock(self, now: Callable[[], str]) -> Callable[[], str]:
        """The database's clock; the given one where the database has none of its own.

        Both tell the time as ISO 8601, UTC, to the second.
        """
        at_database = None if self.product.files else self.database.server().now
        if at_database is None:
            return now
        ahead = at_database - dt.datetime.fromisoformat(now())

        def database_time() -> str:
            moment = dt.datetime.fromisoformat(now()) + ahead
            return moment.astimezone(dt.UTC).isoformat(timespec="seconds")

        return database_time

    def items(self) -> dict[PartId, LiveItem]:
        """The items of all services; where two are one service it answers for both.

        Raises:
            TargetError: when one of them cannot be reached.
        """
        items = self._items_of_services()
        return items if self.notebooks is None else items | self.notebooks.items()

    def _items_of_services(self) -> dict[PartId, LiveItem]:
        """Those of the workspace and the gateway, without notebooks that a server of theirs has."""
        items = {**self.workspace.items(), **self.gateway.items()}
        if self.notebooks is None:
            return items
        return {part: item for part, item in items.items() if part.kind is not Kind.NOTEBOOK}

    def service_of(self, part: PartId) -> Service:
        """The service in which a part lives."""
        if self.notebooks is not None and part.kind is Kind.NOTEBOOK:
            return self.notebooks
        return self.gateway if part.kind.home is Home.GATEWAY else self.workspace

    def composition(
        self, read_at: str, *, is_for_draft: bool = True, with_notebooks: bool = True
    ) -> Composition:
        """The composition of the environment, read now.

        Args:
            read_at: the time, ISO 8601.
            with_notebooks: whether a server of notebooks that cannot be reached is an error; or
                only said, for who has nothing to do with them.
            is_for_draft: whether what hangs on the relations of models is asked for, too. Nothing
                but a draft needs it, and with thousands of tables it takes as long as all else.
        """
        read = self.remembered
        if read is None or (is_for_draft and not read.is_for_draft):
            composed = self.database.reading_catalogue(lambda: self._composed(is_for_draft))
            read = Remembered(composed, is_for_draft)
            if self.read_of is not None:
                Compositions(Remembering(self.machine.root, self.machine.sealer)).put(
                    self.environment.name, self.read_of, read
                )
        unreachable = ""
        try:
            items = self.items()
        except TargetError as error:
            if with_notebooks:
                raise
            items, unreachable = self._items_of_services(), str(error)
        schedules = self.workspace.schedules()
        return replace(
            read.composition,
            notebooks_unreachable=unreachable,
            read_at=read_at,
            items=items,
            schedules=schedules,
            is_simulation_new=not items
            and self.workspace.is_untouched
            and self.gateway.is_untouched,
        )

    def _composed(self, is_for_draft: bool) -> Composition:
        """What the database has; the services are asked each time."""
        with self.bookkeeping.one_reading():
            return self._read(is_for_draft)

    def _read(self, is_for_draft: bool) -> Composition:
        parts = self.bookkeeping.parts()
        ours = {part.part: part for part in parts if part.project == self.project}
        foreign = [part for part in parts if part.project != self.project]
        aside = self.aside()
        others = self.of_others(foreign, aside)
        everything = self.database.structure()
        corner = self.environment.database.corner
        schemas = {table.schema for table in everything.values()}
        elsewhere = corner.of_others(schemas) if corner else frozenset()
        structure = {
            name: table
            for name, table in everything.items()
            if table.schema not in {self.bookkeeping.schema, *elsewhere} and name not in aside
        }
        of_models = self.of_models(ours.values()) if is_for_draft else frozenset()
        differing, attached, granted = self._compared(ours, others, of_models)
        promotions = tuple(self.bookkeeping.promotions())
        completed = {None, promotions[-1].promotion if promotions else None}
        claim = self.bookkeeping.latest_claim()
        return Composition(
            identity=self.identity,
            read_at="",
            parts=ours,
            differences=tuple(differing),
            attached=attached,
            granted=granted,
            foreign_parts=tuple(foreign),
            migrations=tuple(self.bookkeeping.migrations()),
            tables=structure,
            set_schedules=self.bookkeeping.schedules(),
            pauses=self.bookkeeping.pauses(),
            holds=tuple(self.bookkeeping.holds()),
            promotions=promotions,
            is_unfinished=claim.promotion not in completed,
            claims=claim.number,
            heads=self.bookkeeping.heads(),
            api_versions=self.api_versions(),
            dependents=self.database.dependents(of_models),
        )

    def api_versions(self) -> tuple[ApiVersion, ...]:
        """The versions of the APIs of our inward flows; former versions recorded none."""
        if not self.bookkeeping.has("api_versions"):
            return ()
        return ApiVersions(self.database, self.bookkeeping.schema, self.project).all()

    def aside(self) -> frozenset[RelationName]:
        """The physical names of what promotions of any project have put beside what is live."""
        return frozenset(each.name for each in self.bookkeeping.aside())

    def of_models(self, parts: Iterable[LivePart]) -> frozenset[RelationName]:
        """The real names of what models provide among some live parts."""
        return frozenset(
            self.environment.database.physical_table(part.part.relation)
            for part in parts
            if part.part.kind is Kind.MODEL
        )

    def of_others(
        self, parts: Iterable[LivePart], aside: frozenset[RelationName] | None = None
    ) -> frozenset[RelationName]:
        """The real names of what our schemas do not account for.

        That is what our models and notebooks provide, what stands beside it, and all that other
        projects provide; what they only know, managed outside, may well be ours.

        Args:
            parts: the parts of all projects.
            aside: what stands beside it, where that has been read already.
        """
        return (self.aside() if aside is None else aside) | frozenset(
            self.environment.database.physical_table(table)
            for part in parts
            if part.managed and (part.project != self.project or part.part.kind is not Kind.SCHEMA)
            for table in part.table_names
        )

    def definitions(
        self,
        parts: Mapping[PartId, LivePart],
        others: frozenset[RelationName] | None = None,
        *,
        relations_only: bool = False,
    ) -> list[Definition]:
        """What the database has of all that some parts account for.

        A schema accounts for everything in it that no model provides, and no other project; one
        that is managed outside, for the tables that are declared of it.

        Args:
            parts: those parts of this project.
            others: the real names of what other projects account for, and of what stands beside
                it, where they are known already.
            relations_only: whether nothing but tables and views is wanted.
        """
        address = self.environment.database
        of_models = self.of_models(parts.values())
        if others is None:
            foreign_parts = (p for p in self.bookkeeping.parts() if p.project != self.project)
            others = self.of_others(foreign_parts)
        managed = {
            address.physical_schema(part.name)
            for part, live in parts.items()
            if part.kind is Kind.SCHEMA and live.managed
        }
        outside = outside_tables(parts.values())
        schemas = sorted(managed | {RelationName(n).schema for n in (*of_models, *outside)})
        definitions = []
        if relations_only:
            everything = self.database.relations(schemas)
        else:
            everything = self.database.definitions(schemas) + self.database.surroundings(schemas)
        for definition in everything:
            schema, relation = definition.schema, definition.relation
            if schema == self.bookkeeping.schema:
                continue
            needs = definition.needs if definition.thing is not Thing.VIEW else ()
            if not others.isdisjoint({definition.name, relation, *(needs or ())}):
                continue
            if relation in of_models:
                definitions.append(definition)
            elif schema in managed:
                definitions.append(replace(definition, is_of_schema=True))
            elif definition.name in outside and definition.thing.is_relation:
                definitions.append(definition)
        return definitions

    def _compared(
        self,
        parts: Mapping[PartId, LivePart],
        others: frozenset[RelationName],
        published: Collection[RelationName],
    ) -> tuple[list[Difference], dict[str, tuple[Definition, ...]], tuple[Definition, ...]]:
        """What is otherwise than it was recorded, what relations of models have, and all rights.

        Former versions recorded the structures alone, and of models nothing but their relations.
        Where a promotion broke off among its migrations, a schema is as nobody recorded it; then
        nothing can be said about it until a promotion has gone on.

        Args:
            parts: those of this project.
            others: the real names of what other projects account for, and of what stands beside it.
            published: relations whose publications are asked for.
        """
        recorded = self.bookkeeping.structures()
        definitions = self.definitions(parts, others) if parts or recorded else []
        attached: dict[str, tuple[Definition, ...]] = {}
        own = [each for each in definitions if each.thing in _ATTACHED and not each.is_of_schema]
        for each in (*own, *self.database.publications(published)):
            attached[each.relation] = (*attached.get(each.relation, ()), each)
        granted = tuple(each for each in definitions if each.thing is Thing.RIGHTS)
        if not recorded:
            return [], attached, granted
        unclear = self.bookkeeping.unrecorded()
        is_watched = self.bookkeeping.watches()
        has_belongings = any(each.thing is Thing.BELONGING for each in recorded)
        """Former versions did not record to which columns sequences belong."""
        outside = outside_tables(parts.values())
        differing = [
            difference
            for difference in differences(recorded, definitions)
            if not (difference.is_of_schema and difference.schema in unclear)
            and (difference.thing is not Thing.BELONGING or has_belongings)
            and (is_watched or not (is_surrounding(difference) or difference.relation in outside))
        ]
        return differing, attached, granted


_ATTACHED = frozenset({Thing.INDEX, Thing.TRIGGER, Thing.POLICY, Thing.RIGHTS, Thing.OPTIONS})
"""Things on the relation of a model that its successor is given."""


def outside_tables(parts: Iterable[LivePart]) -> frozenset[str]:
    """The tables of schemas that are managed outside, which have one name everywhere."""
    return frozenset(table for part in parts if not part.managed for table in part.table_names)


def check_owner(environment: Environment, owner: str | None) -> None:
    """Whether a corner is that of whoever is at work.

    Raises:
        WrongEnvironment: when somebody has it whose name becomes the same one.
    """
    corner = environment.database.corner
    if corner is None or not owner or not corner.user or owner == corner.user:
        return
    raise WrongEnvironment(
        f"the corner {corner.owner} in {environment.name} belongs to {owner}, and not to "
        f"{corner.user}: both names become one.",
        where=environment.file,
        next="Set INCHWORM_USER to a name that differs in its letters or digits.",
    )


def check_name(environment: Environment, project: str, named: str | None) -> None:
    """Whether a database is the one that it is taken for, by its own bookkeeping.

    Raises:
        WrongEnvironment: when promotions made it another environment of the project.
    """
    if named is None or named.lower() in map(str.lower, environment.names):
        return
    raise WrongEnvironment(
        f"the database of {environment.name} ({environment.protection}) is {named} of {project}: "
        "promotions went into it under that name.",
        where=environment.file,
        next=f"Correct its address. If {named} is called {environment.name} now, write "
        f'formerly = "{named}" in this file; if both share the database on purpose, give one of '
        "them a bookkeeping and a schema_pattern of its own.",
    )
