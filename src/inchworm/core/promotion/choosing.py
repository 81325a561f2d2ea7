"""Parts that do not go along: left out of a choice, or on hold; and the versions that they keep.

A promotion of some parts puts in place a *mixture*: the chosen parts as in its bundle, all others
as they are live. It is read, checked and drafted as one whole, so lineage includes what stays.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Mapping, Sequence
from fnmatch import fnmatchcase

from msgspec import Struct

from inchworm.core.errors import UsageError, did_you_mean
from inchworm.core.identifiers import PartId
from inchworm.core.lineage.facts import Assembly
from inchworm.core.parts import Digest
from inchworm.core.promotion.composition import LivePart

ABSENT = ""
"""Stands for the version of a part that is kept out."""

Sources = Mapping[PartId, str]
"""The parts that are not as in the promoted bundle: the name of the bundle that each is from, or
:data:`ABSENT`."""


class Choice(Struct, frozen=True, kw_only=True):
    """The parts that are to go, as somebody wrote it.

    Each text is a part, a pattern of parts (``model:hydro.*``), a kind (``model:``), a folder or
    file (``models/hydro/``), or an owner (``owner:hydrology``).

    Attributes:
        only: what goes; everything where it is empty.
        excluded: what does not.
        upstream: whether what the chosen parts depend on goes along.
        downstream: whether what depends on them does.
    """

    only: tuple[str, ...] = ()
    excluded: tuple[str, ...] = ()
    upstream: bool = False
    downstream: bool = False

    def __bool__(self) -> bool:
        return bool(self.only or self.excluded)


def chosen_parts(
    choice: Choice, assembly: Assembly, live: Mapping[PartId, LivePart]
) -> frozenset[PartId]:
    """The parts that go, of those in a bundle and those that are live.

    Raises:
        UsageError: when a text means no part.
    """
    known = sorted({*assembly.parts, *live})
    chosen = _meant(choice.only, known, assembly) if choice.only else set(known)
    excluded = _meant(choice.excluded, known, assembly)
    chosen -= excluded
    more = set(chosen)
    if choice.upstream:
        more |= _reached(chosen, assembly.upstream)
    if choice.downstream:
        more |= _reached(chosen, _turned(assembly.upstream))
    return frozenset(more - excluded)


def _meant(texts: Iterable[str], known: Sequence[PartId], assembly: Assembly) -> set[PartId]:
    meant: set[PartId] = set()
    for text in texts:
        matching = {part for part in known if _means(text.strip(), part, assembly)}
        if not matching:
            names = [*map(str, known), *(part.name for part in known)]
            raise UsageError(
                f"{text} means no part.",
                next=did_you_mean(
                    text, names, "Name a part, model:hydro.*, models/hydro/ or owner:NAME."
                ),
            )
        meant |= matching
    return meant


_OWNER = "owner:"


def _means(text: str, part: PartId, assembly: Assembly) -> bool:
    folded = text.lower()
    if folded.startswith(_OWNER):
        outline = assembly.outlines.get(part)
        owner = outline.owner.lower() if outline is not None else ""
        return bool(owner) and fnmatchcase(owner, folded.removeprefix(_OWNER).strip())
    if "/" in text:
        files = assembly.parts[part].files if part in assembly.parts else ()
        return any(file.path.startswith(text) for file in files)
    if folded.endswith(":"):
        return str(part).startswith(folded)
    return fnmatchcase(str(part).lower(), folded) or fnmatchcase(part.name.lower(), folded)


def _reached(
    starts: Collection[PartId], following: Mapping[PartId, Collection[PartId]]
) -> set[PartId]:
    reached: set[PartId] = set()
    waiting = list(starts)
    while waiting:
        for part in following.get(waiting.pop(), ()):
            if part not in reached:
                reached.add(part)
                waiting.append(part)
    return reached


def _turned(upstream: Mapping[PartId, Collection[PartId]]) -> Mapping[PartId, set[PartId]]:
    downstream: dict[PartId, set[PartId]] = {}
    for part, others in upstream.items():
        for other in others:
            downstream.setdefault(other, set()).add(part)
    return downstream


def kept_sources(
    stays: Collection[PartId],
    assembly: Assembly,
    live: Mapping[PartId, LivePart],
    bundle: str,
    rendered: Callable[[PartId], Digest],
) -> dict[PartId, str]:
    """The versions that parts keep which do not go along, as far as they differ from a bundle's.

    A part of the same content differs, too, where the values that it is rendered with do.

    Args:
        stays: those parts.
        assembly: of the bundle.
        live: what is live.
        bundle: the bundle's name.
        rendered: the digest of a part as the bundle would put it in place.
    """
    sources: dict[PartId, str] = {}
    for part in sorted(stays):
        recorded = live.get(part)
        if recorded is None:
            if part in assembly.parts:
                sources[part] = ABSENT
        elif part not in assembly.parts or assembly.parts[part].digest != recorded.content:
            sources[part] = recorded.bundle
        elif rendered(part) != recorded.digest:
            sources[part] = bundle
    return sources


def lacks_content(sources: Sources, assembly: Assembly, live: Mapping[PartId, LivePart]) -> bool:
    """Whether some parts that stay have other content than in the bundle, and not only values.

    Args:
        sources: the versions that parts keep.
        assembly: of the bundle.
        live: what is live.
    """
    return any(
        source == ABSENT
        or part not in assembly.parts
        or assembly.parts[part].digest != live[part].content
        for part, source in sources.items()
    )
