"""Facts: what one part provides, reads, needs and uses.

Facts are worked out per part, purely, from its files and the structures that it reads. Everything
that looks across parts (lineage graph, rules, drafts) works on facts and never on files.

Of a large project, most facts are needed only now and then. So each part also has an *outline*,
which says whether its facts still hold and whom they touch; an assembly has all outlines at hand,
and fetches facts when they are asked for.
"""

from __future__ import annotations

import hashlib
from collections import defaultdict
from collections.abc import Callable, Iterator, Mapping
from enum import StrEnum
from functools import cached_property, lru_cache
from typing import NamedTuple

from msgspec import Struct

from inchworm.core.checks.findings import Finding
from inchworm.core.environments.verification import Verification
from inchworm.core.identifiers import Kind, PartId
from inchworm.core.lineage.graph import Edge, Graph, Node
from inchworm.core.parameters.literals import Literal
from inchworm.core.parameters.matrix import Matrix
from inchworm.core.parts import Digest, Part
from inchworm.core.sql.declared import NOTHING_DECLARED, Declared
from inchworm.core.structure.tables import Table


class Read(NamedTuple):
    """A table that a part reads, and the columns of it; ``None`` stands for all of them."""

    table: str
    columns: frozenset[str] | None
    file: str
    line: int | None = None


class Unportable(NamedTuple):
    """A place where a query has a form that databases of some dialects lack."""

    form: str
    lacking: tuple[str, ...]
    file: str
    line: int | None = None


class Trait(StrEnum):
    """A property of a model."""

    VIEW = "view"
    """It is a view, so that reading it does its work."""
    STAR = "star"
    """It shows all columns of something, whatever they are."""


class Use(NamedTuple):
    """A place where a part uses a parameter; ``safe`` says that a secret may stand there."""

    parameter: str
    file: str
    line: int | None = None
    safe: bool = False
    expects: str = ""
    """The type that the setting takes there: ``duration``, ``integer``, ``text``, or any."""


class Need(NamedTuple):
    """A place where a part names another part. ``wanted`` is what was written there."""

    wanted: PartId
    file: str
    line: int | None = None
    place: str = ""
    """The kind of place that a connection or flow has to lead to: ``files``, ``mail``, or any."""


class Stage(NamedTuple):
    """One step of a pipeline: the parts that it works on, and the steps that come before it."""

    name: str
    works_on: tuple[PartId, ...]
    after: tuple[str, ...]
    file: str
    line: int | None = None


class Scheduled(NamedTuple):
    """When a pipeline starts: by the clock, after another pipeline, or when files have arrived."""

    name: str
    cron: str
    """Five fields; empty where it does not start by the clock."""
    timezone: str
    after: str = ""
    """The pipeline whose successful end starts it."""
    arrives: str = ""
    """The copying flow that starts it when it has files to take."""

    @property
    def text(self) -> str:
        """It in words."""
        if self.cron:
            return f"{self.cron} {self.timezone}"
        return f"after {self.after}" if self.after else f"when {self.arrives} has files"


class Facts(Struct, frozen=True, kw_only=True):
    """The facts of one part: its tables, reads, edges, needs and uses."""

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
    schedules: tuple[Scheduled, ...] = ()
    managed_outside: bool = False
    keeps_rows: bool = False
    """Whether it is a model whose rows stay when it changes: they are nowhere else."""
    moved_from: str = ""
    """The logical name that a model had before."""
    classes: tuple[tuple[Node, str], ...] = ()
    """Columns that are declared to be of a class, such as ``personal``."""
    declassified: tuple[tuple[Node, str], ...] = ()
    """Columns at which classes end, each with the reason."""
    counts: tuple[Node, ...] = ()
    """Columns that only say how many there are, so that no class goes further than to them."""
    cleared: tuple[str, ...] = ()
    """Classes that a reader outside may receive."""
    documents: tuple[str, ...] = ()
    """Paths of shared files that count as files of the part."""

    addresses: tuple[str, ...] = ()
    """Places that the part reaches, with ``${parameters}``; not those declared to be shared."""
    place: str = ""
    """The kind of place that a connection leads to, or that a flow takes from or gives to."""
    owner: str = ""
    """Who answers for the part."""
    documented: tuple[str, ...] = ()
    """What is said about the part: ``about``, and ``column:NAME`` for its columns."""
    checks: tuple[str, ...] = ()
    """The checks on the data of a model, in words."""
    verifications: tuple[Verification, ...] = ()
    """What the part asks once a promotion has put it in place."""
    requires: tuple[str, ...] = ()
    """The Python packages that a library needs, as PEP 508 writes them."""
    python: str = ""
    """The versions of Python that a library needs."""
    traits: tuple[Trait, ...] = ()
    """What rules about several parts want to know of a model."""
    unportable: tuple[Unportable, ...] = ()
    """Forms in its queries that other databases lack."""

    @property
    def columns_read(self) -> Mapping[str, frozenset[str]]:
        """The columns that are read of each table, however many reads there are."""
        columns: dict[str, frozenset[str]] = {}
        for read in self.reads:
            columns[read.table] = columns.get(read.table, frozenset()) | (
                read.columns or frozenset()
            )
        return columns


