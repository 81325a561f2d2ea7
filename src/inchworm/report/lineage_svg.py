"""Lineage as SVG that stands in a page: tables and parts, and what of them is worked on."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Sequence
from html import escape

from inchworm.core.lineage.graph import Edge, between_groups, group_of
from inchworm.report.pictures import MOST_BOXES, Box, Placed, curve_of, owners_in, place_boxes

_DOTS = 96
"""Dots for each inch of a placed picture."""


def lineage_svg(edges: Sequence[Edge], touched: Collection[str]) -> str:
    """A picture of some lineage; empty where there is none.

    Of more tables and parts than can be read it shows their schemas and kinds.

    Args:
        edges: between owners.
        touched: owners that are worked on; they are drawn with a stronger line.
    """
    if not edges:
        return ""
    if len(owners_in(edges)) > MOST_BOXES:
        edges, touched = between_groups(edges), {group_of(owner) for owner in touched}
    placed = place_boxes(edges)
    size = f"{placed.width * _DOTS:.0f} {placed.height * _DOTS:.0f}"
    shapes = [*(_line(edge, placed) for edge in edges), *_boxes(placed, touched)]
    return (
        f'<svg class="lineage" viewBox="0 0 {size}" role="img" '
        f'aria-label="Lineage of what changes" width="{placed.width * _DOTS:.0f}">'
        '<defs><marker id="tip" viewBox="0 0 8 8" refX="7" refY="4" markerWidth="7" '
        'markerHeight="7" orient="auto"><path d="M0 0 L8 4 L0 8 z"/></marker></defs>'
        f"{''.join(shapes)}</svg>"
    )


def _boxes(placed: Placed, touched: Collection[str]) -> Iterator[str]:
    for box in placed.boxes.values():
        kind = "touched" if box.owner in touched else "reached"
        yield (
            f'<g class="{kind}"><rect x="{_dots(box.left)}" y="{_dots(box.top)}" rx="3" '
            f'width="{_dots(box.width)}" height="{_dots(box.height)}"/>'
            f'<text x="{_dots(box.left + 0.1)}" y="{_dots(_middle(box) + 0.045)}">'
            f"{escape(box.owner)}</text></g>"
        )


def _line(edge: Edge, placed: Placed) -> str:
    (start, *rest) = (f"{_dots(x)} {_dots(y)}" for x, y in curve_of(edge, placed))
    return f'<path class="edge" d="M{start} C{" ".join(rest)}" marker-end="url(#tip)"/>'


def _middle(box: Box) -> float:
    return box.row(None)


def _dots(inches: float) -> str:
    return f"{inches * _DOTS:.1f}"
