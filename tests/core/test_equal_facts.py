"""Facts are equal when no rule could tell them apart."""

from __future__ import annotations

import pytest
from msgspec.structs import replace

from inchworm.core.checks import rules
from inchworm.core.identifiers import Kind, PartId
from inchworm.core.lineage.equal_facts import equal_facts
from inchworm.core.lineage.facts import Facts, Need, Read, Use, outline_of
from inchworm.core.lineage.facts_text import write_facts
from inchworm.core.lineage.graph import Edge, How, Node
from inchworm.core.parameters.literals import Literal
from inchworm.core.parts import digest_of
from inchworm.core.structure.tables import Column, Table

PART = PartId(Kind.MODEL, "hydro.peak")
FILE = "models/hydro/peak.sql"
GAUGE = PartId(Kind.CONSUMER, "map")
FACTS = Facts(
    part=PART,
    provides=(Table("hydro.peak", (Column("level", "INTEGER"),)),),
    reads=(Read("hydro.level", frozenset({"level"}), FILE, 3),),
    edges=(
        Edge(Node("hydro.level", "level"), Node("hydro.peak", "level"), How.COMPUTED),
        Edge(Node("hydro.level", "hour"), Node("hydro.peak"), How.ROWS),
    ),
    needs=(Need(GAUGE, FILE, 2),),
    uses=(Use("least", FILE, 5),),
    owner="hydrology",
)


def text_of(
    facts: Facts, *, content: bytes = b"", literal_at: int = 7, finding_at: int = 9, text: str = "a"
) -> str:
    """The facts as they are remembered."""
    finding = rules.MALFORMED.finding(text, part=PART, file=FILE, line=finding_at)
    outline = outline_of(
        facts,
        file=FILE,
        digest=digest_of(content),
        saw={"hydro.level": "x"},
        tables={},
        findings=(finding,),
        literals=(Literal("flood", FILE, literal_at),),
    )
    return write_facts(facts, outline)


SAME = {
    "other files": text_of(FACTS, content=b"other"),
    "edges in another order": text_of(replace(FACTS, edges=FACTS.edges[::-1])),
}
MOVED = {
    "read": text_of(replace(FACTS, reads=(FACTS.reads[0]._replace(line=4),))),
    "need": text_of(replace(FACTS, needs=(FACTS.needs[0]._replace(line=4),))),
    "use": text_of(replace(FACTS, uses=(FACTS.uses[0]._replace(line=4),))),
    "literal": text_of(FACTS, literal_at=8),
    "finding": text_of(FACTS, finding_at=8),
}
OTHER = {
    "structure": text_of(
        replace(FACTS, provides=(Table("hydro.peak", (Column("level", "BIGINT"),)),))
    ),
    "columns read": text_of(
        replace(FACTS, reads=(FACTS.reads[0]._replace(columns=frozenset({"level", "hour"})),))
    ),
    "one edge less": text_of(replace(FACTS, edges=FACTS.edges[:1])),
    "another kind of edge": text_of(
        replace(FACTS, edges=(FACTS.edges[0]._replace(how=How.COPIED), FACTS.edges[1]))
    ),
    "owner": text_of(replace(FACTS, owner="duty desk")),
    "parameter": text_of(replace(FACTS, uses=(FACTS.uses[0]._replace(parameter="most"),))),
    "message": text_of(FACTS, text="b"),
}


@pytest.mark.parametrize("other", SAME.values(), ids=SAME)
def test_what_no_rule_sees_makes_no_difference(other: str) -> None:
    assert equal_facts(text_of(FACTS), other, lines_count=True)


@pytest.mark.parametrize("other", MOVED.values(), ids=MOVED)
def test_lines_count_only_where_they_are_said_to(other: str) -> None:
    assert equal_facts(text_of(FACTS), other, lines_count=False)
    assert not equal_facts(text_of(FACTS), other, lines_count=True)


@pytest.mark.parametrize("other", OTHER.values(), ids=OTHER)
def test_whatever_a_rule_sees_makes_a_difference(other: str) -> None:
    assert not equal_facts(text_of(FACTS), other, lines_count=False)
