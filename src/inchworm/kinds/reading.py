"""From a project version's files to an assembly: parts, definitions, facts, and what is wrong.

The same code reads a source tree and a bundle.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, replace
from graphlib import CycleError, TopologicalSorter
from types import MappingProxyType
from typing import Any

from inchworm.core.checks import rules
from inchworm.core.facts import Assembly, Facts, Use
from inchworm.core.findings import Finding
from inchworm.core.parameters import FILE, Parameter, Value, read_matrix
from inchworm.core.parts import Kind, Part, PartId, SourceFile
from inchworm.core.rendering import Rendered
from inchworm.core.structure.tables import Table
from inchworm.core.toml import TomlProblem, read_toml
from inchworm.kinds.base import PartKind, Surroundings
from inchworm.kinds.connection import ConnectionKind
from inchworm.kinds.consumer import ConsumerKind
from inchworm.kinds.flow import Flow, FlowKind
from inchworm.kinds.library import LibraryKind
from inchworm.kinds.model import CheckKind, Model, ModelKind
from inchworm.kinds.notebook import NotebookKind
from inchworm.kinds.pipeline import PipelineKind
from inchworm.kinds.schema import SchemaKind

KINDS: Mapping[Kind, PartKind[Any]] = MappingProxyType(
    {
        kind.kind: kind
        for kind in (
            SchemaKind(),
            ModelKind(),
            CheckKind(),
            NotebookKind(),
            PipelineKind(),
            ConnectionKind(),
            FlowKind(),
            LibraryKind(),
            ConsumerKind(),
        )
    }
)

FOLDERS = (
    "schemas",
    "models",
    "checks",
    "notebooks",
    "pipelines",
    "connections",
    "flows",
    "library",
    "consumers",
)
"""The folders of a project in which every file belongs to a part."""

SHARED_FOLDERS = ("apis",)
"""Folders whose files belong to the parts that name them."""


@dataclass(frozen=True, kw_only=True)
class Reading:
    """An assembly, and the definitions behind it."""

    assembly: Assembly
    definitions: Mapping[PartId, Any]

    def render(self, part: PartId, values: Mapping[str, Value]) -> Rendered:
        """A part with one environment's values.

        Raises:
            KeyError: with the name of a parameter that has no value.
        """
        return KINDS[part.kind].render(self.definitions[part], values)


def read_project(
    *,
    name: str,
    version: str,
    dialect: str,
    files: Mapping[str, bytes],
    environments: Iterable[str] | None = None,
    environment_uses: Iterable[Use] = (),
) -> Reading:
    """Read all parts and work out their facts; what is wrong becomes findings.

    Args:
        name: the project's name.
        version: its version.
        dialect: the SQL dialect of its models and scripts.
        files: contents by path, relative to the project, with forward slashes.
        environments: names that the parameter matrix must have values for; a bundle knows none.
        environment_uses: parameters that environment files use.
    """
    findings: list[Finding] = []
    known_environments = None if environments is None else tuple(environments)
    matrix: dict[str, Parameter] = {}
    if FILE in files:
        try:
            matrix, wrong = read_matrix(read_toml(files[FILE]), known_environments)
            findings += wrong
        except TomlProblem as problem:
            findings.append(rules.UNREADABLE.finding(problem.reason, file=FILE, line=problem.line))
    parts = _parts(files, findings)
    surroundings = Surroundings(
        dialect=dialect,
        shared={p: content for p, content in files.items() if p.startswith(SHARED_FOLDERS)},
    )
    definitions: dict[PartId, Any] = {}
    for part in parts.values():
        definition = KINDS[part.id.kind].read(part, surroundings, findings.append)
        if definition is not None:
            definitions[part.id] = definition
            parts[part.id] = _with_shared(part, definition, surroundings.shared)
    unreadable = [part for part in parts if part not in definitions]
    facts, tables, order = _all_facts(definitions, unreadable, findings)
    provider = {table.name: part for part, found in facts.items() for table in found.provides}
    assembly = Assembly(
        name=name,
        version=version,
        dialect=dialect,
        parts=parts,
        facts=facts,
        tables=tables,
        provider=provider,
        model_order=order,
        matrix=matrix,
        environments=known_environments or (),
        environment_uses=tuple(environment_uses),
        findings=tuple(findings),
    )
    return Reading(assembly=assembly, definitions=definitions)


def _parts(files: Mapping[str, bytes], findings: list[Finding]) -> dict[PartId, Part]:
    """Which part each file belongs to."""
    by_part: dict[PartId, list[SourceFile]] = defaultdict(list)
    for path in sorted(files):
        if not path.startswith(tuple(f"{folder}/" for folder in FOLDERS)):
            continue
        owner = next(
            (PartId(kind.kind, n) for kind in KINDS.values() if (n := kind.name_of(path))), None
        )
        if owner is None:
            findings.append(rules.STRAY_FILE.finding("belongs to no part", file=path))
        else:
            by_part[owner].append(SourceFile(path=path, content=files[path]))
    return {part: Part(id=part, files=tuple(f)) for part, f in sorted(by_part.items())}


def _with_shared(part: Part, definition: Any, shared: Mapping[str, bytes]) -> Part:
    """A flow is made of its own file and the API document that it names."""
    if not isinstance(definition, Flow) or not definition.outside.api:
        return part
    path = definition.outside.api
    return replace(part, files=(*part.files, SourceFile(path=path, content=shared[path])))


def _all_facts(
    definitions: Mapping[PartId, Any], unreadable: Iterable[PartId], findings: list[Finding]
) -> tuple[dict[PartId, Facts], dict[str, Table], tuple[PartId, ...]]:
    """Facts of all parts, those that provide tables before those that read them."""
    facts: dict[PartId, Facts] = {}
    tables: dict[str, Table] = {}

    def work_out(part: PartId) -> None:
        found = KINDS[part.kind].facts(definitions[part], tables, findings.append)
        facts[part] = found
        for table in found.provides:
            tables.setdefault(table.name, table)

    for part in definitions:
        if part.kind is Kind.SCHEMA:
            work_out(part)
    for part, definition in definitions.items():
        if part.kind is Kind.NOTEBOOK:
            for stored in definition.stores:
                known = Table(stored.table, stored.columns, open=not stored.columns)
                tables.setdefault(stored.table, known)
    for part in unreadable:
        if part.kind is Kind.MODEL:  # reported already; its readers need not be
            tables.setdefault(part.name.lower(), Table(part.name.lower(), (), open=True))
    models = {part: d for part, d in definitions.items() if isinstance(d, Model)}
    order = _model_order(models, findings)
    for part in order:
        work_out(part)
    for part in definitions:
        if part not in facts:
            work_out(part)
    return {part: facts[part] for part in definitions}, tables, order


def _model_order(models: Mapping[PartId, Model], findings: list[Finding]) -> tuple[PartId, ...]:
    """Models so that each comes after those that it reads; cycles are reported and cut."""
    by_table = {part.name.lower(): part for part in models}
    reads = {
        part: {by_table[table] for table in model.mentions if table in by_table}
        for part, model in models.items()
    }
    while True:
        try:
            sorter = TopologicalSorter({part: sorted(reads[part]) for part in sorted(reads)})
            return tuple(sorter.static_order())
        except CycleError as error:
            circle: list[PartId] = error.args[1][::-1]
            first = min(circle[:-1])
            at = circle.index(first)
            ring = [*circle[at:-1], *circle[:at], first]
            way = " -> ".join(part.name for part in ring)
            target = ring[1]
            line = models[first].mentions.get(target.name.lower())
            findings.append(
                rules.CYCLE.finding(
                    f"reads itself in a circle: {way}",
                    part=first,
                    file=models[first].file,
                    line=line,
                )
            )
            reads[first] = reads[first] - {target}
