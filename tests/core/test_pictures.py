"""Laying out lineage in layers."""

from __future__ import annotations

from hypothesis import given
from hypothesis import strategies as st

from inchworm.core.lineage.graph import Edge, How, Node
from inchworm.report.pictures import Passage, layers_of, place_boxes

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
