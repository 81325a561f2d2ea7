"""What is live in an environment, as its targets say when they are asked."""

from __future__ import annotations

import datetime as dt
import json
from collections.abc import Collection, Mapping, Sequence
from functools import cached_property
from typing import Any, NamedTuple

from msgspec import Struct, field
from msgspec.structs import asdict

from inchworm.core.environments.environment import DatabaseAddress
from inchworm.core.errors import TargetError
from inchworm.core.identifiers import Kind, PartId, PromotionId, promotion_key
from inchworm.core.ledger.entries import Head
from inchworm.core.parts import Digest, digest_of
from inchworm.core.promotion.holds import Hold
from inchworm.core.running.api_versions import ApiVersion
from inchworm.core.running.pauses import Pause
from inchworm.core.structure.definitions import Definition, Difference
from inchworm.core.structure.tables import Column, Table


class Interface(Struct, frozen=True, kw_only=True):
    """What a live part is to others.

    Attributes:
        values: the values that it was rendered with, by parameter.
        tables: the tables that it provides, with their columns and types.
        reads: the columns that it reads, by table.
        required: columns of its tables that are required.
        keys: the keys of its tables.
        managed: False for a schema that is only known, and never changed.
        keeps_rows: whether it is a model whose rows are nowhere else.
    """

    values: Mapping[str, str] = field(default_factory=dict)
    tables: Mapping[str, tuple[tuple[str, str], ...]] = field(default_factory=dict)
    reads: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    required: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    keys: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    managed: bool = True
    keeps_rows: bool = False

    @property
    def text(self) -> str:
        """The interface as the bookkeeping has it, in JSON."""
        return json.dumps(asdict(self), sort_keys=True)

    @classmethod
    def read(cls, text: str) -> Interface:
        """The interface that a text of the bookkeeping is."""
        body = json.loads(text)
        return cls(
            values=body["values"],
            tables={
                name: tuple((column, kind) for column, kind in columns)
                for name, columns in body["tables"].items()
            },
            reads=_names(body["reads"]),
            required=_names(body.get("required", {})),
            keys=_names(body.get("keys", {})),
            managed=body.get("managed", True),
            keeps_rows=body.get("keeps_rows", False),
        )


def _names(listed: Mapping[str, list[str]]) -> dict[str, tuple[str, ...]]:
    return {table: tuple(columns) for table, columns in listed.items()}


class LivePart(Struct, frozen=True, kw_only=True, dict=True):
    """A part that was put into an environment.

    Attributes:
        digest: of the part rendered with this environment's values.
        content: of its files.
        interface_text: its interface as JSON: of thousands of parts few are looked into.
        recipe: digest of everything that it was rendered from; empty where that was not recorded.
        structure: digest of the structure of its tables; empty where that was not recorded.
        built_on: the columns that a model reads, with the types that they had when it was built, as
            lines of :func:`typed_column`; empty where that was not recorded.
    """

    part: PartId
    project: str
    bundle: str
    digest: Digest
    content: Digest
    commit: str | None
    promotion: str
    put_at: str
    interface_text: str = Interface().text
    recipe: str = ""
    structure: str = ""
    built_on: str = ""

    @cached_property
    def interface(self) -> Interface:
        """What the part is to others.

        Raises:
            TargetError: when somebody has damaged what the database has recorded of it.
        """
        try:
            return Interface.read(self.interface_text)
        except (ValueError, KeyError, TypeError, AttributeError) as error:
            raise TargetError(
                f"what the books of Inchworm have of {self.part} is damaged: {error!r:.80}.",
                next="Restore the bookkeeping's schema from a backup of the database.",
            ) from error

    @property
    def values(self) -> Mapping[str, str]:
        """The values that it was rendered with, by parameter."""
        return self.interface.values

    @property
    def tables(self) -> Mapping[str, tuple[tuple[str, str], ...]]:
        """The tables that it provides, with their columns and types."""
        return self.interface.tables

    @property
    def table_names(self) -> Collection[str]:
        """The logical names of the tables that it provides; a model is one table of its name."""
        return (self.part.relation,) if self.part.kind is Kind.MODEL else self.tables.keys()

    @property
    def reads(self) -> Mapping[str, tuple[str, ...]]:
        """The columns that it reads, by table."""
        return self.interface.reads

    @property
    def managed(self) -> bool:
        """False for a schema that is only known, and never changed."""
        return self.part.kind is not Kind.SCHEMA or self.interface.managed