class Outline(Struct, frozen=True, omit_defaults=True):
    """The part of the facts that is looked at for every part, and what they were worked out from.

    Attributes:
        digest: over the part's own files.
        saw: what was looked up while working the facts out: tables by name, each with the digest
            of its structure (empty when there was none), and shared files by path.
        interfaces: the tables that the part provides, each with the digest of its structure.
        reads: the tables that it reads.
        touches: the owners of all nodes at the ends of its edges.
        wrong: reads of tables and columns that are not there.
        findings: what else is wrong with the part by itself.
        file: the path of its main file.
        readable: False when the part could not be read, so that it has findings but no facts.
    """

    part: PartId
    file: str
    digest: Digest
    saw: Mapping[str, str]
    interfaces: Mapping[str, str]
    reads: tuple[str, ...]
    touches: tuple[str, ...]
    fills: tuple[str, ...] = ()
    documents: tuple[str, ...] = ()
    needs: tuple[Need, ...] = ()
    uses: tuple[Use, ...] = ()
    stages: tuple[Stage, ...] = ()
    schedules: tuple[Scheduled, ...] = ()
    managed_outside: bool = False
    keeps_rows: bool = False
    moved_from: str = ""
    classes: tuple[tuple[Node, str], ...] = ()
    declassified: tuple[tuple[Node, str], ...] = ()
    counts: tuple[Node, ...] = ()
    cleared: tuple[str, ...] = ()
    addresses: tuple[str, ...] = ()
    place: str = ""
    owner: str = ""
    documented: tuple[str, ...] = ()
    checks: tuple[str, ...] = ()
    verifications: tuple[Verification, ...] = ()
    requires: tuple[str, ...] = ()
    python: str = ""
    traits: tuple[Trait, ...] = ()
    unportable: tuple[Unportable, ...] = ()
    literals: tuple[Literal, ...] = ()
    wrong: tuple[Read, ...] = ()
    findings: tuple[Finding, ...] = ()
    readable: bool = True

    @property
    def schedule_names(self) -> tuple[str, ...]:
        """The names of the schedules of a pipeline."""
        return tuple(schedule.name for schedule in self.schedules)


_BY_DEFAULT = Outline.__struct_fields__[-len(Outline.__struct_defaults__) :]
IN_BOTH = tuple(name for name in Facts.__struct_fields__ if name in _BY_DEFAULT)
"""What facts and their outline say alike."""


@lru_cache(maxsize=4096)
def structure_digest(table: Table) -> str:
    """What readers of a table depend on, as a short text."""
    lines = [f"{c.name}\0{c.type}\0{c.required}" for c in table.columns]
    text = "\n".join([table.name, str(table.open), *table.key, "", *lines])
    return hashlib.sha256(text.encode()).hexdigest()[:20]


def interfaces_digest(outline: Outline) -> str:
    """What readers of any table of a part depend on, as a short text."""
    lines = [f"{name} {digest}" for name, digest in sorted(outline.interfaces.items())]
    return hashlib.sha256("\n".join(lines).encode()).hexdigest()[:20]


def outline_of(
    facts: Facts,
    *,
    file: str,
    digest: Digest,
    saw: Mapping[str, str],
    tables: Mapping[str, Table],
    findings: tuple[Finding, ...],
    literals: tuple[Literal, ...] = (),
    readable: bool = True,
) -> Outline:
    """The outline of facts that were just worked out.

    Args:
        facts: the facts.
        file: the path of the part's main file.
        digest: over the part's own files.
        saw: what was looked up for them.
        tables: the known tables; looking there counts as looking up.
        findings: what was found wrong.
        literals: texts that are written out in its files.
        readable: whether there are facts at all.
    """
    wrong = [w for read in facts.reads if (w := _wrong(read, tables.get(read.table))) is not None]
    ends = {end.owner for edge in facts.edges for end in (edge.source, edge.target)}
    return Outline(
        part=facts.part,
        file=file,
        digest=digest,
        saw=saw,
        interfaces={table.name: structure_digest(table) for table in facts.provides},
        reads=tuple(sorted({read.table for read in facts.reads})),
        touches=tuple(sorted(ends)),
        **{name: getattr(facts, name) for name in IN_BOTH},
        literals=literals,
        wrong=tuple(wrong),
        findings=findings,
        readable=readable,
    )


def _wrong(read: Read, table: Table | None) -> Read | None:
    """The read, as far as it is of something that is not there."""
    if table is None:
        return read._replace(columns=None)
    gone = () if table.open else [c for c in sorted(read.columns or ()) if c not in table.by_name]
    return read._replace(columns=frozenset(gone)) if gone else None


