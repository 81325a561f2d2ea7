"""Whether what libraries need, and notebooks import, is installed where notebooks run."""

from __future__ import annotations

import ast
import sys
from collections.abc import Iterable, Iterator, Sequence

from inchworm.core.checks import rules
from inchworm.core.checks.findings import Finding
from inchworm.core.identifiers import Kind, PartId
from inchworm.core.lineage.facts import Assembly
from inchworm.core.parts import LIBRARY_PROJECT
from inchworm.core.rendered import RenderedNotebook, RenderedParts
from inchworm.engine.open_environment import OpenEnvironment
from inchworm.kinds.imports import imported_modules
from inchworm.targets.python_packages import Installed, packages_here


def missing_packages(
    place: OpenEnvironment,
    assembly: Assembly,
    rendered: RenderedParts,
    delivered: Iterable[PartId],
) -> list[Finding]:
    """Packages and modules that are missing, or in another version, where a promotion delivers.

    Args:
        place: the environment.
        assembly: the parts as they are going to be there.
        rendered: the same with its values.
        delivered: the parts that are put in place; without a library or notebook among them,
            nothing is asked.

    Raises:
        TargetError: when a notebook server cannot be asked.
    """
    delivered = [part for part in delivered if part.kind in {Kind.LIBRARY, Kind.NOTEBOOK}]
    if not delivered:
        return []
    libraries = [
        part
        for part in assembly.of_kind(Kind.LIBRARY)
        if assembly.outlines[part].requires or assembly.outlines[part].python
    ]
    imports = [each for part in delivered for each in _imports(part, assembly, rendered)]
    if not libraries and not imports:
        return []
    installed = packages_here() if place.notebooks is None else place.notebooks.installed()
    findings = [f for part in libraries for f in _missing(part, assembly, installed)]
    return [*findings, *_not_importable(imports, installed)]


_Import = tuple[PartId, str, str, int]
"""A part, the module that it imports, and the file and line where it does."""


def _imports(part: PartId, assembly: Assembly, rendered: RenderedParts) -> Iterator[_Import]:
    """The modules that a part imports, but for Python's own, the project's and the helper."""
    own = {library.name for library in assembly.of_kind(Kind.LIBRARY)} | _ALWAYS_THERE
    for file, module, line in _all_imports(part, assembly, rendered):
        if module not in own:
            yield part, module, file, line


_ALWAYS_THERE = frozenset({"inchworm", *sys.stdlib_module_names})


def _all_imports(
    part: PartId, assembly: Assembly, rendered: RenderedParts
) -> Iterator[tuple[str, str, int]]:
    if part.kind is Kind.NOTEBOOK:
        document = rendered[part]
        assert isinstance(document, RenderedNotebook)
        main = assembly.parts[part].main.path
        yield from ((main, module, line) for module, line in document.imports)
        return
    for file in assembly.parts[part].files:
        if file.path.endswith(".py"):
            try:
                tree = ast.parse(file.content)
            except (SyntaxError, ValueError):
                continue  # reported with the library
            yield from ((file.path, module, line) for module, line in imported_modules(tree.body))


def _not_importable(imports: Sequence[_Import], installed: Installed) -> Iterator[Finding]:
    reported: set[tuple[PartId, str]] = set()
    for part, module, file, line in imports:
        if module not in installed.modules and (part, module) not in reported:
            reported.add((part, module))
            yield rules.MODULE_MISSING.finding(
                f"imports {module}, and {installed.where} does not have it",
                part=part,
                file=file,
                line=line,
            )


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
