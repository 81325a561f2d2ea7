"""Everything that a draft is made from."""

from __future__ import annotations

import datetime as dt
from collections.abc import Mapping, Sequence
from functools import cached_property

from msgspec import Struct, field

from inchworm.core.checks.findings import Finding
from inchworm.core.entry.rules import NO_RULES, Rules
from inchworm.core.environments.environment import Environment
from inchworm.core.environments.physical_names import PhysicalNames, physical_table
from inchworm.core.environments.rights import Rights
from inchworm.core.identifiers import Kind, PartId, RelationName
from inchworm.core.lineage.facts import Assembly
from inchworm.core.parameters.values import Value
from inchworm.core.parts import Digest, digest_of
from inchworm.core.promotion.aside import Aside
from inchworm.core.promotion.choosing import Sources
from inchworm.core.promotion.composition import Composition
from inchworm.core.promotion.holds import Hold
from inchworm.core.promotion.promotion import UsedSecret
from inchworm.core.promotion.rollback import Leaving, Rollback
from inchworm.core.rendered import RenderedParts, canonical
from inchworm.core.structure.changes import Change


class PlannedChanges(Struct, frozen=True, kw_only=True):
    """The changes by which a schema gets its structure, and the findings against them."""

    changes: tuple[Change, ...]
    findings: tuple[Finding, ...] = ()


class Request(Struct, frozen=True, kw_only=True, dict=True):
    """Everything that a draft is made from."""

    bundle: str
    bundle_digest: Digest
    bundle_seal: str = ""
    commit: str | None = None
    """The commit of the bundle."""
    environment: Environment
    assembly: Assembly
    rendered: RenderedParts
    values: Mapping[str, Value]
    live: Composition
    names: PhysicalNames
    today: dt.date
    came_from: str | None = None
    values_there: Mapping[str, Value] = field(default_factory=dict)
    secrets: tuple[UsedSecret, ...] = ()
    planned: Mapping[PartId, PlannedChanges] = field(default_factory=dict)
    """The changes that schemas need which are managed by their structure."""
    baselines: Mapping[PartId, Sequence[str]] = field(default_factory=dict)
    """Of schemas that may have their baseline already, what is otherwise, in words."""
    overwrite: bool = False
    """Whether changes that were made by hand may be lost."""
    overrides: Mapping[str, str] = field(default_factory=dict)
    project: str = ""
    back: bool = False
    """Whether the bundle may go back behind the one that runs there."""
    resume: frozenset[str] = frozenset()
    """Schedules and flows, by name, that were stopped by hand and are to run again."""
    put_back: bool = False
    """Whether tables of schemas that are missing are to be made again, empty."""
    clock: str = ""
    """The time by the clock of whoever drafts, ISO 8601; empty where it is not compared."""
    rights: Rights = field(default_factory=Rights)
    """What whoever promotes may do there."""
    sources: Sources = field(default_factory=dict)
    """The parts that stay as in other bundles, or stay out."""
    unchosen: frozenset[PartId] = frozenset()
    """The parts that nobody chose, where some were: these, or a part that is held or lifted."""
    is_choice: bool = False
    """Whether some of them stay because they were not chosen."""
    holds: tuple[Hold, ...] = ()
    """The holds in force afterwards."""
    mixed: tuple[Finding, ...] = ()
    """Findings about the mixture of what goes and what stays."""
    rollback: Rollback | None = None
    """What makes it a rollback."""
    replaced: Mapping[RelationName, Aside] = field(default_factory=dict)
    """Tables of the state that a rollback brings back, by the physical name that they had."""
    replaced_columns: Mapping[RelationName, frozenset[str]] = field(default_factory=dict)
    """The columns of those tables as they are now, in lower case, by the same name."""
    leaving: Leaving = field(default_factory=Leaving)
    """What the bundles that a rollback leaves know of migrations."""
    is_hold: bool = False
    """Whether it places or lifts a hold."""
    rules: Rules = NO_RULES
    """The rules by which it is let in."""
    route: tuple[Finding, ...] = ()
    """Findings about the environments that the bundle has to pass through before."""

    def physical(self, name: str) -> RelationName:
        """A logical table's name in the environment; one managed outside keeps its name."""
        return physical_table(name, self.assembly, self.environment)

    @cached_property
    def moved(self) -> Mapping[PartId, PartId]:
        """Models that are new here and say which live model they were: that model, by new id."""
        moved: dict[PartId, PartId] = {}
        for part in sorted(p for p, o in self.assembly.outlines.items() if o.moved_from):
            former = PartId(Kind.MODEL, self.assembly.outlines[part].moved_from)
            is_gone = former in self.live.parts and former not in self.assembly.parts
            if is_gone and part not in self.live.parts:
                moved[part] = former
        return moved

    @property
    def structures(self) -> list[tuple[PartId, PlannedChanges]]:
        """The schemas that are managed by their structure, each with its changes."""
        return sorted(self.planned.items(), key=lambda item: item[0])


def environment_state(environment: Environment, live: Composition) -> Digest:
    """Digest of an environment as declared and as it stands."""
    declared = {
        "url": environment.database.url,
        "schema_pattern": environment.database.schema_pattern,
        **{name: address.url for name, address in environment.services.items()},
        "default": environment.default_schedule,
        "schedules": dict(environment.schedules),
        "verify": [each.to_json() for each in environment.verifications],
        "live": live.state,
    }
    return digest_of(canonical(declared))


def values_digest(values: Mapping[str, Value]) -> Digest:
    """Digest of all values; of secrets, the references."""
    return digest_of(canonical({name: value.text for name, value in values.items()}))
