"""Environments and the route: where things go, in which order, and what each place demands."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

from inchworm.core.entry.conditions import NO_CONDITIONS, EntryConditions
from inchworm.core.environments.verification import Verification
from inchworm.core.identifiers import RelationName, relation


@dataclass(frozen=True, kw_only=True)
class DatabaseAddress:
    """Where an environment's database is. ``url`` and ``password`` may hold ``${parameters}``."""

    url: str
    password: str | None = None
    schema_pattern: str = "{schema}"
    threads: int | None = None
    bookkeeping: str = "inchworm"
    """The schema in which the database's own bookkeeping is."""
    keep_replaced: bool = True
    """Whether tables that a promotion replaces are kept aside until the next one."""
    undo_migrations: bool = False
    """Whether migrations of a promotion that fails are taken back, where they can be."""
    may_lose: tuple[str, ...] = ()
    """Tables and columns, by logical name, whose values a change of structure may lose."""

    def physical_schema(self, schema: str) -> str:
        """The schema's name in this environment."""
        return self.schema_pattern.replace("{schema}", schema)

    def physical_table(self, name: str) -> RelationName:
        """A logical ``schema.table`` under the name that it has in this environment."""
        logical = RelationName(name)
        if self.schema_pattern == "{schema}":  # asked of every table, again and again
            return logical
        return relation(self.physical_schema(logical.schema), logical.table)


@dataclass(frozen=True, kw_only=True)
class ServiceAddress:
    """Where a workspace or gateway is: ``sim:NAME`` in process, or an http address."""

    url: str
    token: str | None = None
    waits: float = 60.0
    """Seconds in which a flow that starts may become active."""


@dataclass(frozen=True, kw_only=True)
class SecretStoreAddress:
    """Where a key-value service is, and the reference of the token that opens it."""

    url: str
    token: str


@dataclass(frozen=True, kw_only=True)
class Environment:
    """One environment, as its file declares it."""

    name: str
    formerly: str = ""
    """The name under which promotions went into its database before it was renamed."""
    about: str = ""
    after: tuple[str, ...] = ()
    protected: bool = False
    snapshots: bool = False
    overrides: bool = False
    """Whether values may be given for once at a promotion."""
    shared: tuple[str, ...] = ()
    """Which of ``database``, ``workspace`` and ``gateway`` it has in common with others."""
    database: DatabaseAddress
    workspace: ServiceAddress
    gateway: ServiceAddress
    secret_store: SecretStoreAddress | None = None
    default_schedule: str = "off"
    schedules: Mapping[str, str] = field(default_factory=dict)
    entry: EntryConditions = NO_CONDITIONS
    """What it demands before a promotion may run."""
    verifications: tuple[Verification, ...] = ()
    """What has to hold once a promotion is there."""
    file: str = ""

    def schedule_state(self, pipeline: str, schedule: str) -> str:
        """``on`` or ``off``: by pipeline and schedule, by schedule, by pipeline, or by default."""
        for key in (f"{pipeline}.{schedule}", schedule, pipeline):
            if key in self.schedules:
                return self.schedules[key]
        return self.default_schedule

    @property
    def protection(self) -> str:
        """``protected`` or ``not protected``, as lines that matter show it."""
        return "protected" if self.protected else "not protected"


def in_route_order(environments: Sequence[Environment]) -> list[Environment]:
    """Environments so that each comes after those it names in ``after``; else by name."""
    placed: list[Environment] = []
    waiting = sorted(environments, key=lambda e: e.name)
    while waiting:
        names = {environment.name for environment in waiting}
        ready = [e for e in waiting if not names.intersection(e.after)] or waiting
        placed += ready
        waiting = [environment for environment in waiting if environment not in ready]
    return placed
