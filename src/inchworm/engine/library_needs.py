"""Whether the packages that libraries need are installed where notebooks run."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from inchworm.core.checks import rules
from inchworm.core.checks.findings import Finding
from inchworm.core.identifiers import Kind, PartId
from inchworm.core.lineage.facts import Assembly
from inchworm.core.parts import LIBRARY_PROJECT
from inchworm.engine.open_environment import OpenEnvironment
from inchworm.targets.python_packages import Installed, packages_here


def missing_packages(
    place: OpenEnvironment, assembly: Assembly, delivered: Iterable[PartId]
) -> list[Finding]:
    """Packages that are not installed, or in another version, where a promotion delivers.

    Args:
        place: the environment.
        assembly: the parts as they are going to be there.
        delivered: the parts that are put in place; without a library or notebook among them,
            nothing is asked.

    Raises:
        TargetError: when a notebook server cannot be asked.
    """
    if not any(part.kind in {Kind.LIBRARY, Kind.NOTEBOOK} for part in delivered):
        return []
    libraries = [
        part
        for part in assembly.of_kind(Kind.LIBRARY)
        if assembly.outlines[part].requires or assembly.outlines[part].python
    ]
    if not libraries:
        return []
    installed = packages_here() if place.notebooks is None else place.notebooks.installed()
    return [f for part in libraries for f in _missing(part, assembly, installed)]


def _missing(part: PartId, assembly: Assembly, installed: Installed) -> Iterator[Finding]:
    from packaging.requirements import Requirement
    from packaging.specifiers import SpecifierSet
    from packaging.utils import canonicalize_name

    outline, file = assembly.outlines[part], f"library/{part.name}/{LIBRARY_PROJECT}"
    python = installed.markers["python_full_version"]
    if not SpecifierSet(outline.python).contains(python, prereleases=True):
        yield rules.LIBRARY_MISSING_PACKAGE.finding(
            f"needs Python {outline.python}, and {installed.where} is {python}",
            part=part,
            file=file,
        )
    for text in outline.requires:
        required = Requirement(text)
        applies = required.marker is None or required.marker.evaluate(dict(installed.markers))
        version = installed.packages.get(canonicalize_name(required.name))
        if not applies:
            continue
        if version is None:
            has = f"{installed.where} does not have it"
        elif not required.specifier.contains(version, prereleases=True):
            has = f"{installed.where} has {required.name} {version}"
        else:
            continue
        yield rules.LIBRARY_MISSING_PACKAGE.finding(
            f"needs {text}, and {has}", part=part, file=file
        )
