"""Environments and the route: where things go, in which order, and what each place demands."""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Iterable, Mapping, Sequence

from msgspec import Struct, field
from msgspec.structs import replace

from inchworm.core.entry.conditions import NO_CONDITIONS, EntryConditions
from inchworm.core.environments.verification import Verification
from inchworm.core.errors import UsageError
from inchworm.core.identifiers import RelationName, relation

OWNER = "{owner}"
"""Stands in addresses for whoever is at work, so that each has a corner of their own."""


def owner_name(user: str) -> str:
    """Somebody's name as it can stand in the name of a schema.

    Raises:
        UsageError: when the name has no letter or digit that could.
    """
    plain = unicodedata.normalize("NFKD", user).encode("ascii", "ignore").decode().lower()
    name = re.sub(r"[^a-z0-9]+", "_", plain).strip("_")
    if not name:
        raise UsageError(
            f"{user!r} has no letters or digits that could name a corner.",
            next="Set INCHWORM_USER, or git's user.name.",
        )
    return name


class Corner(Struct, frozen=True, kw_only=True):
    """Somebody's corner of a database.

    Attributes:
        schemas: the pattern of the names of all corners' schemas, with ``{owner}`` in it.
        bookkeeping: the same of the schemas in which their bookkeeping is.
        user: the owner's name as it is; names of two people may become one in a schema's name.
    """

    owner: str
    schemas: str
    bookkeeping: str
    user: str = ""

    def of_others(self, schemas: Iterable[str]) -> frozenset[str]:
        """The schemas, of those in a database, that are in the corners of others."""
        if OWNER not in self.schemas:  # each corner is a database of its own
            return frozenset()
        known = frozenset(schemas)
        of_anybody = re.compile(re.escape(self.bookkeeping).replace(re.escape(OWNER), "(.+)"))
        owners = {match[1] for name in known if (match := of_anybody.fullmatch(name))} - {
            self.owner
        }
        patterns = (self.schemas.replace("{schema}", "{any}"), self.bookkeeping)
        corners = [
            re.compile(re.escape(pattern.replace(OWNER, owner)).replace(re.escape("{any}"), ".+"))
            for owner in owners
            for pattern in patterns
        ]
        return frozenset(name for name in known if any(c.fullmatch(name) for c in corners))


_AT_ONCE = 4
"""Models that are built at a time where the environment does not say."""


class DatabaseAddress(Struct, frozen=True, kw_only=True):
    """Where an environment's database is. ``url`` and ``password`` may hold ``${parameters}``."""

    url: str
    password: str | None = None
    schema_pattern: str = "{schema}"
    threads: int | None = None
    """How many the database may use, where it can be told."""
    bookkeeping: str = "inchworm"
    """The schema in which the database's own bookkeeping is."""
    keep_replaced: bool = True
    """Whether tables that a promotion replaces are kept aside until the next one."""
    undo_migrations: bool = False
    """Whether migrations of a promotion that fails are taken back, where they can be."""
    may_lose: tuple[str, ...] = ()
    """Tables and columns, by logical name, whose values a change of structure may lose."""
    corner: Corner | None = None
    """The corner that it is, where everybody has one of their own."""

    @property
    def at_once(self) -> int:
        """How many models are built at a time."""
        return self.threads or _AT_ONCE

    @property
    def has_corners(self) -> bool:
        """Whether everybody has other schemas, or another database."""
        return OWNER in self.url or OWNER in self.schema_pattern

    def physical_schema(self, schema: str) -> str:
        """The schema's name in this environment."""
        return self.schema_pattern.replace("{schema}", schema)

    def physical_table(self, name: str) -> RelationName:
        """A logical ``schema.table`` under the name that it has in this environment."""
        logical = RelationName(name)
        if self.schema_pattern == "{schema}":  # asked of every table, again and again
            return logical
        return relation(self.physical_schema(logical.schema), logical.table)