def typed_column(table: str, column: Column) -> str:
    """A column of a live table as one line: its name with that of the table, and its type."""
    return f"{table}.{column.name.lower()}\t{column.type}"


class RanMigration(Struct, frozen=True, kw_only=True):
    """A migration that a database has behind it."""

    schema: str
    name: str
    checksum: str
    outcome: str
    promotion: str
    ran_at: str
    script: str = ""
    """Its text, as it ran."""


class Mixture(Struct, frozen=True, kw_only=True):
    """The parts that a promotion did not put in place as its bundle has them.

    Attributes:
        sources: the bundle that each of them is from, by part; empty text of one that is left out.
        is_choice: whether some of them were left out by choice, and not by holds alone.
    """

    sources: Mapping[str, str] = field(default_factory=dict)
    is_choice: bool = False

    @property
    def text(self) -> str:
        """The mixture as the bookkeeping has it, in JSON; empty where everything went."""
        return json.dumps(asdict(self), sort_keys=True) if self.sources else ""

    @classmethod
    def read(cls, text: str | None) -> Mixture:
        """The mixture that a text of the bookkeeping is."""
        return cls(**json.loads(text)) if text else cls()


WHOLE = Mixture()


class Circumstances(Struct, frozen=True, kw_only=True):
    """With what a promotion came about, besides its bundle: a rollback to it brings that back.

    Attributes:
        today: the day whose values it had.
        overrides: the values that were given for once, by parameter.
        holds: those in force once it was done.
    """

    today: dt.date
    overrides: Mapping[str, str] = field(default_factory=dict)
    holds: tuple[Hold, ...] = ()

    def to_json(self) -> dict[str, Any]:
        """The circumstances as the bookkeeping and the ledger keep them."""
        return {
            "today": self.today.isoformat(),
            "overrides": dict(self.overrides),
            "holds": [hold.to_json() for hold in self.holds],
        }

    @classmethod
    def from_json(cls, data: Mapping[str, Any] | None) -> Circumstances | None:
        """The circumstances as they were kept; None where an earlier version kept none."""
        if data is None:
            return None
        return cls(
            today=dt.date.fromisoformat(data["today"]),
            overrides=data["overrides"],
            holds=tuple(map(Hold.from_json, data["holds"])),
        )


class CompletedPromotion(Struct, frozen=True, kw_only=True):
    """A promotion that was completed in an environment, as its database tells.

    Attributes:
        promotion: its key, ``ledger:P3``; former versions recorded no ledger.
        number: counts the promotions that went into the environment, from whatever ledger; given by
            the database under its lock, and 0 of what former versions recorded.
        at: when, by the database's clock, ISO 8601, UTC.
        undoes: the keys of the promotions that it took back, where it was a rollback.
        exception: who let it in although entry conditions were missing, and why; empty where none
            was.
        mixture: the parts that were not as in the bundle.
        rules: the rules by which it came in, as text; former versions recorded none.
        circumstances: with what it came about; former versions recorded none.
    """

    promotion: str
    bundle: str
    digest: str
    commit: str | None
    by: str
    at: str
    number: int = 0
    undoes: tuple[str, ...] = ()
    exception: str = ""
    mixture: Mixture = WHOLE
    rules: str = ""
    circumstances: Circumstances | None = None

    def to_json(self) -> dict[str, Any]:
        """The promotion as the ledger keeps it."""
        circumstances = self.circumstances.to_json() if self.circumstances else None
        return asdict(self) | {"mixture": asdict(self.mixture), "circumstances": circumstances}

    @classmethod
    def from_json(cls, data: Mapping[str, Any]) -> CompletedPromotion:
        """A promotion as the ledger kept it."""
        mixture = Mixture(**data["mixture"]) if "mixture" in data else WHOLE
        read = {
            "undoes": tuple(data.get("undoes", ())),
            "mixture": mixture,
            "circumstances": Circumstances.from_json(data.get("circumstances")),
        }
        return cls(**{**data, **read})

    @property
    def id(self) -> PromotionId | None:
        """The promotion with its ledger, where that was recorded."""
        return promotion_key(self.promotion)

    def named(self, ledger: str) -> str:
        """Its name to somebody who keeps a ledger: ``P3``, or ``P3 of 89d4`` of another ledger."""
        id_ = self.id
        if id_ is None or id_.ledger == ledger:
            return str(id_ or self.promotion)
        return f"{id_} of {id_.ledger[:4]}"


