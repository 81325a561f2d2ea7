"""Whether the last check still holds after parts were edited.

Rules look at facts, never at files. An edit that leaves a part's columns, what it reads and the
texts that it writes out as they were, as many edits of a query do, changes no rule's answer: it is
enough to work out the facts of that part. After any other edit all rules are asked again.
"""

from __future__ import annotations

import json
from collections.abc import Iterator, Mapping
from typing import NamedTuple

from inchworm.application.source_tree import SourceTree
from inchworm.core.identifiers import Kind, PartId, RelationName
from inchworm.core.lineage.equal_facts import equal_facts
from inchworm.core.lineage.facts_cache import UNREADABLE, FactsCache
from inchworm.core.lineage.facts_text import read_outline, read_tables, tables_line
from inchworm.core.parts import Part, SourceFile
from inchworm.core.structure.tables import Table
from inchworm.kinds.analysis import work_out
from inchworm.kinds.registry import SEEN_BY_OTHERS, part_of
from inchworm.project.file_index import TreeContents, fingerprint

_MOST = 50
"""Parts up to which this is quicker than to read the whole tree, which is done on all cores."""

_LOOKED_INTO = frozenset({Kind.SCHEMA, Kind.LIBRARY})
"""Kinds whose files are looked into for more than their facts: a check runs the scripts of schemas,
and reads libraries wherever a notebook uses them."""


class _Edited(NamedTuple):
    """A part that was edited, and the facts of its file as it was before."""

    part: Part
    before: str


def results_still_hold(tree: SourceTree) -> bool:
    """Whether what the last check came to holds for the files as they are now.

    If so, its results and the facts of the edited parts are remembered for these files.
    """
    results = tree.memory.checked
    edited = _edited_parts(tree)
    if not edited:
        return False
    findings = json.dumps(results["check"]["findings"])
    dialect = results["project"]["dialect"]
    shared, tables = tree.contents.below(SEEN_BY_OTHERS), _RememberedTables(tree.memory)
    facts: dict[PartId, str] = {}
    for part, before in edited:
        facts[part.id] = work_out(part, dialect, shared, tables)
        is_named = json.dumps(part.main.path)[1:-1] in findings
        if not equal_facts(before, facts[part.id], lines_count=is_named):
            return False
    tree.memory.update(facts)
    tree.keep(**results)
    return True


def _edited_parts(tree: SourceTree) -> list[_Edited]:
    """The parts whose file has other contents; none where anything else is different, too."""
    before, now = tree.memory.files, tree.files
    if before.keys() != now.keys() or tree.memory.checked.get("files") != fingerprint(before):
        return []
    paths = [path for path, seen in now.items() if seen.digest != before[path].digest]
    if len(paths) > _MOST:
        return []
    contents = TreeContents(tree.root, before, {})
    edited = []
    for path in paths:
        part = part_of(path)
        if part is None or part.kind in _LOOKED_INTO:
            return []
        facts = tree.memory.get(part, "")
        was = Part(id=part, files=(SourceFile(path, contents),))
        if not facts or read_outline(facts).digest != was.digest:  # it has another file, too
            return []
        edited.append(_Edited(Part(id=part, files=(SourceFile(path, tree.contents),)), facts))
    return edited


class _RememberedTables(Mapping[str, Table]):
    """Tables as the facts of models and schemas tell them, read when they are asked for.

    Those of notebooks are not among them, nor are there any for whoever looks through all. A part
    notes which tables it looked up, so its facts differ then, and the whole tree is read.
    """

    def __init__(self, memory: FactsCache) -> None:
        self._memory = memory

    def __getitem__(self, name: str) -> Table:
        for part in (PartId(Kind.MODEL, name), PartId(Kind.SCHEMA, RelationName(name).schema)):
            for table in self._provided_by(part):
                if table.name == name:
                    return table
        raise KeyError(name)

    def __iter__(self) -> Iterator[str]:
        return iter(())

    def __len__(self) -> int:
        return 0

    def _provided_by(self, part: PartId) -> tuple[Table, ...]:
        try:
            return read_tables(tables_line(self._memory[part]))
        except UNREADABLE:
            return ()
