"""The values that a draft shows: those that differ from elsewhere, or from before."""

from __future__ import annotations

from collections.abc import Iterable

from inchworm.core.identifiers import PartId
from inchworm.core.promotion.drafting.request import Request
from inchworm.core.promotion.promotion import DifferingValue


def differing_values(request: Request, changed: Iterable[PartId]) -> tuple[DifferingValue, ...]:
    """Values that some parts use, and that differ where the bundle came from, or before."""
    used = {u.parameter for part in changed for u in request.assembly.outlines[part].uses}
    differing = []
    for name in sorted(used):
        value = request.values[name].text
        other = request.values_there.get(name)
        elsewhere = other.text if other is not None else None
        before = _value_before(request, name, value)
        if elsewhere != value or before is not None:
            differing.append(DifferingValue(name=name, here=value, there=elsewhere, before=before))
    return tuple(differing)


def values_used(request: Request) -> dict[str, str]:
    """Every value that a part of the bundle uses, as text, by parameter."""
    used = {use.parameter for o in request.assembly.outlines.values() for use in o.uses}
    return {name: request.values[name].text for name in sorted(used)}


def _value_before(request: Request, name: str, value: str) -> str | None:
    """Another value that a live part was put with."""
    were = (part.values.get(name) for part in request.live.parts.values())
    return next((other for other in were if other is not None and other != value), None)
