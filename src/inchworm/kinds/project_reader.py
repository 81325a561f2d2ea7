"""From a project version's files to an assembly: parts, facts, and what is wrong.

The same code reads a source tree and a bundle. What was worked out earlier is taken over as long as
the part's files, and the structure of every table that was looked up for it, are what they were. So
reading goes in rounds: parts whose files are new are worked out; then those whose tables have
another structure since; until nothing is left to do.
"""

from __future__ import annotations

import re
from collections import ChainMap, defaultdict
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping
from functools import cache, cached_property
from graphlib import CycleError, TopologicalSorter
from typing import Any, NamedTuple

from msgspec import Struct, field

from inchworm.core.checks import rules
from inchworm.core.checks.findings import Finding
from inchworm.core.identifiers import Kind, PartId
from inchworm.core.lineage.analysis import Analysis
from inchworm.core.lineage.facts import (
    Assembly,
    Facts,
    Outline,
    Policies,
    TablesOf,
    Use,
    structure_digest,
)
from inchworm.core.lineage.facts_cache import UNREADABLE, FactsCache
from inchworm.core.lineage.facts_text import Held, read_facts
from inchworm.core.parameters.matrix import read_files
from inchworm.core.parameters.values import Value
from inchworm.core.parts import LIBRARY_TESTS, Contents, Part, SourceFile
from inchworm.core.rendered import Rendered
from inchworm.core.sql.declared import FILE as SOURCES
from inchworm.core.sql.declared import NOTHING_DECLARED, Declared
from inchworm.core.structure.tables import Table
from inchworm.kinds.analysis import (
    EVERY_NAME,
    FILE_PREFIX,
    digest_of_names,
    kind_of,
    with_documents,
    work_out,
)
from inchworm.kinds.base import Surroundings
from inchworm.kinds.registry import FOLDERS, SEEN_BY_OTHERS, UNFIT, part_of

_MENTION = re.compile(r"(\w+)\s*\.\s*(\w+)")
_QUOTES = str.maketrans("", "", '"`[]\\')
_ROUNDS = 200

WORTH_IT = 200_000
"""Bytes of text below which starting processes takes longer than it saves."""


class Reading(Struct, frozen=True, kw_only=True):
    """An assembly, and the definitions behind it, which are read again when they are asked for."""

    assembly: Assembly
    shared: Contents

    def definition(self, part: PartId) -> Any:
        """The definition in a part's files; None when they cannot be read."""
        surroundings = Surroundings(
            dialect=self.assembly.dialect,
            shared=self.shared,
            in_order=not self.assembly.outlines[part].findings,
        )
        return kind_of(part.kind).read(self.assembly.parts[part], surroundings, lambda _: None)

    def render(self, part: PartId, values: Mapping[str, Value]) -> Rendered:
        """A part with one environment's values.

        Raises:
            KeyError: with the name of a parameter that has no value.
        """
        return kind_of(part.kind).render(self.definition(part), values)


def _sources(contents: Contents) -> tuple[Declared, list[Finding], tuple[Use, ...]]:
    """The places outside that are declared, what is wrong with them, and parameters in them.

    Most projects declare none, and need not wait for what reads the file.
    """
    if SOURCES not in contents:
        return NOTHING_DECLARED, [], ()
    from inchworm.kinds.sources import check_sources, declared_in

    return declared_in(contents), *check_sources(contents)