def passed(promotions: Sequence[CompletedPromotion], digest: Digest) -> bool:
    """Whether all of a bundle went into an environment, and was not taken back there since.

    Parts on hold may be missing; those that nobody chose may not.

    Args:
        promotions: those that were completed there, in their order.
        digest: the bundle's content digest.
    """
    undone = {key for promotion in promotions for key in promotion.undoes}
    return any(
        p.digest == digest and p.promotion not in undone and not p.mixture.is_choice
        for p in promotions
    )


class LiveItem(Struct, frozen=True, kw_only=True):
    """Something that a workspace or gateway has: its digest, and for flows whether it is active."""

    part: PartId
    digest: str
    state: str = ""
    reason: str = ""


class SetSchedule(NamedTuple):
    """The state that a promotion gave a schedule, and when, ISO 8601, UTC."""

    state: str
    at: str

    def is_overruled(self, state: str | None) -> bool:
        """Whether somebody switched the schedule since: a promotion left it paused otherwise."""
        return state in {"on", "off"} and state != self.state


class Composition(Struct, frozen=True, kw_only=True):
    """Everything that a draft needs to know about an environment.

    Attributes:
        identity: who we are there, e.g. ``river_service at river_test``.
        tables: live tables and views by real name.
        schedules: state of each ``pipeline.schedule``: on, off or paused.
        set_schedules: the state that promotions gave each of them.
    """

    identity: str
    read_at: str
    parts: Mapping[PartId, LivePart] = field(default_factory=dict)
    foreign_parts: tuple[LivePart, ...] = ()
    migrations: tuple[RanMigration, ...] = ()
    tables: Mapping[str, Table] = field(default_factory=dict)
    items: Mapping[PartId, LiveItem] = field(default_factory=dict)
    schedules: Mapping[str, str] = field(default_factory=dict)
    set_schedules: Mapping[str, SetSchedule] = field(default_factory=dict)
    pauses: tuple[Pause, ...] = ()
    notebooks_unreachable: str = ""
    """Why the server of the notebooks cannot be asked; then nothing is known of them."""
    holds: tuple[Hold, ...] = ()
    """Parts that are deliberately kept as they are, or kept out; also holds that are over."""
    promotions: tuple[CompletedPromotion, ...] = ()
    """All that were completed here, in the order that the database gave them."""
    claims: int = 0
    """How often a promotion began or went on here: the number that a draft has to find again."""
    is_simulation_new: bool = False
    """Whether the services are simulated ones that never had anything: those of a fresh clone."""
    is_unfinished: bool = False
    """Whether a promotion began here that was not completed: services may have parts of it."""
    heads: Mapping[str, Head] = field(default_factory=dict)
    """The end of each ledger's chain when a promotion of that ledger was here last."""
    differences: tuple[Difference, ...] = ()
    """What the database has otherwise than promotions left it, by physical name."""
    dependents: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    """Objects that hang on tables and could not be carried along if those were replaced, in words,
    by physical name of the table."""
    attached: Mapping[str, tuple[Definition, ...]] = field(default_factory=dict)
    """Objects that models' tables and views have, and that another one in their place is given, by
    physical name of the table or view."""
    granted: tuple[Definition, ...] = ()
    """The rights of others on our schemas, tables and views."""
    api_versions: tuple[ApiVersion, ...] = ()
    """The versions of the APIs of inward flows that were put here, by flow, the latest last."""

    @property
    def last(self) -> CompletedPromotion | None:
        """The latest promotion that was completed here."""
        return self.promotions[-1] if self.promotions else None

    @property
    def state(self) -> Digest:
        """Digest of all that a draft depends on; equal digests mean that nothing moved."""
        seen = {
            "parts": {str(part): live.digest for part, live in self.parts.items()},
            "migrations": [[m.schema, m.name, m.checksum] for m in self.migrations],
            "tables": {
                name: [[column.name, column.type] for column in table.columns]
                for name, table in self.tables.items()
            },
            "items": {str(part): [item.digest, item.state] for part, item in self.items.items()},
            "schedules": dict(self.schedules),
            "set_schedules": {name: given.state for name, given in self.set_schedules.items()},
            "claims": self.claims,
            "last": self.last.digest if self.last else None,
            "differences": sorted(d.mark for d in self.differences),
            "foreign": sorted([p.project, str(p.part), p.digest] for p in self.foreign_parts),
            "dependents": {name: list(those) for name, those in self.dependents.items()},
        }
        return digest_of(json.dumps(seen, sort_keys=True).encode())

    def drifted(self, address: DatabaseAddress) -> list[PartId]:
        """Parts that the bookkeeping says are there, but which are not there as they were put."""
        return sorted(
            part
            for part, live in self.parts.items()
            if (part.kind is Kind.MODEL and not self._has_table(live, address))
            or self.differing(live, address)
            or (part.kind.is_service and not self._has_item(live) and not self.is_simulation_new)
            if not (self.notebooks_unreachable and part.kind is Kind.NOTEBOOK)
        )

    def switched_by_hand(self, schedule: str) -> SetSchedule | None:
        """The state that a promotion gave a ``pipeline.schedule``, if somebody changed it since.

        One that a promotion left paused was not switched by hand.
        """
        given = self.set_schedules.get(schedule)
        return given if given and given.is_overruled(self.schedules.get(schedule)) else None

    def stopped_by_hand(self, part: PartId) -> bool:
        """Whether a flow that a promotion had switched on does not run any more."""
        item = self.items.get(part)
        return part.kind.is_activated and item is not None and item.state != "active"

    def _switched(self, part: PartId) -> list[Difference]:
        """What was switched on or off by hand, of a part that lives in a service."""
        switched = [
            Difference(
                key=f"schedule {name}", name=str(part), what="changed", was=given.state, now=now
            )
            for name, now in self.schedules.items()
            if part.kind is Kind.PIPELINE and name.rpartition(".")[0] == part.name
            if (given := self.switched_by_hand(name)) is not None
        ]
        if self.stopped_by_hand(part):
            now = self.items[part].state
            stopped = f"state of {part}"
            switched.append(
                Difference(key=stopped, name=str(part), what="changed", was="active", now=now)
            )
        return switched

    def differing(self, part: LivePart, address: DatabaseAddress) -> list[Difference]:
        """What is otherwise than it was put, of a model or schema; or switched, of a service."""
        if part.part.kind.is_service:
            return self._switched(part.part)
        if not self.differences:
            return []
        if not part.managed:
            names = set(part.table_names)
            return [d for d in self.differences if d.name in names and not d.is_of_schema]
        if part.part.kind is Kind.SCHEMA:
            own = address.physical_schema(part.part.name)
            return [d for d in self.differences if d.schema == own and d.is_of_schema]
        if part.part.kind is Kind.MODEL:
            physical = {address.physical_table(table) for table in part.table_names}
            return [d for d in self.differences if d.relation in physical and not d.is_of_schema]
        return []

    def _has_table(self, model: LivePart, address: DatabaseAddress) -> bool:
        return address.physical_table(model.part.relation) in self.tables

    def _has_item(self, part: LivePart) -> bool:
        item = self.items.get(part.part)
        return item is not None and item.digest == part.digest
