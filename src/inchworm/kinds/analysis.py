"""Working out what is known about one part, and what it was worked out from."""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Collection, Iterator, Mapping
from functools import cache
from importlib import import_module
from typing import Any, TypeVar

from msgspec.structs import replace

from inchworm.core.checks.findings import Finding
from inchworm.core.checks.rules import suspect_finding
from inchworm.core.identifiers import Kind
from inchworm.core.lineage.facts import Facts, Outline, outline_of, structure_digest
from inchworm.core.lineage.facts_text import write_facts
from inchworm.core.parameters.literals import literals_in, suspects_in
from inchworm.core.parts import Contents, Part, SourceFile
from inchworm.core.structure.tables import Table
from inchworm.kinds.base import PartKind, Surroundings
from inchworm.kinds.registry import HANDLERS

EVERY_NAME = "*"
"""Under this name it is noted that all names were looked through."""

FILE_PREFIX = "file:"
"""The prefix of a path where a shared file was looked up, instead of a table."""

Value = TypeVar("Value")


class _Looking(Mapping[str, Value]):
    """A mapping that notes what is looked up in it, each with a digest of what was found."""

    def __init__(
        self,
        within: Mapping[str, Value],
        saw: dict[str, str],
        digest: Callable[[str, Value], str],
        prefix: str = "",
    ) -> None:
        self._within = within
        self._saw = saw
        self._digest = digest
        self._prefix = prefix

    def __getitem__(self, name: str) -> Value:
        try:
            value = self._within[name]
        except KeyError:
            self._saw[self._prefix + name] = ""
            raise
        if self._prefix + name not in self._saw:
            self._saw[self._prefix + name] = self._digest(name, value)
        return value

    def __iter__(self) -> Iterator[str]:
        self._saw[self._prefix + EVERY_NAME] = digest_of_names(self._within)
        return iter(self._within)

    def __len__(self) -> int:
        return len(self._within)


@cache
def kind_of(kind: Kind) -> PartKind[Any]:
    """How a kind of part is handled."""
    module, _, name = HANDLERS[kind].partition(".")
    made: PartKind[Any] = getattr(import_module(f"inchworm.kinds.{module}"), name)()
    return made


def digest_of_names(names: Collection[str]) -> str:
    """One short text for a set of names."""
    return hashlib.sha256("\n".join(sorted(names)).encode()).hexdigest()[:20]


def work_out(part: Part, dialect: str, shared: Contents, tables: Mapping[str, Table]) -> str:
    """All that is known about a part, as text.

    Args:
        part: the part with its own files.
        dialect: the SQL dialect of the project.
        shared: files that belong to whichever part names them, and the libraries.
        tables: what is known of other parts' tables.
    """
    findings: list[Finding] = []
    saw: dict[str, str] = {}
    looking = _Looking(tables, saw, lambda _, table: structure_digest(table))
    files = _Looking(shared, saw, lambda path, _: shared.digest(path), FILE_PREFIX)
    kind = kind_of(part.id.kind)
    surroundings = Surroundings(dialect=dialect, shared=files)
    definition = kind.read(part, surroundings, findings.append)
    if definition is None:
        facts = _unreadable(part)
        findings = [replace(finding, cause=str(part.id)) for finding in findings]
    else:
        facts = kind.facts(definition, looking, findings.append)
    whole = [*((f.path, f.content) for f in part.files), *((p, shared[p]) for p in facts.documents)]
    findings += [finding for path, content in whole for finding in _suspects(part, path, content)]
    outline = outline_of(
        facts,
        file=part.main.path,
        digest=part.digest,
        saw=saw,
        tables=looking,
        findings=tuple(findings),
        literals=tuple(
            literal for path, content in whole for literal in literals_in(path, content)
        ),
        readable=definition is not None,
    )
    return write_facts(facts, outline)


def _suspects(part: Part, path: str, content: bytes) -> Iterator[Finding]:
    for suspect in suspects_in(content, is_json=path.endswith((".ipynb", ".json"))):
        yield suspect_finding(suspect, path, part.id)


def _unreadable(part: Part) -> Facts:
    """A part that cannot be read has been reported; its readers need not be as well."""
    if part.id.kind is Kind.MODEL:
        return Facts(part=part.id, provides=(Table(part.id.name.lower(), (), open=True),))
    return Facts(part=part.id)


def with_documents(part: Part, outline: Outline, shared: Contents) -> Part:
    """The part with the shared files that count as its own."""
    if not outline.documents:
        return part
    more = tuple(SourceFile(path, shared) for path in outline.documents)
    return replace(part, files=(*part.files, *more))
