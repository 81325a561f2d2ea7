"""Libraries: shared Python code."""

from __future__ import annotations

import ast
from collections.abc import Mapping
from dataclasses import dataclass

from inchworm.core.checks import rules
from inchworm.core.identifiers import Kind, PartId
from inchworm.core.lineage.facts import Facts
from inchworm.core.parameters.values import Value
from inchworm.core.parts import Part
from inchworm.core.rendered import Rendered, RenderedDocument
from inchworm.core.structure.tables import Table
from inchworm.kinds.base import Surroundings
from inchworm.kinds.settings import Report


@dataclass(frozen=True, kw_only=True)
class Library:
    """A library that has been read: its source files by path."""

    part: PartId
    sources: Mapping[str, str]


class LibraryKind:
    """How libraries are handled."""

    kind = Kind.LIBRARY

    def read(self, part: Part, surroundings: Surroundings, report: Report) -> Library | None:
        """The source files; each must be Python."""
        sources: dict[str, str] = {}
        for file in part.files:
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
        return Library(part=part.id, sources=sources)

    def facts(self, library: Library, tables: Mapping[str, Table], report: Report) -> Facts:
        """Nothing is known of a library alone."""
        return Facts(part=library.part)

    def render(self, library: Library, values: Mapping[str, Value]) -> Rendered:
        """The source files, the same everywhere."""
        return RenderedDocument(part=library.part, content={"sources": dict(library.sources)})
