"""What is live in an environment, as its targets say when they are asked."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Collection, Mapping
from dataclasses import dataclass, field
from enum import StrEnum

from inchworm.core.environments import DatabaseAddress
from inchworm.core.parts import Digest, digest_of
from inchworm.core.structure.definitions import Difference
from inchworm.core.structure.tables import Table


@dataclass(frozen=True, kw_only=True)
class LivePart:
    """A part that was put into an environment.

    Attributes:
        part: ``kind:name``.
        digest: of the part rendered with this environment's values.
        content: of its files.
        values: the values that it was rendered with, by parameter.
        tables: the tables that it provides, with their columns and types.
        reads: the columns that it reads, by table.
        required: columns of its tables that are required.
        keys: the keys of its tables.
        managed: False for a schema that is only known, and never changed.
    """

    part: str
    project: str
    bundle: str
    digest: str
    content: str
    commit: str | None
    promotion: str
    put_at: str
    values: Mapping[str, str] = field(default_factory=dict)
    tables: Mapping[str, tuple[tuple[str, str], ...]] = field(default_factory=dict)
    reads: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    required: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    keys: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    managed: bool = True


@dataclass(frozen=True, kw_only=True)
class RanMigration:
    """A migration that a database has behind it."""

    schema: str
    name: str
    checksum: str
    outcome: str
    promotion: str
    ran_at: str
    script: str = ""
    """Its text, as it ran."""


@dataclass(frozen=True, kw_only=True)
class LastPromotion:
    """The latest promotion that was completed in an environment, as its database tells."""

    promotion: str
    bundle: str
    digest: str
    commit: str | None
    by: str
    at: str


@dataclass(frozen=True, kw_only=True)
class LiveItem:
    """Something that a workspace or gateway has: its digest, and for flows whether it is active."""

    part: str
    digest: str
    state: str = ""
    reason: str = ""


@dataclass(frozen=True, kw_only=True)
class Composition:
    """Everything that a draft needs to know about an environment.

    Attributes:
        identity: who we are there, e.g. ``river_service at river_test``.
        tables: live tables and views by real name.
        schedules: state of each ``pipeline.schedule``: on, off or paused.
    """

    identity: str
    read_at: str
    parts: Mapping[str, LivePart] = field(default_factory=dict)
    foreign_parts: tuple[LivePart, ...] = ()
    migrations: tuple[RanMigration, ...] = ()
    tables: Mapping[str, Table] = field(default_factory=dict)
    items: Mapping[str, LiveItem] = field(default_factory=dict)
    schedules: Mapping[str, str] = field(default_factory=dict)
    last: LastPromotion | None = None
    differences: tuple[Difference, ...] = ()
    """What the database has otherwise than promotions left it, by physical name."""
    dependents: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    """Objects that hang on tables and could not be carried along if those were replaced, in words,
    by physical name of the table."""

    @property
    def state(self) -> Digest:
        """Digest of all that a draft depends on; equal digests mean that nothing moved."""
        seen = {
            "parts": {name: part.digest for name, part in self.parts.items()},
            "migrations": [[m.schema, m.name, m.checksum] for m in self.migrations],
            "tables": {
                name: [[column.name, column.type] for column in table.columns]
                for name, table in self.tables.items()
            },
            "items": {name: [item.digest, item.state] for name, item in self.items.items()},
            "schedules": dict(self.schedules),
            "last": self.last.digest if self.last else None,
            "differences": sorted([d.key, d.what, d.now] for d in self.differences),
            "dependents": {name: list(those) for name, those in self.dependents.items()},
        }
        return digest_of(json.dumps(seen, sort_keys=True).encode())

    def drifted(self, address: DatabaseAddress) -> list[str]:
        """Parts that the bookkeeping says are there, but which are not there as they were put."""
        return sorted(
            name
            for name, part in self.parts.items()
            if (name.startswith("model:") and not self._has_tables(part, address))
            or self.differing(part, address)
            or (name.startswith(SERVICE_KINDS) and not self._has_item(part))
        )

    def differing(self, part: LivePart, address: DatabaseAddress) -> list[Difference]:
        """What is otherwise than it was put, of a model or of a schema."""
        kind, _, name = part.part.partition(":")
        if kind == "schema":
            own = f"{address.real_schema(name)}."
            return [d for d in self.differences if d.name.startswith(own) and d.is_of_schema]
        if kind == "model":
            real = {address.real_table(table) for table in part.tables}
            return [d for d in self.differences if d.name in real and not d.is_of_schema]
        return []

    def _has_tables(self, part: LivePart, address: DatabaseAddress) -> bool:
        return all(address.real_table(name) in self.tables for name in part.tables)

    def _has_item(self, part: LivePart) -> bool:
        item = self.items.get(part.part)
        return item is not None and item.digest == part.digest


class Purpose(StrEnum):
    """Why a relation of ours stands beside the live ones."""

    RESERVED = "reserved"
    """Nothing is there yet: a model is going to be built under this name."""
    STAGING = "staging"
    """A model is built in it, before it goes live."""
    REPLACED = "replaced"
    """It was live until a promotion replaced or removed it."""
    SCRATCH = "scratch"
    """A schema in which a promotion tries what it is going to do."""


@dataclass(frozen=True, kw_only=True)
class Aside:
    """A relation beside the live ones, as the bookkeeping records it.

    Attributes:
        name: its physical name.
        of: the physical name of the relation that it stands beside.
        promotion: the key of the promotion that made it.
    """

    name: str
    purpose: Purpose
    of: str
    promotion: str


STAGING = "__beside"
"""Ends the name of a staging table, unless something else has that name."""

REPLACED = "__kept"
"""Ends the name of a replaced table, unless something else has that name."""

_LONGEST_NAME = 63
"""Bytes that a table's name may have in every database that we know; PostgreSQL cuts off more."""


def aside(name: str, suffix: str, taken: Collection[str] = ()) -> str:
    """The name of a table beside ``schema.table``, short enough for every database.

    Args:
        name: the table's physical name.
        suffix: what the name ends with.
        taken: physical names that belong to others; then the suffix gets a number.
    """
    candidate = _aside(name, suffix)
    number = 2
    while candidate in taken:
        candidate = _aside(name, f"{suffix}{number}")
        number += 1
    return candidate


def _aside(name: str, suffix: str) -> str:
    schema, _, table = name.rpartition(".")
    if len((table + suffix).encode()) > _LONGEST_NAME:
        mark = hashlib.sha256(table.encode()).hexdigest()[:8]
        room = _LONGEST_NAME - len(suffix) - len(mark) - 1
        table = f"{table.encode()[:room].decode(errors='ignore')}_{mark}"
    return f"{schema}.{table}{suffix}"


SERVICE_KINDS = ("connection", "flow", "library", "notebook", "pipeline")
"""Kinds that live in a workspace or gateway rather than in a database."""
