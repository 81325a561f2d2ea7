"""Facts and outlines as JSON text and back, compact enough to keep those of 10,000 parts.

The text of a part has three lines, so that each can be read without the others:

1. the outline, without what it has by default;
2. the tables that the part provides;
3. what it reads, and its edges; an edge names the owners at its ends by their place in ``touches``.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import NamedTuple

from msgspec import Struct
from msgspec.json import Decoder, Encoder

from inchworm.core.identifiers import PartId
from inchworm.core.lineage.facts import IN_BOTH, Facts, Outline, Read
from inchworm.core.lineage.facts_cache import FactsCache
from inchworm.core.lineage.graph import Edge, How, Node
from inchworm.core.structure.tables import Table

_HOWS = tuple(How)
_HOW_AT = {how: i for i, how in enumerate(_HOWS)}


class _EdgeRow(NamedTuple):
    """An edge; its ends and how they hang together are told by places in lists."""

    source: int
    source_field: str | None
    target: int
    target_field: str | None
    how: int


class _Rest(Struct, frozen=True):
    """What the outline and the tables do not tell."""

    reads: tuple[Read, ...]
    edges: tuple[_EdgeRow, ...]


_TEXT = Encoder(enc_hook=str, order="deterministic")  # names are texts that know their pieces
_OUTLINE = Decoder(Outline)
_OUTLINES = Decoder(list[Outline])
_TABLES = Decoder(tuple[Table, ...])
_REST = Decoder(_Rest)


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


def write_facts(facts: Facts, outline: Outline) -> str:
    """Facts, with their outline, as text of three lines."""
    at = {owner: i for i, owner in enumerate(outline.touches)}
    edges = (
        _EdgeRow(at[s.owner], s.field, at[t.owner], t.field, _HOW_AT[how])
        for s, t, how in facts.edges
    )
    rest = _Rest(facts.reads, tuple(edges))
    return b"\n".join(map(_TEXT.encode, (outline, facts.provides, rest))).decode()


def read_outline(text: str) -> Outline:
    """The outline at the head of a text."""
    return _OUTLINE.decode(outline_line(text))


def read_outlines(lines: Iterable[str]) -> list[Outline]:
    """The outlines that lines are."""
    return _OUTLINES.decode(f"[{','.join(lines)}]")


def outline_line(text: str) -> str:
    """The line of a text that is the outline."""
    return text.partition("\n")[0]


def tables_line(text: str) -> str:
    """The line of a text that is the tables."""
    return text.split("\n", 2)[1]


def read_tables(line: str) -> tuple[Table, ...]:
    """The tables that a line tells."""
    return _TABLES.decode(line)


def read_facts(text: str) -> Facts:
    """The facts that a text tells."""
    head, tables, rest = text.split("\n")
    outline, body = _OUTLINE.decode(head), _REST.decode(rest)
    owners = outline.touches
    return Facts(
        part=outline.part,
        provides=read_tables(tables),
        reads=body.reads,
        edges=tuple(
            Edge(Node(owners[s], sf), Node(owners[t], tf), _HOWS[how])
            for s, sf, t, tf, how in body.edges
        ),
        **{name: getattr(outline, name) for name in IN_BOTH},
    )
