"""Laying out lineage in layers."""

from __future__ import annotations

import re

from hypothesis import given
from hypothesis import strategies as st

from inchworm.core.lineage.graph import Edge, How, Node
from inchworm.report.lineage_svg import lineage_svg
from inchworm.report.pictures import (
    MOST_BOXES,
    Passage,
    curve_of,
    layers_of,
    place_boxes,
)

_owners = st.sampled_from([f"s.t{i}" for i in range(7)])
_nodes = st.builds(Node, _owners, st.sampled_from([None, "a", "b"]))
_edges = st.lists(st.builds(Edge, _nodes, _nodes, st.sampled_from(How)), min_size=1, max_size=15)


def test_a_long_edge_passes_through_the_layers_between() -> None:
    """So that it does not run behind a box."""
    a, b, c = (Node(f"s.{name}") for name in "abc")
    edges = [Edge(a, b, How.COPIED), Edge(b, c, How.COPIED), Edge(a, c, How.ROWS)]
    layers = layers_of(edges)
    assert [set(layer) for layer in layers] == [
        {"s.a"},
        {"s.b", Passage("s.a", "s.c", 1)},
        {"s.c"},
    ]


@given(_edges)
def test_every_owner_stands_once(edges: list[Edge]) -> None:
    """Circles too; and what others lead to stands to their right wherever that can be."""
    layers = layers_of(edges)
    owners = [slot for layer in layers for slot in layer if isinstance(slot, str)]
    assert sorted(owners) == sorted({n.owner for e in edges for n in (e.source, e.target)})


@given(_edges)
def test_boxes_do_not_overlap(edges: list[Edge]) -> None:
    """Neither within a layer nor between layers."""
    boxes = list(place_boxes(edges).boxes.values())
    for i, one in enumerate(boxes):
        for other in boxes[:i]:
            beside = one.left + one.width <= other.left or other.left + other.width <= one.left
            above = one.top + one.height <= other.top or other.top + other.height <= one.top
            assert beside or above


@given(_edges)
def test_no_edge_leaves_the_picture(edges: list[Edge]) -> None:
    """Also where it leads back, to close a circle; a curve stays between its control points."""
    placed = place_boxes(edges)
    for edge in edges:
        for x, y in curve_of(edge, placed):
            assert 0 < x < placed.width
            assert 0 < y < placed.height


def test_a_page_shows_schemas_where_there_are_too_many_tables() -> None:
    """Those with a table that is worked on are marked."""
    edges = [Edge(Node(f"a.t{i}"), Node(f"b.t{i}"), How.COPIED) for i in range(MOST_BOXES // 2)]
    assert ">a.t1<" in lineage_svg(edges, {"a.t1"})
    edges += [
        Edge(Node("b.t1"), Node("flow:out"), How.ROWS),
        Edge(Node("c.t1"), Node("c.t2"), How.ROWS),
    ]
    picture = lineage_svg(edges, {"a.t1"})
    assert ">a.t1<" not in picture
    marks = re.findall(r'<g class="(\w+)">.*?>([^<>]+)</text>', picture)
    assert sorted(marks) == [
        ("reached", "b.*"),
        ("reached", "c.*"),
        ("reached", "flow:*"),
        ("touched", "a.*"),
    ]