def read_project(
    *,
    name: str,
    version: str,
    dialect: str,
    files: Mapping[str, bytes],
    environments: Iterable[str] | None = None,
    environment_uses: Iterable[Use] = (),
    policies: Policies | None = None,
    known: FactsCache | None = None,
) -> Reading:
    """Read all parts and work out their facts; what is wrong becomes findings.

    Args:
        name: the project's name.
        version: its version.
        dialect: the SQL dialect of its models and scripts.
        files: contents by path, relative to the project, with forward slashes.
        environments: names that the parameter matrix must have values for; a bundle knows none.
        environment_uses: parameters that environment files use.
        policies: what the project wants said about its parts.
        known: facts as text from an earlier reading in the same dialect; brought up to date.
    """
    contents = files if isinstance(files, Contents) else Contents(files)
    known_environments = None if environments is None else tuple(environments)
    matrix, findings = read_files(contents, known_environments)
    sources, wrong_sources, source_uses = _sources(contents)
    findings += wrong_sources
    shared = contents.below(SEEN_BY_OTHERS)
    known = Held() if known is None else known
    if known.analysis is not None:
        outcome = _recalled(known.analysis, contents, shared, dialect, known)
    else:
        outcome = _worked_out(contents, shared, dialect, known)
        if known.keeps_analysis:
            known.analysis = Analysis.of(
                outcome.parts, outcome.outlines.values(), outcome.order, outcome.findings
            )
    assembly = Assembly(
        name=name,
        version=version,
        dialect=dialect,
        parts=outcome.parts,
        outlines=outcome.outlines,
        fetch=outcome.fetch,
        model_order=outcome.order,
        matrix=matrix,
        environments=known_environments or (),
        policies=policies or Policies(),
        environment_uses=(*environment_uses, *source_uses),
        sources=sources,
        findings=(*findings, *outcome.findings),
    )
    return Reading(assembly=assembly, shared=shared)


class _Outcome(NamedTuple):
    """What reading all parts comes to."""

    parts: Mapping[PartId, Part]
    outlines: Mapping[PartId, Outline]
    fetch: Callable[[PartId], Facts]
    order: tuple[PartId, ...]
    findings: tuple[Finding, ...]


def _worked_out(contents: Contents, shared: Contents, dialect: str, known: FactsCache) -> _Outcome:
    """All parts, and whatever is not known about them, or no longer true, worked out."""
    findings: list[Finding] = []
    parts = _parts(contents, findings)
    rounds = _Rounds(parts, shared, dialect, known)
    rounds.go()
    findings += rounds.cycles
    for outline in rounds.outlines.values():
        findings += outline.findings
    return _Outcome(
        parts={p: with_documents(parts[p], o, shared) for p, o in rounds.outlines.items()},
        outlines=rounds.outlines,
        fetch=rounds.fetch,
        order=rounds.order,
        findings=tuple(findings),
    )


def _recalled(
    analysis: Analysis, contents: Contents, shared: Contents, dialect: str, known: FactsCache
) -> _Outcome:
    """All parts as they were when just these files were read before."""
    outlines = {outline.part: outline for outline in analysis.outlines}

    @cache
    def rounds() -> _Rounds:
        return _Rounds(_parts(contents, []), shared, dialect, known, dict(outlines))

    def fetch(part: PartId) -> Facts:
        try:
            return read_facts(known[part])
        except UNREADABLE:  # their text is lost, or of other files by now
            return rounds().fetch(part)

    return _Outcome(analysis.parts(contents), outlines, fetch, analysis.order, analysis.findings)


def _parts(contents: Contents, findings: list[Finding]) -> dict[PartId, Part]:
    """Which part each file belongs to."""
    by_part: dict[PartId, list[SourceFile]] = defaultdict(list)
    for path in sorted(contents):
        part = part_of(path)
        if part is not None:
            by_part[part].append(SourceFile(path, contents))
        elif path.startswith(LIBRARY_TESTS):
            continue
        elif path.partition("/")[0] in FOLDERS and not path.lower().endswith(_BESIDE):
            unfit = UNFIT.search(path.partition("/")[2].replace("/", ""))
            message = f"belongs to no part: no name has {unfit.group()!r}" if unfit else _STRAY
            findings.append(rules.STRAY_FILE.finding(message, file=path))
    return {part: Part(id=part, files=tuple(by_part[part])) for part in sorted(by_part)}


_STRAY = "belongs to no part"
_BESIDE = (".md", ".rst", ".txt", ".gitkeep", ".gitignore")
"""Endings of files that explain the parts beside them."""


