"""Comparing versions of the project, and what that means for its version number."""

from __future__ import annotations

import re
from collections.abc import Mapping

from msgspec import Struct

from inchworm.application.watching import read_one
from inchworm.application.workplace import Workplace
from inchworm.core.bundle.api_changes import Api
from inchworm.core.bundle.compare import Change, Weight, compare, next_version, weight_of
from inchworm.core.bundle.sides import (
    ComparedPart,
    PartState,
    Side,
    SidePart,
    compare_rights,
    compare_schedules,
    compare_sides,
    rights_of,
)
from inchworm.core.errors import ProjectError, TargetError, UsageError, did_you_mean
from inchworm.core.identifiers import PartId
from inchworm.core.parts import Contents
from inchworm.kinds.project_reader import Reading, read_project
from inchworm.project.git import files_at
from inchworm.project.tree import PART_FOLDERS
from inchworm.project.version import write_version

TREE = "."
"""Stands for the source tree where a bundle can be named."""


def compare_versions(workplace: Workplace, before: str, after: str) -> list[Change]:
    """What changed between two versions, each a bundle or the source tree.

    Raises:
        UsageError: when there is no such bundle.
    """
    return compare_readings(_version(workplace, before), _version(workplace, after))


def compare_readings(old: Reading, new: Reading) -> list[Change]:
    """What changed between two versions that have been read."""

    def apis(flow: PartId) -> tuple[Api, Api]:
        definitions = old.definition(flow), new.definition(flow)
        one, other = (definition.api if definition else {} for definition in definitions)
        return one, other

    return compare(old.assembly, new.assembly, apis)


def _version(workplace: Workplace, name: str) -> Reading:
    if name == TREE:
        return workplace.read_remembered()
    is_trusted = workplace.machine.trust.is_given  # else no bundle store is looked into
    bundles = workplace.bundles.names() if is_trusted else []
    if name.lower() not in {known.lower() for known in bundles}:
        files = files_at(workplace.root, name)
        if files is not None:
            return _at_commit(workplace, files)
    bundle = workplace.bundles.get(name)
    facts = workplace.bundle_facts(bundle)
    reading = read_project(
        name=bundle.project,
        version=bundle.version,
        dialect=bundle.dialect,
        files=bundle.files,
        known=facts,
    )
    if facts is not None:
        facts.keep()
    return reading


def _at_commit(workplace: Workplace, files: Mapping[str, bytes]) -> Reading:
    """The project as a commit has it."""
    settings = workplace.project.settings
    return read_project(
        name=settings.name,
        version=settings.version,
        dialect=settings.dialect,
        files=Contents(files).below(PART_FOLDERS),
    )


# ---- environments ------------------------------------------------------------------------------


class PartText(Struct, frozen=True, kw_only=True):
    """The files of a part on both sides, by path; None where a side does not have the file.

    They are compared as they are written: values of environments are parameters in them.
    """

    part: PartId
    files: Mapping[str, tuple[str | None, str | None]]


class SidesCompared(Struct, frozen=True, kw_only=True):
    """Two sides, compared part by part.

    Attributes:
        schedules: those whose state differs: name, and both states.
        rights: those that differ: on what and of whom, and the privileges on both sides.
        texts: of the parts that were asked for.
    """

    a: Side
    b: Side
    parts: list[ComparedPart]
    schedules: list[tuple[str, str, str]]
    rights: list[tuple[str, str, str]]
    texts: list[PartText]


def names_environment(workplace: Workplace, name: str) -> bool:
    """Whether a name is that of an environment."""
    return name.lower() in {each.name.lower() for each in workplace.project.environments}


def compare_places(
    workplace: Workplace, a: str, b: str, part: str | None = None, *, all_texts: bool = False
) -> SidesCompared:
    """Compare environments, bundles, commits or the source tree, part by part.

    Args:
        workplace: the workplace.
        a: an environment, a bundle, a commit, or ``.``.
        b: the same.
        part: the part whose text is to be compared.
        all_texts: whether the texts of all parts that differ are.

    Raises:
        UsageError: when there is nothing of a name.
        TargetError: when an environment cannot be reached.
    """
    one, other = _side(workplace, a), _side(workplace, b)
    compared = compare_sides(one, other)
    wanted = [each.part for each in compared if all_texts and each.state is not PartState.SAME]
    if part is not None:
        known = {text: c.part for c in compared for text in (str(c.part), c.part.name)}
        if part.lower() not in known:
            near = did_you_mean(part, known, "See inchworm compare.")
            raise UsageError(f"There is no part {part} in {a} or {b}.", next=near)
        wanted = [known[part.lower()]]
    return SidesCompared(
        a=one,
        b=other,
        parts=compared,
        schedules=compare_schedules(one, other),
        rights=compare_rights(one, other),
        texts=[_text(workplace, each, (a, one), (b, other)) for each in wanted],
    )