class ServiceAddress(Struct, frozen=True, kw_only=True):
    """Where a workspace or gateway is: ``sim:NAME`` in process, or an http address."""

    url: str
    token: str | None = None
    waits: float = 60.0
    """Seconds in which a flow that starts may become active."""
    api_versions: int = 1
    """How many versions of its API a flow answers to, the live one included."""


class NotebookServerAddress(ServiceAddress, frozen=True, kw_only=True):
    """Where a Jupyter Server is that takes the notebooks and runs them: an http address.

    Attributes:
        folder: its folder for the notebooks; without one, it is named after the project and the
            environment.
        kernel: the name of the kernel specification by which it starts kernels.
    """

    folder: str = ""
    kernel: str = "python3"

    def folder_of(self, project: str, environment: Environment) -> str:
        """The folder of the server in which an environment's notebooks are."""
        named = "/".join(filter(None, (project, environment.name, environment.corner)))
        return self.folder or named


class SecretStoreAddress(Struct, frozen=True, kw_only=True):
    """Where a key-value service is, and the reference of the token that opens it."""

    url: str
    token: str


class Environment(Struct, frozen=True, kw_only=True):
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
    """Which of its targets it has in common with others: ``database``, or a service's name."""
    database: DatabaseAddress
    workspace: ServiceAddress
    gateway: ServiceAddress
    notebooks: NotebookServerAddress | None = None
    """Takes the notebooks in place of the workspace, and runs them, where there is one."""
    secret_store: SecretStoreAddress | None = None
    default_schedule: str = "off"
    schedules: Mapping[str, str] = field(default_factory=dict)
    entry: EntryConditions = NO_CONDITIONS
    """What it demands before a promotion may run."""
    verifications: tuple[Verification, ...] = ()
    """What has to hold once a promotion is there."""

    @property
    def names(self) -> frozenset[str]:
        """The names under which promotions went into it."""
        return frozenset({self.name, self.formerly} - {""})

    file: str = ""

    @property
    def services(self) -> Mapping[str, ServiceAddress]:
        """Where each of its services is, by the name of its section."""
        named = {
            "workspace": self.workspace,
            "gateway": self.gateway,
            "notebooks": self.notebooks,
        }
        return {name: address for name, address in named.items() if address is not None}

    @property
    def corner(self) -> str:
        """Whose corner it is; empty where nobody has one of their own."""
        return self.database.corner.owner if self.database.corner else ""

    def in_corner(self, owner: str, user: str = "") -> Environment:
        """The environment as it is for somebody; the same one where it has no corners.

        Args:
            owner: their name as it can stand in the name of a schema.
            user: their name as it is.
        """
        if not self.database.has_corners:
            return self
        database, notebooks = self.database, self.notebooks
        if notebooks is not None:
            notebooks = replace(
                notebooks,
                url=notebooks.url.replace(OWNER, owner),
                folder=notebooks.folder.replace(OWNER, owner),
            )
        return replace(
            self,
            database=replace(
                database,
                url=database.url.replace(OWNER, owner),
                schema_pattern=database.schema_pattern.replace(OWNER, owner),
                bookkeeping=database.bookkeeping.replace(OWNER, owner),
                corner=Corner(
                    owner=owner,
                    schemas=database.schema_pattern,
                    bookkeeping=database.bookkeeping,
                    user=user,
                ),
            ),
            workspace=replace(self.workspace, url=self.workspace.url.replace(OWNER, owner)),
            gateway=replace(self.gateway, url=self.gateway.url.replace(OWNER, owner)),
            notebooks=notebooks,
        )

    def schedule_state(self, pipeline: str, schedule: str) -> str:
        """``on`` or ``off``: by pipeline and schedule, by schedule, by pipeline, or by default."""
        for key in (f"{pipeline}.{schedule}", schedule, pipeline):
            if key in self.schedules:
                return self.schedules[key]
        return self.default_schedule

    @property
    def protection(self) -> str:
        """``protected`` or ``not protected``, and whose corner, as lines that matter show it."""
        protection = "protected" if self.protected else "not protected"
        return f"{protection}, the corner of {self.corner}" if self.corner else protection


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
