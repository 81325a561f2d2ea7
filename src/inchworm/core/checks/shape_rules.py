"""Rules about the shape of a project: who reads what, and upon how much it stands."""

from __future__ import annotations

import datetime as dt
from collections.abc import Iterator, Mapping

from inchworm.core.checks import rules
from inchworm.core.checks.findings import Finding
from inchworm.core.identifiers import Kind, PartId
from inchworm.core.lineage.facts import Assembly, Trait

_DEEPEST = 12
"""Views upon views that a reader may be asked to work out."""
_READERS = (Kind.CONSUMER, Kind.FLOW, Kind.NOTEBOOK)


def shape(assembly: Assembly, today: dt.date) -> Iterator[Finding]:
    """All findings about the shape of a project."""
    read_by = _read_by(assembly)
    yield from _stars(assembly, read_by)
    yield from _not_read(assembly, read_by)
    yield from _deep(assembly)


def _read_by(assembly: Assembly) -> Mapping[str, set[PartId]]:
    """The parts that read each table."""
    read_by: dict[str, set[PartId]] = {}
    for part, outline in assembly.outlines.items():
        for table in outline.reads:
            read_by.setdefault(table, set()).add(part)
    return read_by


def _stars(assembly: Assembly, read_by: Mapping[str, set[PartId]]) -> Iterator[Finding]:
    for model in assembly.of_kind(Kind.MODEL):
        outline = assembly.outlines[model]
        if Trait.STAR not in outline.traits:
            continue
        outside = sorted(p for p in read_by.get(model.relation, ()) if p.kind.reaches_outside)
        if outside:
            yield rules.STAR_GOES_OUT.finding(
                f"shows all columns that there are, and {outside[0]} reads it",
                part=model,
                file=outline.file,
            )


def _not_read(assembly: Assembly, read_by: Mapping[str, set[PartId]]) -> Iterator[Finding]:
    """Models without reader and owner, in a project that declares readers at all."""
    if not any(assembly.of_kind(kind) for kind in _READERS):
        return
    for model in assembly.of_kind(Kind.MODEL):
        outline = assembly.outlines[model]
        is_owned = bool(outline.owner)  # who may read it in ways that nobody declares
        if outline.readable and not is_owned and not read_by.get(model.relation, set()) - {model}:
            yield rules.NOT_READ.finding("is read by nothing", part=model, file=outline.file)


def _deep(assembly: Assembly) -> Iterator[Finding]:
    """Views upon more views than a reader should have worked out; the first of each chain."""
    depths: dict[PartId, int] = {}
    for model in assembly.model_order:
        outline = assembly.outlines[model]
        if Trait.VIEW not in outline.traits:
            continue
        below = [depths[p] for p in assembly.upstream.get(model, ()) if p in depths]
        depths[model] = 1 + max(below, default=0)
        if depths[model] == _DEEPEST + 1:
            message = f"stands on {_DEEPEST} views, one upon the other"
            yield rules.DEEP_VIEWS.finding(message, part=model, file=outline.file)
