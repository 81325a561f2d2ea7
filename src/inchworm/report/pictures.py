"""Lineage as a picture: boxes of tables and parts in layers, from left to right.

The layers are those of the longest path, and boxes are ordered within a layer by the mean place of
their neighbours, swept to and fro (the barycenter heuristic of Sugiyama, Tagawa and Toda, 1981).
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from graphlib import CycleError, TopologicalSorter
from pathlib import Path
from typing import TYPE_CHECKING, Any

from inchworm.core.lineage import Edge, How, Node

if TYPE_CHECKING:
    from matplotlib.axes import Axes

_ROW = 0.24  # inches
_LETTER = 0.078  # inches, of the font below at its size
_FONT: dict[str, Any] = {"family": "DejaVu Sans", "size": 8}
_BETWEEN_BOXES = 0.3
_BETWEEN_LAYERS = 1.5
_MARGIN = 0.3
_SWEEPS = 12
_LINES: Mapping[How, tuple[str, str]] = {
    How.COPIED: ("#1b6e53", "solid"),
    How.COMPUTED: ("#23527c", (0, (6, 1.5))),  # type: ignore[dict-item]
    How.ROWS: ("#b07818", (0, (2, 2))),  # type: ignore[dict-item]
    How.WHOLE: ("#8a3f6b", (0, (1, 3))),  # type: ignore[dict-item]
}
_TABLE, _PART, _EDGE_OF_BOX = "#eef2f0", "#f6eedd", "#5b6661"


@dataclass
class Box:
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


def layers_of(edges: Iterable[Edge]) -> list[list[str]]:
    """Owners in layers, so that edges lead to the right but for those that close a circle.

    Within a layer they are in an order that keeps crossings few.
    """
    before: dict[str, set[str]] = defaultdict(set)
    for edge in edges:
        before[edge.source.owner]
        if edge.source.owner != edge.target.owner:
            before[edge.target.owner].add(edge.source.owner)
    order = _without_circles(before)
    depth: dict[str, int] = {}
    for owner in order:
        depth[owner] = max((depth[b] + 1 for b in before[owner] if b in depth), default=0)
    layers: list[list[str]] = [[] for _ in range(max(depth.values(), default=-1) + 1)]
    for owner in sorted(order):
        layers[depth[owner]].append(owner)
    return _untangled(layers, before)


def _without_circles(before: dict[str, set[str]]) -> list[str]:
    left = {owner: set(others) for owner, others in before.items()}
    while True:
        try:
            return list(
                TopologicalSorter({o: sorted(left[o]) for o in sorted(left)}).static_order()
            )
        except CycleError as error:
            circle = error.args[1]
            left[circle[1]].discard(circle[0])


def _untangled(layers: list[list[str]], before: Mapping[str, set[str]]) -> list[list[str]]:
    beside: dict[str, set[str]] = defaultdict(set)
    for owner, others in before.items():
        for other in others:
            beside[owner].add(other)
            beside[other].add(owner)
    for sweep in range(_SWEEPS):
        inwards = range(1, len(layers)) if sweep % 2 == 0 else range(len(layers) - 2, -1, -1)
        place = {o: i / max(1, len(layer)) for layer in layers for i, o in enumerate(layer)}
        for at in inwards:
            neighbour = set(layers[at - 1] if sweep % 2 == 0 else layers[at + 1])

            def middle(owner: str, near: set[str] = neighbour) -> float:
                places = [place[o] for o in beside[owner] & near]  # noqa: B023  used at once
                return sum(places) / len(places) if places else place[owner]  # noqa: B023

            layers[at] = sorted(layers[at], key=lambda o: (middle(o), o))
            place |= {o: i / len(layers[at]) for i, o in enumerate(layers[at])}
    return layers


def place_boxes(edges: Sequence[Edge]) -> tuple[dict[str, Box], float, float]:
    """Boxes by owner, and the width and height of the whole in inches."""
    nodes = {node for edge in edges for node in (edge.source, edge.target)}
    layers = layers_of(edges)
    boxes = {
        owner: Box(owner, sorted(n.field for n in nodes if n.owner == owner and n.field))
        for layer in layers
        for owner in layer
    }
    tall = [sum(boxes[o].height + _BETWEEN_BOXES for o in layer) for layer in layers]
    left = _MARGIN
    for layer, used in zip(layers, tall, strict=True):
        top = _MARGIN + (max(tall) - used) / 2
        for owner in layer:
            boxes[owner].left, boxes[owner].top = left, top
            top += boxes[owner].height + _BETWEEN_BOXES
        left += max(boxes[owner].width for owner in layer) + _BETWEEN_LAYERS
    return boxes, left - _BETWEEN_LAYERS + _MARGIN, max(tall) + 2 * _MARGIN


def draw_lineage(edges: Sequence[Edge], file: Path) -> None:
    """Draw edges into an ``.svg`` or ``.png``; the same edges always give the same picture."""
    import matplotlib

    matplotlib.use("agg")
    matplotlib.rcParams["svg.hashsalt"] = "inchworm"
    from matplotlib.figure import Figure

    boxes, width, height = place_boxes(edges)
    width = max(width, 5.5)
    figure = Figure(figsize=(width, height + _ROW * 2))
    axes = figure.add_axes((0, 0, 1, 1))
    axes.set_xlim(0, width)
    axes.set_ylim(height + _ROW * 2, 0)
    axes.axis("off")
    for edge in edges:
        _draw_edge(axes, edge, boxes)
    for box in boxes.values():
        _draw_box(axes, box)
    _draw_legend(axes, sorted({edge.how for edge in edges}, key=list(How).index), height)
    metadata = {"Date": None} if file.suffix.lower() == ".svg" else {}
    figure.savefig(file, dpi=110, metadata=metadata)


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


def _draw_edge(axes: Axes, edge: Edge, boxes: Mapping[str, Box]) -> None:
    from matplotlib.patches import FancyArrowPatch
    from matplotlib.path import Path as Curve

    source, target = boxes[edge.source.owner], boxes[edge.target.owner]
    colour, style = _LINES[edge.how]
    start = (source.left + source.width, source.row(edge.source.field))
    end = (target.left, target.row(edge.target.field))
    bend = max(0.4, abs(end[0] - start[0]) * 0.45)
    curve = Curve(
        [start, (start[0] + bend, start[1]), (end[0] - bend, end[1]), end],
        [Curve.MOVETO, Curve.CURVE4, Curve.CURVE4, Curve.CURVE4],
    )
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