class _Rounds(Struct, dict=True):
    """Brings the facts of all parts up to date."""

    parts: Mapping[PartId, Part]
    shared: Contents
    dialect: str
    known: FactsCache
    outlines: dict[PartId, Outline] = field(default_factory=dict)
    order: tuple[PartId, ...] = ()
    cycles: list[Finding] = field(default_factory=list)
    cut: set[tuple[PartId, str]] = field(default_factory=set)

    def go(self) -> None:
        """Work out whatever is not known, or no longer true."""
        for part in set(self.known) - self.parts.keys():
            del self.known[part]
        fresh = [part for part in self.parts.values() if not self._take_over(part)]
        for kinds in ({Kind.SCHEMA}, {Kind.NOTEBOOK}, {Kind.MODEL}):
            self._work_out([part for part in fresh if part.id.kind in kinds])
        rest = [part for part in fresh if part.id not in self.outlines]
        self._work_out(rest)
        for _ in range(_ROUNDS):
            self.outlines = {part: self.outlines[part] for part in self.parts}
            self.__dict__.pop("tables", None)
            self._order_models()
            stale = [self.parts[part] for part in self._stale()]
            if not stale:
                break
            self._work_out(stale)

    @cached_property
    def tables(self) -> TablesOf:
        """All tables that are known so far."""
        return TablesOf(self.outlines, self.fetch)

    def fetch(self, part: PartId) -> Facts:
        """The facts of one part; worked out once more if their text is lost or damaged."""
        try:
            return read_facts(self.known[part])
        except UNREADABLE:
            self._work_out_here(part)
            return read_facts(self.known[part])

    def _take_over(self, part: Part) -> bool:
        """Whether there is an outline of just these files."""
        outline = self.known.outline_of(part.id, part.digest)
        if outline is None:
            return False
        self.outlines[part.id] = outline
        return True

    # ---- working out --------------------------------------------------------------------------

    def _work_out(self, parts: list[Part]) -> None:
        self.__dict__.pop("tables", None)
        done: set[PartId] = set()
        if sum(len(f.content) for part in parts for f in part.files) >= WORTH_IT:
            for part, text in self._on_all_cores(parts):
                if text is not None:
                    self._keep(part.id, text)
                    done.add(part.id)
        left = {part.id: part for part in parts if part.id not in done}
        for id_ in self._believed_order(left):
            self._work_out_here(id_)

    def _work_out_here(self, part: PartId) -> None:
        cut = {table: _cut_off(table) for reader, table in self.cut if reader == part}
        tables = ChainMap(cut, self.tables) if cut else self.tables  # type: ignore[arg-type]
        self._keep(part, work_out(self.parts[part], self.dialect, self.shared, tables))

    def _on_all_cores(self, parts: list[Part]) -> Iterator[tuple[Part, str | None]]:
        from inchworm.kinds.parallel_analysis import (  # processes, only when worth it
            Common,
            work_out_many,
        )

        models = {part.name: part for part in self.parts if part.kind is Kind.MODEL}
        provider = {**models, **self.tables.provider}
        reads = {part.id: self._believed_reads(part, provider) for part in parts}
        chosen = {part.id for part in parts}
        cut_here = {part for part, _ in self.cut}
        return work_out_many(
            [part for part in parts if part.id not in cut_here],
            {p: ({provider[t] for t in reads[p]} - {p}) & chosen for p in chosen},
            self.known,
            provider,
            reads,
            Common(
                dialect=self.dialect,
                shared=Contents(dict(self.shared)),
                names=frozenset(provider),
            ),
        )

    def _believed_reads(self, part: Part, provider: Mapping[str, PartId]) -> set[str]:
        """Tables that a part seems to read: as it was found to, or everything that it mentions."""
        outline = self.outlines.get(part.id)
        if outline is not None:
            return {table for table in outline.saw if table in provider}
        tables: set[str] = set()
        for file in part.files:
            text = file.content.decode("utf-8", "replace").lower().translate(_QUOTES)
            tables |= {f"{a}.{b}" for a, b in _MENTION.findall(text)} & provider.keys()
        return tables

    def _believed_order(self, parts: Mapping[PartId, Part]) -> Iterable[PartId]:
        """Parts after those that they seem to read; circles are cut anywhere."""
        if len(parts) < 2:
            return list(parts)
        provider = {**{p.name: p for p in parts if p.kind is Kind.MODEL}, **self.tables.provider}
        after = {
            id_: ({provider[t] for t in self._believed_reads(part, provider)} - {id_})
            & parts.keys()
            for id_, part in parts.items()
        }
        order, _ = _sorted_or_cut(after)
        return order

    def _keep(self, part: PartId, text: str) -> None:
        self.known[part] = text
        outline = self.known.outline(part)
        assert outline is not None  # it was just put there
        before = self.outlines.get(part)
        self.outlines[part] = outline
        tables: TablesOf | None = self.__dict__.get("tables")
        if tables is not None and not tables.renew(before, outline):
            del self.tables

    # ---- what is out of date ------------------------------------------------------------------

    def _stale(self) -> list[PartId]:
        """Parts for which something is not what it was when they were worked out."""
        state = {
            table: self.outlines[provider].interfaces[table]
            for table, provider in self.tables.provider.items()
        }
        state[EVERY_NAME] = digest_of_names(state)
        cut_from = {part for part, _ in self.cut}
        stale = []
        for part, outline in self.outlines.items():
            for name, was in outline.saw.items():
                now = state.get(name, "")
                if part in cut_from and (part, name) in self.cut:
                    now = structure_digest(_cut_off(name))
                elif name.startswith(FILE_PREFIX):
                    now = self._digest_of_file(name.removeprefix(FILE_PREFIX))
                if now != was:
                    stale.append(part)
                    break
        return stale

    def _digest_of_file(self, path: str) -> str:
        if path == EVERY_NAME:
            return digest_of_names(self.shared)
        return self.shared.digest(path) if path in self.shared else ""

    def _order_models(self) -> None:
        """Models so that each comes after those that it reads; cycles are reported and cut."""
        models = {part.name: part for part in self.parts if part.kind is Kind.MODEL}
        if self._is_still_in_order(models):
            self.order, self.cut, self.cycles = (
                tuple(models[n] for n in self.known.order),
                set(),
                [],
            )
            return
        after = {
            part: {models[t] for t in self.outlines[part].reads if t in models}
            for part in models.values()
        }
        self.order, rings = _sorted_or_cut(after)
        self.known.order = [part.name for part in self.order] if not rings else ()
        self.cut = {(ring[0], ring[1].name) for ring in rings}
        self.cycles = []
        reported: set[PartId] = set()
        for ring in rings:  # one mistake may close many circles through the same parts
            if reported.isdisjoint(ring):
                self.cycles.append(self._cycle(ring))
            reported.update(ring)

    def _is_still_in_order(self, models: Mapping[str, PartId]) -> bool:
        at = {name: i for i, name in enumerate(self.known.order)}
        return at.keys() == models.keys() and all(
            at.get(table, -1) < at[name]
            for name, part in models.items()
            for table in self.outlines[part].reads
        )

    def _cycle(self, ring: list[PartId]) -> Finding:
        first, target = ring[0], ring[1]
        reads = [r for r in self.fetch(first).reads if r.table == target.name]
        return rules.CYCLE.finding(
            f"reads itself in a circle: {' -> '.join(part.name for part in ring)}",
            part=first,
            file=self.parts[first].main.path,
            line=min((r.line for r in reads if r.line), default=None),
        )


def _cut_off(table: str) -> Table:
    """A table that reads the part in turn: open, so that only its name is known."""
    return Table(table, (), open=True)


def _sorted_or_cut(
    after: Mapping[PartId, Collection[PartId]],
) -> tuple[tuple[PartId, ...], list[list[PartId]]]:
    """Parts so that each comes behind those that it comes ``after``.

    Returns:
        The order, and each circle as the ring of its parts, least first and last; it was cut
        between its first two.
    """
    left = {part: set(others) for part, others in after.items()}
    rings: list[list[PartId]] = []
    while True:
        try:
            sorter = TopologicalSorter({part: sorted(left[part]) for part in sorted(left)})
            return tuple(sorter.static_order()), rings
        except CycleError as error:
            circle: list[PartId] = error.args[1][::-1]
            first = min(circle[:-1])
            at = circle.index(first)
            ring = [*circle[at:-1], *circle[:at], first]
            rings.append(ring)
            left[first].discard(ring[1])
