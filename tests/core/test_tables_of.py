"""The tables of all parts, brought up to date part by part, are those that a new list has."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from inchworm.core.identifiers import Kind, PartId
from inchworm.core.lineage.facts import Facts, FactsOf, Outline, Read, TablesOf, outline_of
from inchworm.core.parts import digest_of
from inchworm.core.structure.tables import Column, Table

PARTS = [
    PartId(Kind.MODEL, "m.a"),
    PartId(Kind.MODEL, "m.b"),
    PartId(Kind.NOTEBOOK, "n"),
    PartId(Kind.SCHEMA, "m"),
]

changes = st.lists(
    st.tuples(
        st.sampled_from(PARTS),
        st.dictionaries(st.sampled_from(["m.a", "m.b", "m.c"]), st.sampled_from("xy"), max_size=3),
    ),
    max_size=12,
)


def facts_of(part: PartId, columns: dict[str, str]) -> Facts:
    """Facts of a part that provides these tables, each with one column."""
    provides = (Table(name, (Column(column, "INTEGER"),)) for name, column in columns.items())
    return Facts(part=part, provides=tuple(provides))


@given(changes)
def test_one_by_one_as_all_at_once(changes: list[tuple[PartId, dict[str, str]]]) -> None:
    facts: dict[PartId, Facts] = {}
    outlines: dict[PartId, Outline] = {}
    tables = TablesOf({}, facts.__getitem__)
    for part, columns in changes:
        facts[part] = facts_of(part, columns)
        before = outlines.get(part)
        outlines[part] = outline_of(
            facts[part], file="", digest=digest_of(b""), saw={}, tables={}, findings=()
        )
        anew = TablesOf({p: outlines[p] for p in sorted(outlines)}, facts.__getitem__)
        if not tables.renew(before, outlines[part]):
            tables = anew
        assert dict(tables) == dict(anew)
        assert tables.provider == anew.provider


@pytest.mark.parametrize(
    ("table", "wrong"),
    [
        (Table("m.a", (Column("x", "INTEGER"), Column("y", "INTEGER"))), []),
        (Table("m.a", (Column("x", "INTEGER"),)), [{"y"}]),
        (Table("m.a", (Column("x", "INTEGER"),), open=True), []),
        (None, [None]),
    ],
)
def test_a_read_is_wrong_as_far_as_it_is_of_what_is_not_there(
    table: Table | None, wrong: list[set[str] | None]
) -> None:
    """Of a table that may have more columns than are known, no read is wrong."""
    facts = Facts(part=PARTS[1], reads=(Read("m.a", frozenset("xy"), "models/m/b.sql", 2),))
    tables = {} if table is None else {"m.a": table}
    outline = outline_of(facts, file="", digest=digest_of(b""), saw={}, tables=tables, findings=())
    assert [read.columns for read in outline.wrong] == wrong
    assert all(read.line == 2 for read in outline.wrong)


def test_facts_are_those_of_readable_parts() -> None:
    outlines = {
        part: outline_of(
            Facts(part=part),
            file="",
            digest=digest_of(b""),
            saw={},
            tables={},
            findings=(),
            readable=part != PARTS[0],
        )
        for part in PARTS[:3]
    }
    facts = FactsOf(outlines, lambda part: Facts(part=part))
    assert dict(facts) == {part: Facts(part=part) for part in PARTS[1:3]}
    assert [part in facts for part in PARTS] == [False, True, True, False]
    assert len(facts) == 2
    with pytest.raises(KeyError, match=r"m\.a"):
        facts[PARTS[0]]
