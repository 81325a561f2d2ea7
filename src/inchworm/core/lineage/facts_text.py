"""Facts and outlines as JSON text and back, compact enough to keep those of 10,000 parts.

The text of a part has three lines, so that each can be read without the others:

1. the outline, ``[part, file, digest, saw, interfaces, reads, touches, more]``; ``more`` is an
   object of what only some parts have;
2. the tables that the part provides, each ``[name, columns, open, key]``;
3. ``{"reads", "edges"}``; an edge names the owners at its ends by their place in ``touches``.
"""

from __future__ import annotations

import json
from collections.abc import Callable, Iterator, Mapping
from typing import Any

from inchworm.core.checks.findings import Finding, finding_from
from inchworm.core.environments.verification import Verification
from inchworm.core.identifiers import Kind, PartId
from inchworm.core.lineage.facts import (
    IN_BOTH,
    Facts,
    Need,
    Outline,
    Read,
    Scheduled,
    Stage,
    Trait,
    Use,
)
from inchworm.core.lineage.facts_cache import FactsCache
from inchworm.core.lineage.graph import Edge, How, Node
from inchworm.core.parameters.literals import Literal
from inchworm.core.structure.tables import Column, Table

_HOWS = tuple(How)
_HOW_AT = {how: i for i, how in enumerate(_HOWS)}


class Held(FactsCache):
    """Facts as text, held in memory."""

    def __init__(self) -> None:
        self._texts: dict[PartId, str] = {}
        self._outlines: dict[PartId, Outline] = {}

    def __getitem__(self, part: PartId) -> str:
        return self._texts[part]

    def __setitem__(self, part: PartId, text: str) -> None:
        self._texts[part] = text
        self._outlines[part] = read_outline(text)

    def __delitem__(self, part: PartId) -> None:
        del self._texts[part], self._outlines[part]

    def __iter__(self) -> Iterator[PartId]:
        return iter(self._texts)

    def __len__(self) -> int:
        return len(self._texts)

    def outline(self, part: PartId) -> Outline | None:
        return self._outlines.get(part)


def outline_row(outline: Outline) -> list[Any]:
    """An outline as plain data."""
    more = {
        name: write(value)
        for name, (write, _) in _MORE.items()
        if (value := getattr(outline, name)) != Outline._field_defaults[name]
    }
    return [
        str(outline.part),
        outline.file,
        outline.digest,
        dict(outline.saw),
        dict(outline.interfaces),
        list(outline.reads),
        list(outline.touches),
        more,
    ]


def outline_from(row: Any) -> Outline:
    """The outline that a row is."""
    part, file, digest, saw, interfaces, reads, touches, more = row
    kind, _, name = part.partition(":")
    id_ = PartId(Kind.named(kind), name)
    plain = Outline(id_, file, digest, saw, interfaces, tuple(reads), tuple(touches))
    if not more:
        return plain
    return plain._replace(**{name: _MORE[name][1](value) for name, value in more.items()})


def write_facts(facts: Facts, outline: Outline) -> str:
    """Facts, with their outline, as text of three lines."""
    at = {owner: i for i, owner in enumerate(outline.touches)}
    rest = {
        "reads": [_read_row(read) for read in facts.reads],
        "edges": [
            (at[s.owner], s.field, at[t.owner], t.field, _HOW_AT[how]) for s, t, how in facts.edges
        ],
    }
    tables = [_table_row(table) for table in facts.provides]
    return "\n".join(map(_dump, (outline_row(outline), tables, rest)))


def _dump(value: object) -> str:
    return json.dumps(value, ensure_ascii=False, separators=(",", ":"))


def read_outline(text: str) -> Outline:
    """The outline at the head of a text."""
    return outline_from(json.loads(outline_line(text)))


def outline_line(text: str) -> str:
    """The line of a text that is the outline."""
    return text.partition("\n")[0]


def tables_line(text: str) -> str:
    """The line of a text that is the tables."""
    return text.split("\n", 2)[1]


def read_tables(line: str) -> tuple[Table, ...]:
    """The tables that a line tells."""
    return tuple(map(_table, json.loads(line)))


def read_facts(text: str) -> Facts:
    """The facts that a text tells."""
    head, tables, rest = text.split("\n")
    outline = outline_from(json.loads(head))
    body = json.loads(rest)
    owners = outline.touches
    return Facts(
        part=outline.part,
        provides=read_tables(tables),
        reads=tuple(map(_read, body["reads"])),
        edges=tuple(
            Edge(Node(owners[s], sf), Node(owners[t], tf), _HOWS[how])
            for s, sf, t, tf, how in body["edges"]
        ),
        **{name: getattr(outline, name) for name in IN_BOTH},
    )


def _table_row(table: Table) -> list[Any]:
    columns = [[c.name, c.type, c.required] for c in table.columns]
    return [table.name, columns, table.open, list(table.key)]


def _table(row: Any) -> Table:
    name, columns, opened, key = row
    return Table(name, tuple(Column(*c) for c in columns), opened, tuple(key))


def _read_row(read: Read) -> list[Any]:
    columns = None if read.columns is None else sorted(read.columns)
    return [read.table, columns, read.file, read.line]


def _read(row: Any) -> Read:
    table, columns, file, line = row
    return Read(table, None if columns is None else frozenset(columns), file, line)


def _part(text: str) -> PartId:
    kind, _, name = text.partition(":")
    return PartId(Kind.named(kind), name)


def _stage(row: Any) -> Stage:
    name, works_on, after, file, line = row
    return Stage(name, tuple(map(_part, works_on)), tuple(after), file, line)


def _same(value: Any) -> Any:
    return value


def _each(one: Callable[[Any], Any]) -> Callable[[Any], tuple[Any, ...]]:
    return lambda rows: tuple(one(row) for row in rows)


def _said_of_node(row: Any) -> tuple[Node, str]:
    owner, field, parsed = row
    return Node(owner, field), parsed


_ABOUT_NODES = (_each(lambda pair: [*pair[0], pair[1]]), _each(_said_of_node))

_MORE: Mapping[str, tuple[Callable[[Any], Any], Callable[[Any], Any]]] = {
    "fills": (list, tuple),
    "documents": (list, tuple),
    "needs": (
        _each(lambda n: [str(n.wanted), n.file, n.line, n.place]),
        _each(lambda row: Need(_part(row[0]), *row[1:])),
    ),
    "uses": (_each(list), _each(lambda row: Use(*row))),
    "stages": (
        _each(lambda s: [s.name, [str(p) for p in s.works_on], list(s.after), s.file, s.line]),
        _each(_stage),
    ),
    "schedules": (_each(list), _each(lambda row: Scheduled(*row))),
    "managed_outside": (_same, bool),
    "keeps_rows": (_same, bool),
    "moved_from": (_same, str),
    "classes": _ABOUT_NODES,
    "declassified": _ABOUT_NODES,
    "counts": (_each(list), _each(lambda row: Node(*row))),
    "cleared": (list, tuple),
    "addresses": (list, tuple),
    "place": (_same, str),
    "owner": (_same, str),
    "documented": (list, tuple),
    "checks": (list, tuple),
    "requires": (list, tuple),
    "python": (_same, str),
    "verifications": (_each(Verification.to_json), _each(Verification.from_json)),
    "traits": (list, _each(Trait)),
    "literals": (_each(list), _each(lambda row: Literal(*row))),
    "wrong": (_each(_read_row), _each(_read)),
    "findings": (_each(Finding.to_json), _each(finding_from)),
    "readable": (_same, bool),
}
"""How each thing that only some outlines have is written and read."""
