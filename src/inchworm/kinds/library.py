"""Libraries: shared Python code, with the packages that it needs."""

from __future__ import annotations

import ast
from collections.abc import Iterator, Mapping
from typing import Any

from msgspec import Struct

from inchworm.core.checks import rules
from inchworm.core.identifiers import Kind, PartId
from inchworm.core.lineage.facts import Facts
from inchworm.core.parameters.values import Value
from inchworm.core.parts import LIBRARY_PROJECT, Part, SourceFile
from inchworm.core.rendered import Rendered, RenderedDocument
from inchworm.core.structure.tables import Table
from inchworm.kinds.base import Surroundings
from inchworm.kinds.settings import Report, read_document


class Library(Struct, frozen=True, kw_only=True):
    """A library that has been read: its source files by path.

    Attributes:
        requires: the packages that it needs, as PEP 508 writes them.
        python: the versions of Python that it needs; empty for any.
    """

    part: PartId
    sources: Mapping[str, str]
    requires: tuple[str, ...] = ()
    python: str = ""


class LibraryKind:
    """How libraries are handled."""

    kind = Kind.LIBRARY

    def read(self, part: Part, surroundings: Surroundings, report: Report) -> Library | None:
        """The source files, each Python, and what ``pyproject.toml`` says that they need."""
        sources: dict[str, str] = {}
        requires: tuple[str, ...] = ()
        python = ""
        for file in part.files:
            if file.path.endswith(f"/{LIBRARY_PROJECT}"):
                requires, python = _needs(part.id, file, report)
                continue
            try:
                sources[file.path] = file.content.decode("utf-8")
                ast.parse(sources[file.path])
            except (UnicodeDecodeError, ValueError) as error:
                message = f"is not readable text: {error}"
                report(rules.UNREADABLE.finding(message, part=part.id, file=file.path))
            except SyntaxError as error:
                message = f"is not Python: {error.msg}"
                report(
                    rules.UNREADABLE.finding(
                        message, part=part.id, file=file.path, line=error.lineno
                    )
                )
        return Library(part=part.id, sources=sources, requires=requires, python=python)

    def facts(self, library: Library, tables: Mapping[str, Table], report: Report) -> Facts:
        """The packages that it needs; nothing else is known of a library alone."""
        return Facts(part=library.part, requires=library.requires, python=library.python)

    def render(self, library: Library, values: Mapping[str, Value]) -> Rendered:
        """The source files and what they need, the same everywhere."""
        content: dict[str, Any] = {"sources": dict(library.sources)}
        if library.requires:
            content["requires"] = list(library.requires)
        if library.python:
            content["python"] = library.python
        return RenderedDocument(part=library.part, content=content)


def _needs(part: PartId, file: SourceFile, report: Report) -> tuple[tuple[str, ...], str]:
    """What ``[project]`` says that a library needs: packages, and versions of Python."""
    from packaging.requirements import InvalidRequirement, Requirement
    from packaging.specifiers import InvalidSpecifier, SpecifierSet

    document = read_document(file.content, part, file.path, report)
    if document is None:
        return (), ""
    project = document.values.get("project", {})

    def wrong() -> Iterator[tuple[tuple[str | int, ...], str]]:
        if not isinstance(project, dict):
            yield ("project",), "project is not a table"
            return
        listed = project.get("dependencies", [])
        if not isinstance(listed, list):
            yield ("project", "dependencies"), "project.dependencies is not a list"
            return
        for at, each in enumerate(listed):
            try:
                Requirement(str(each))
            except InvalidRequirement as error:
                reason = str(error).splitlines()[0]
                yield ("project", "dependencies", at), f"{each!r} is no requirement: {reason}"
        try:
            SpecifierSet(str(project.get("requires-python", "")))
        except InvalidSpecifier:
            yield ("project", "requires-python"), "requires-python says no versions"

    faults = list(wrong())
    for path, message in faults:
        report(
            rules.MALFORMED.finding(
                message,
                part=part,
                file=file.path,
                line=document.line_of(path),
                remedy='Write it as packages are required: "scipy>=1.11".',
            )
        )
    if faults:
        return (), ""
    requires = tuple(str(Requirement(str(each))) for each in project.get("dependencies", []))
    return requires, str(project.get("requires-python", ""))
