"""The tables of all parts, brought up to date part by part, are those that a new list has."""

from __future__ import annotations

from hypothesis import given
from hypothesis import strategies as st

from inchworm.core.identifiers import Kind, PartId
from inchworm.core.lineage.facts import Facts, Outline, TablesOf, outline_of
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
