"""Comparing versions of the project, and what that means for its version number."""

from __future__ import annotations

import re
from dataclasses import dataclass

from inchworm.application.workplace import Workplace
from inchworm.core.bundle.api_changes import Api
from inchworm.core.bundle.compare import Change, Weight, compare, next_version, weight_of
from inchworm.core.errors import UsageError
from inchworm.core.identifiers import PartId
from inchworm.kinds.project_reader import Reading, read_project
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


@dataclass(frozen=True, kw_only=True)
class SuggestedVersion:
    """The next version number, by what changed since the latest release."""

    release: str
    weight: Weight
    changes: int
    version: str


def suggest_version(workplace: Workplace) -> SuggestedVersion:
    """The next version number.

    Raises:
        UsageError: when there is no release to compare with.
    """
    release = _latest_release(workplace)
    if release is None:
        raise UsageError("There is no release to compare with.", next="Pack one: inchworm pack.")
    changes = compare_versions(workplace, release, TREE)
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
