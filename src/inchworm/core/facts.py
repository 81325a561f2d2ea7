"""Facts: what one part provides, reads, needs and uses.

Facts are worked out per part, purely, from its files and the structures that it reads. Everything
that looks across parts (lineage graph, rules, drafts) works on facts and never on files.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from functools import cached_property

from inchworm.core.findings import Finding
from inchworm.core.lineage import Edge, Graph, Node
from inchworm.core.parameters import Matrix
from inchworm.core.parts import Kind, Part, PartId
from inchworm.core.structure.tables import Table


@dataclass(frozen=True, kw_only=True)
class Read:
    """A table that a part reads, and the columns of it; ``None`` stands for all of them."""

    table: str
    columns: frozenset[str] | None
    file: str
    line: int | None = None


@dataclass(frozen=True, kw_only=True)
class Use:
    """A place where a part uses a parameter; ``safe`` says that a secret may stand there."""

    parameter: str
    file: str
    line: int | None = None
    safe: bool = False


@dataclass(frozen=True, kw_only=True)
class Need:
    """A place where a part names another part. ``wanted`` is what was written there."""

    wanted: PartId
    file: str
    line: int | None = None


@dataclass(frozen=True, kw_only=True)
class Stage:
    """One step of a pipeline: the parts that it works on, and the steps that come before it."""

    name: str
    works_on: tuple[PartId, ...]
    after: tuple[str, ...]
    file: str
    line: int | None = None


@dataclass(frozen=True, kw_only=True)
class Facts:
    """All that is known about one part."""

    part: PartId
    provides: tuple[Table, ...] = ()
    """Tables that exist because of this part."""
    fills: tuple[str, ...] = ()
    """Tables that the part writes rows into."""
    reads: tuple[Read, ...] = ()
    edges: tuple[Edge, ...] = ()
    needs: tuple[Need, ...] = ()
    uses: tuple[Use, ...] = ()
    stages: tuple[Stage, ...] = ()
    schedules: tuple[str, ...] = ()
    managed_outside: bool = False
    classes: tuple[tuple[Node, str], ...] = ()
    """Columns that are declared to be of a class, such as ``personal``."""
    declassified: tuple[tuple[Node, str], ...] = ()
    """Columns at which classes end, each with the reason."""
    cleared: tuple[str, ...] = ()
    """Classes that a reader outside may receive."""


@dataclass(frozen=True, kw_only=True)
class Assembly:
    """A whole project version: its parts, the facts about them, and the findings so far."""

    name: str
    version: str
    dialect: str
    parts: Mapping[PartId, Part]
    facts: Mapping[PartId, Facts]
    tables: Mapping[str, Table]
    provider: Mapping[str, PartId]
    """Which part a table exists because of."""
    model_order: tuple[PartId, ...]
    """Models so that each comes after those that it reads."""
    matrix: Matrix
    environments: tuple[str, ...]
    environment_uses: tuple[Use, ...] = ()
    """Parameters that environment files use; they are read from the operator's checkout."""
    findings: tuple[Finding, ...] = ()

    @cached_property
    def graph(self) -> Graph:
        """The lineage graph of all parts."""
        return Graph(edge for facts in self.facts.values() for edge in facts.edges)

    @cached_property
    def outside_schemas(self) -> frozenset[str]:
        """Schemas that are only known here, and never changed."""
        return frozenset(part.name for part, facts in self.facts.items() if facts.managed_outside)

    @cached_property
    def fed_by(self) -> Mapping[PartId, frozenset[PartId]]:
        """For each part, the parts whose tables it reads directly."""
        return {
            part: frozenset(
                self.provider[read.table]
                for read in facts.reads
                if read.table in self.provider and self.provider[read.table] != part
            )
            for part, facts in self.facts.items()
        }

    def of_kind(self, kind: Kind) -> list[PartId]:
        """The parts of one kind, by name."""
        return sorted(part for part in self.parts if part.kind is kind)