def _side(workplace: Workplace, name: str) -> Side:
    if names_environment(workplace, name):
        read = read_one(workplace, workplace.project.environment(name))
        live = read.live
        if live is None:
            raise TargetError(f"{name} cannot be read: {read.problem}")
        return Side(
            name=name,
            parts={
                part: SidePart(content=p.content, version=p.bundle, values=p.values)
                for part, p in live.parts.items()
            },
            holds={hold.part: hold.because for hold in live.holds},
            drifted=frozenset(read.drifted),
            schedules=live.schedules,
            rights=rights_of(live.granted, read.environment.database),
        )
    assembly = _version(workplace, name).assembly
    version = "" if name == TREE else name
    return Side(
        name=name,
        parts={
            part: SidePart(content=each.digest, version=version)
            for part, each in assembly.parts.items()
        },
    )


def _text(
    workplace: Workplace, part: PartId, one: tuple[str, Side], other: tuple[str, Side]
) -> PartText:
    texts = [_files(workplace, part, name, side) for name, side in (one, other)]
    paths = sorted({*texts[0], *texts[1]})
    return PartText(part=part, files={p: (texts[0].get(p), texts[1].get(p)) for p in paths})


def _files(workplace: Workplace, part: PartId, name: str, side: Side) -> dict[str, str]:
    if part not in side.parts:
        return {}
    is_place = side.schedules is not None
    reading = _version(workplace, side.parts[part].version if is_place else name)
    files = reading.assembly.parts[part].files if part in reading.assembly.parts else ()
    return {file.path: file.content.decode("utf-8", "replace") for file in files}


class SuggestedVersion(Struct, frozen=True, kw_only=True):
    """The next version number, by what changed since the latest release."""

    release: str
    weight: Weight
    changes: int
    version: str


def suggest_version(workplace: Workplace) -> SuggestedVersion:
    """The next version number.

    Raises:
        UsageError: when there is no release to compare with.
        ProjectError: when a part cannot be read.
    """
    release = _latest_release(workplace)
    if release is None:
        raise UsageError("There is no release to compare with.", next="Pack one: inchworm pack.")
    tree = workplace.read_remembered()
    for part, outline in tree.assembly.outlines.items():
        if not outline.readable:
            raise ProjectError(
                f"{part} cannot be read, so nobody can say what changed.",
                where=outline.file,
                next="See what is wrong with it: inchworm check",
            )
    changes = compare_readings(_version(workplace, release), tree)
    weight = weight_of(changes)
    return SuggestedVersion(
        release=release,
        weight=weight,
        changes=len(changes),
        version=next_version(release.rpartition("-")[2], weight),
    )


def set_version(workplace: Workplace, to: str) -> tuple[str, list[str]]:
    """Write the project's version: ``major``, ``minor``, ``patch`` or ``X.Y.Z``.

    Returns:
        The version, and the files that were written.

    Raises:
        UsageError: when that is no version.
    """
    if to in {Weight.MAJOR, Weight.MINOR, Weight.PATCH}:
        version = next_version(workplace.project.settings.version, Weight(to))
    elif re.fullmatch(r"\d+\.\d+\.\d+", to):
        version = to
    else:
        raise UsageError(f"{to} is no version.", next="Write major, minor, patch or X.Y.Z.")
    return version, list(write_version(workplace.root, version))


def _latest_release(workplace: Workplace) -> str | None:
    """The bundle of the highest version that is no snapshot."""
    pattern = re.compile(re.escape(workplace.project.settings.name) + r"-(\d+)\.(\d+)\.(\d+)")
    releases = [(m, n) for n in workplace.bundles.names() if (m := pattern.fullmatch(n))]
    if not releases:
        return None
    return max(releases, key=lambda pair: tuple(map(int, pair[0].groups())))[1]
