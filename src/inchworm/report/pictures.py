"""Lineage as a picture: boxes of tables and parts in layers, from left to right.

The layers are those of the longest path, and boxes are ordered within a layer by the mean place of
their neighbours, swept to and fro (the barycenter heuristic of Sugiyama, Tagawa and Toda, 1981).
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Mapping, Sequence
from graphlib import CycleError, TopologicalSorter
from itertools import pairwise
from pathlib import Path
from statistics import fmean
from typing import TYPE_CHECKING, Any

from msgspec import Struct

from inchworm.core.lineage.graph import Edge, How, Node
from inchworm.report.figures import new_figure, save

if TYPE_CHECKING:
    from matplotlib.axes import Axes

_ROW = 0.24  # inches
_LETTER = 0.078  # inches, of the font below at its size
_FONT: dict[str, Any] = {"family": "DejaVu Sans", "size": 8}
_BETWEEN_BOXES = 0.3
_BETWEEN_LAYERS = 1.5
_MARGIN = 0.3
_PASSAGE = 0.2
_TURN = 0.5
_SWEEPS = 12
_LINES: Mapping[How, tuple[str, str]] = {
    How.COPIED: ("#1b6e53", "solid"),
    How.COMPUTED: ("#23527c", (0, (6, 1.5))),  # type: ignore[dict-item]
    How.ROWS: ("#b07818", (0, (2, 2))),  # type: ignore[dict-item]
    How.WHOLE: ("#8a3f6b", (0, (1, 3))),  # type: ignore[dict-item]
}
_TABLE, _PART, _EDGE_OF_BOX = "#eef2f0", "#f6eedd", "#5b6661"


class Box(Struct):
    """A table or part: its left and top in inches (downwards), and its rows."""

    owner: str
    fields: list[str]
    left: float = 0.0
    top: float = 0.0

    @property
    def height(self) -> float:
        """Inches."""
        return _ROW * (1 + len(self.fields))

    @property
    def width(self) -> float:
        """Inches."""
        return 0.2 + _LETTER * max(map(len, [self.owner, *(f"  {f}" for f in self.fields)]))

    def row(self, field: str | None) -> float:
        """Inches from the top of the picture to the middle of a field's row."""
        at = 0 if field is None else 1 + self.fields.index(field)
        return self.top + _ROW * (at + 0.5)


class Passage(Struct, frozen=True, order=True):
    """A gap in a layer through which edges pass that lead further than to the next layer."""

    source: str
    target: str
    layer: int


Slot = str | Passage
"""A slot of a layer: an owner's box, or a passage."""


def layers_of(edges: Iterable[Edge]) -> list[list[Slot]]:
    """Owners in layers, so that edges lead to the right but for those that close a circle.

    Edges that lead further than one layer have passages in those between. Within a layer the order
    is one that keeps crossings few.
    """
    before: dict[str, set[str]] = defaultdict(set)
    for edge in edges:
        before[edge.source.owner]
        if edge.source.owner != edge.target.owner:
            before[edge.target.owner].add(edge.source.owner)
    depth: dict[str, int] = {}
    for owner in _without_circles(before):
        depth[owner] = max((depth[b] + 1 for b in before[owner] if b in depth), default=0)
    layers: list[list[Slot]] = [[] for _ in range(max(depth.values(), default=-1) + 1)]
    for owner in sorted(depth):
        layers[depth[owner]].append(owner)
    beside: dict[Slot, set[Slot]] = defaultdict(set)
    for target, sources in sorted(before.items()):
        for source in sorted(sources):
            way: list[Slot] = [source, *passages(source, target, depth), target]
            for passage in way[1:-1]:
                assert isinstance(passage, Passage)
                layers[passage.layer].append(passage)
            for one, other in pairwise(way):
                beside[one].add(other)
                beside[other].add(one)
    return _untangled(layers, beside)


def passages(source: str, target: str, layer_of: Mapping[str, int]) -> list[Passage]:
    """The passages on the way from one owner to another."""
    between = range(layer_of[source] + 1, layer_of[target])
    return [Passage(source, target, layer) for layer in between]


def _without_circles(before: dict[str, set[str]]) -> list[str]:
    left = {owner: set(others) for owner, others in before.items()}
    while True:
        try:
            sorter = TopologicalSorter({owner: sorted(left[owner]) for owner in sorted(left)})
            return list(sorter.static_order())
        except CycleError as error:
            circle = error.args[1]
            left[circle[1]].discard(circle[0])


def _untangled(layers: list[list[Slot]], beside: Mapping[Slot, set[Slot]]) -> list[list[Slot]]:
    place = {slot: i / max(1, len(layer)) for layer in layers for i, slot in enumerate(layer)}
    for sweep in range(_SWEEPS):
        step = 1 if sweep % 2 == 0 else -1
        inner = range(1, len(layers)) if step == 1 else range(len(layers) - 2, -1, -1)
        for at in inner:
            near = set(layers[at - step])
            middle = {
                slot: fmean([place[o] for o in beside.get(slot, set()) & near] or [place[slot]])
                for slot in layers[at]
            }
            layers[at] = sorted(layers[at], key=lambda slot: (middle[slot], str(slot)))
            place |= {slot: (i + 0.5) / len(layers[at]) for i, slot in enumerate(layers[at])}
    return layers


class Placed(Struct, frozen=True):
    """A picture's parts in inches: boxes by owner, passages, and the size of the whole."""

    boxes: Mapping[str, Box]
    passages: Mapping[Passage, tuple[float, float]]
    layer_of: Mapping[str, int]
    width: float
    height: float


MOST_BOXES = 300
"""Boxes up to which a picture can be read; one of thousands takes minutes, and is a grey band."""