class FactsOf(Mapping[PartId, Facts]):
    """The facts of all readable parts, fetched when they are asked for."""

    def __init__(
        self, outlines: Mapping[PartId, Outline], fetch: Callable[[PartId], Facts]
    ) -> None:
        self._outlines = outlines
        self._fetch = fetch
        self._fetched: dict[PartId, Facts] = {}

    def __getitem__(self, part: PartId) -> Facts:
        facts = self._fetched.get(part)
        if facts is None:
            if part not in self:
                raise KeyError(part)
            facts = self._fetched[part] = self._fetch(part)
        return facts

    def __contains__(self, part: object) -> bool:
        return part in self._outlines and self._outlines[part].readable  # type: ignore[index]

    def __iter__(self) -> Iterator[PartId]:
        return (part for part, outline in self._outlines.items() if outline.readable)

    def __len__(self) -> int:
        return sum(outline.readable for outline in self._outlines.values())


class TablesOf(Mapping[str, Table]):
    """All tables by name, fetched when they are asked for; of two with one name, the first."""

    def __init__(
        self, outlines: Mapping[PartId, Outline], fetch: Callable[[PartId], Facts]
    ) -> None:
        self._fetch = fetch
        self._fetched: dict[str, Table] = {}
        self.provider: dict[str, PartId] = {}
        for part in sorted(outlines, key=_provider_rank):
            for name in outlines[part].interfaces:
                self.provider.setdefault(name, part)

    def renew(self, before: Outline | None, outline: Outline) -> bool:
        """Whether the tables of a part could be replaced by those that it provides now.

        They cannot where it no longer provides one, which another part may provide as well.

        Args:
            before: the part's outline until now, if it had one.
            outline: that which it has from now on.
        """
        part = outline.part
        gone = before.interfaces.keys() - outline.interfaces.keys() if before else ()
        if any(self.provider.get(name) == part for name in gone):
            return False
        for name in outline.interfaces:
            self._fetched.pop(name, None)
            self.provider[name] = min(self.provider.get(name, part), part, key=_in_order)
        return True

    def __getitem__(self, name: str) -> Table:
        table = self._fetched.get(name)
        if table is None:
            tables = self._fetch(self.provider[name]).provides
            table = self._fetched[name] = next(t for t in tables if t.name == name)
        return table

    def __contains__(self, name: object) -> bool:
        return name in self.provider

    def __iter__(self) -> Iterator[str]:
        return iter(self.provider)

    def __len__(self) -> int:
        return len(self.provider)


_PROVIDER_RANK = {Kind.SCHEMA: 0, Kind.NOTEBOOK: 1}


def _provider_rank(part: PartId) -> int:
    return _PROVIDER_RANK.get(part.kind, 2)


def _in_order(part: PartId) -> tuple[int, PartId]:
    return _provider_rank(part), part


class Policies(Struct, frozen=True, kw_only=True):
    """The kinds of part of which the project wants something said."""

    about: frozenset[Kind] = frozenset()
    owner: frozenset[Kind] = frozenset()
    columns: frozenset[Kind] = frozenset()


class Assembly(Struct, frozen=True, kw_only=True, dict=True):
    """A whole project version: its parts, what is known about them, and the findings so far."""

    name: str
    version: str
    dialect: str
    parts: Mapping[PartId, Part]
    outlines: Mapping[PartId, Outline]
    fetch: Callable[[PartId], Facts]
    """The facts of one part."""
    model_order: tuple[PartId, ...]
    """Models so that each comes after those that it reads."""
    matrix: Matrix
    environments: tuple[str, ...]
    policies: Policies = Policies()
    environment_uses: tuple[Use, ...] = ()
    """Parameters that environment files use, read from the operator's checkout, and the
    declared places outside."""
    sources: Declared = NOTHING_DECLARED
    """The places outside the database that are read."""
    findings: tuple[Finding, ...] = ()

    @cached_property
    def facts(self) -> Mapping[PartId, Facts]:
        """The facts of every part that could be read."""
        return FactsOf(self.outlines, self.fetch)

    @cached_property
    def tables(self) -> TablesOf:
        """All known tables by name."""
        return TablesOf(self.outlines, self.fetch)

    @cached_property
    def provider(self) -> Mapping[str, PartId]:
        """Which part a table exists because of."""
        return {t: p for t, p in self.tables.provider.items() if self.outlines[p].readable}

    @cached_property
    def touching(self) -> Mapping[str, list[PartId]]:
        """The parts whose edges begin or end at a table or part."""
        parts: dict[str, list[PartId]] = defaultdict(list)
        for part, outline in self.outlines.items():
            for owner in outline.touches:
                parts[owner].append(part)
        return parts

    @cached_property
    def graph(self) -> Graph[PartId]:
        """The lineage graph of all parts; its edges are fetched as a walk comes to them."""
        return Graph(self.touching, lambda part: self.facts[part].edges)

    @cached_property
    def outside_schemas(self) -> frozenset[str]:
        """Schemas that are only known here, and never changed."""
        return frozenset(p.name for p, outline in self.outlines.items() if outline.managed_outside)

    @cached_property
    def upstream(self) -> Mapping[PartId, frozenset[PartId]]:
        """For each part, the parts whose tables it reads directly."""
        provider = self.provider
        return {
            part: frozenset(provider[t] for t in outline.reads if t in provider) - {part}
            for part, outline in self.outlines.items()
            if outline.readable
        }

    def of_kind(self, kind: Kind) -> list[PartId]:
        """The parts of one kind, by name."""
        return sorted(part for part in self.parts if part.kind is kind)