def owners_in(edges: Iterable[Edge]) -> set[str]:
    """The tables and parts at the ends of edges."""
    return {node.owner for edge in edges for node in (edge.source, edge.target)}


def place_boxes(edges: Sequence[Edge]) -> Placed:
    """Where everything in a picture is."""
    fields: dict[str, set[str]] = defaultdict(set)
    for node in {node for edge in edges for node in (edge.source, edge.target) if node.field}:
        fields[node.owner].add(node.field or "")
    layers = layers_of(edges)
    boxes = {
        owner: Box(owner, sorted(fields[owner]))
        for layer in layers
        for owner in layer
        if isinstance(owner, str)
    }

    def height(slot: Slot) -> float:
        return boxes[slot].height + _BETWEEN_BOXES if isinstance(slot, str) else _PASSAGE

    tall = max(sum(map(height, layer)) for layer in layers)
    middles: dict[Passage, tuple[float, float]] = {}
    left = _MARGIN
    for layer in layers:
        top = _MARGIN + (tall - sum(map(height, layer))) / 2
        wide = max(boxes[slot].width for slot in layer if isinstance(slot, str))
        for slot in layer:
            if isinstance(slot, str):
                boxes[slot].left, boxes[slot].top = left, top
            else:
                middles[slot] = (left + wide / 2, top + _PASSAGE / 2)
            top += height(slot)
        left += wide + _BETWEEN_LAYERS
    layer_of = {
        slot: i for i, layer in enumerate(layers) for slot in layer if isinstance(slot, str)
    }
    turns_back = any(layer_of[e.source.owner] >= layer_of[e.target.owner] for e in edges)
    below = tall + 2 * _MARGIN + (_TURN if turns_back else 0)
    return Placed(boxes, middles, layer_of, left - _BETWEEN_LAYERS + _MARGIN, below)


def curve_of(edge: Edge, placed: Placed) -> list[tuple[float, float]]:
    """The way of an edge: cubic Bézier curves, each from the end of the one before.

    It leads through passages from the right of one box to the left of another one. One that closes
    a circle leads back below the boxes.

    Returns:
        Points in inches: where it begins, then two control points and the end of each curve.
    """
    source, target = placed.boxes[edge.source.owner], placed.boxes[edge.target.owner]
    if placed.layer_of[source.owner] >= placed.layer_of[target.owner]:
        (start, leaves), (end, arrives) = (
            (box.left + share * box.width, box.top + box.height)
            for box, share in ((source, 0.65), (target, 0.35))
        )
        lowest = placed.height - _MARGIN / 2
        return [(start, leaves), (start, lowest), (end, lowest), (end, arrives)]
    between = passages(source.owner, target.owner, placed.layer_of)
    points = [
        (source.left + source.width, source.row(edge.source.field)),
        *(placed.passages[passage] for passage in between),
        (target.left, target.row(edge.target.field)),
    ]
    way = [points[0]]
    for (x, y), (next_x, next_y) in pairwise(points):
        bend = max(0.4, abs(next_x - x) * 0.45)
        way += [(x + bend, y), (next_x - bend, next_y), (next_x, next_y)]
    return way


def draw_lineage(edges: Sequence[Edge], file: Path) -> None:
    """Draw edges into an ``.svg`` or ``.png``; the same edges always give the same picture."""
    placed = place_boxes(edges)
    width, height = max(placed.width, 5.5), placed.height
    figure = new_figure((width, height + _ROW * 2))
    axes = figure.add_axes((0, 0, 1, 1))
    axes.set_xlim(0, width)
    axes.set_ylim(height + _ROW * 2, 0)
    axes.axis("off")
    for edge in edges:
        _draw_edge(axes, edge, placed)
    for box in placed.boxes.values():
        _draw_box(axes, box)
    _draw_legend(axes, sorted({edge.how for edge in edges}, key=list(How).index), height)
    save(figure, file)


def _draw_box(axes: Axes, box: Box) -> None:
    from matplotlib.patches import Rectangle

    colour = _PART if Node(box.owner).is_part else _TABLE
    axes.add_patch(
        Rectangle(
            (box.left, box.top),
            box.width,
            box.height,
            facecolor=colour,
            edgecolor=_EDGE_OF_BOX,
            linewidth=0.8,
        )
    )
    middle: dict[str, Any] = {"verticalalignment": "center", **_FONT}
    axes.text(box.left + 0.08, box.row(None), box.owner, weight="bold", **middle)
    for field in box.fields:
        axes.text(box.left + 0.2, box.row(field), field, **middle)


def _draw_edge(axes: Axes, edge: Edge, placed: Placed) -> None:
    from matplotlib.patches import FancyArrowPatch
    from matplotlib.path import Path as Curve

    colour, style = _LINES[edge.how]
    vertices = curve_of(edge, placed)
    codes = [Curve.MOVETO, *[Curve.CURVE4] * (len(vertices) - 1)]
    curve = Curve(vertices, codes)
    axes.add_patch(
        FancyArrowPatch(
            path=curve,
            arrowstyle="-|>",
            mutation_scale=7,
            color=colour,
            linestyle=style,
            linewidth=1.0,
            alpha=0.85,
        )
    )


def _draw_legend(axes: Axes, hows: Sequence[How], below: float) -> None:
    at = _MARGIN
    for how in hows:
        colour, style = _LINES[how]
        axes.plot([at, at + 0.45], [below + _ROW * 0.6] * 2, color=colour, linestyle=style, lw=1.2)
        axes.text(at + 0.52, below + _ROW * 0.6, how.value, verticalalignment="center", **_FONT)
        at += 0.52 + _LETTER * len(how.value) + 0.35
