"""Two sides, each a version of the project or an environment, compared part by part."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from enum import StrEnum

from msgspec import Struct, field

from inchworm.core.environments.environment import DatabaseAddress
from inchworm.core.identifiers import PartId
from inchworm.core.parts import Digest
from inchworm.core.structure.definitions import Definition


class PartState(StrEnum):
    """How a part on one side stands to the same part on the other."""

    SAME = "same"
    DIFFERS = "differs"
    VALUES_ONLY = "values only"
    """The same part, put in place with other values."""
    ONLY_IN_A = "only in A"
    ONLY_IN_B = "only in B"
    HELD = "held"
    """It differs, and is meant to: it is on hold."""
    DRIFTED = "drifted"
    """Somebody changed it by hand on one side."""


class SidePart(Struct, frozen=True, kw_only=True):
    """A part on one side.

    Attributes:
        content: the digest of its files.
        version: the bundle that it is from; empty of a source tree.
        values: the values that it was put in place with; None where it was not put anywhere.
    """

    content: Digest
    version: str = ""
    values: Mapping[str, str] | None = None


class Side(Struct, frozen=True, kw_only=True):
    """A version of the project, or an environment.

    Attributes:
        holds: the reasons why parts are on hold there.
        drifted: parts that somebody changed there by hand.
        schedules: the state of each ``pipeline.schedule``; None of a version.
        rights: what others may do, by logical name and role; None of a version.
    """

    name: str
    parts: Mapping[PartId, SidePart]
    holds: Mapping[PartId, str] = field(default_factory=dict)
    drifted: frozenset[PartId] = frozenset()
    schedules: Mapping[str, str] | None = None
    rights: Mapping[str, str] | None = None


def rights_of(granted: Iterable[Definition], address: DatabaseAddress) -> dict[str, str]:
    """What others may do: ``hydro.gauge to analysts``, and the privileges.

    Args:
        granted: the rights, by the names that relations have in an environment.
        address: that of its database.
    """
    head, _, tail = address.schema_pattern.partition("{schema}")
    rights = {}
    for each in granted:
        schema, _, rest = each.name.partition(".")
        logical = schema.removeprefix(head).removesuffix(tail)
        privileges = re.findall(r"^GRANT (.+?) ON ", each.sql, re.MULTILINE)
        rights[f"{logical}.{rest}"] = ", ".join(privileges)
    return rights


class ComparedPart(Struct, frozen=True, kw_only=True):
    """A part, and how its two sides stand to each other.

    Attributes:
        a: the bundle that it is from on the first side; empty of a source tree.
        b: the same of the second.
        details: what differs, or why it is held, in words.
    """

    part: PartId
    state: PartState
    a: str = ""
    b: str = ""
    details: tuple[str, ...] = ()


def compare_sides(a: Side, b: Side) -> list[ComparedPart]:
    """Every part of either side, by name."""
    return [_compared(part, a, b) for part in sorted({*a.parts, *b.parts})]


def counts(compared: Sequence[ComparedPart]) -> dict[PartState, int]:
    """How many parts are in each state, in the order of states; those without any are left out."""
    counted = Counter(each.state for each in compared)
    return {state: counted[state] for state in PartState if counted[state]}


def _compared(part: PartId, a: Side, b: Side) -> ComparedPart:
    one, other = a.parts.get(part), b.parts.get(part)
    state, details = _state(one, other)
    held = [f"{side.name}: {side.holds[part]}" for side in (a, b) if part in side.holds]
    drifted = [side.name for side in (a, b) if part in side.drifted]
    if drifted:
        state, details = PartState.DRIFTED, (f"by hand in {' and '.join(drifted)}",)
    elif held and state is not PartState.SAME:
        state, details = PartState.HELD, tuple(held)
    return ComparedPart(
        part=part,
        state=state,
        a=one.version if one else "",
        b=other.version if other else "",
        details=details,
    )


def _state(one: SidePart | None, other: SidePart | None) -> tuple[PartState, tuple[str, ...]]:
    if one is None:
        return PartState.ONLY_IN_B, ()
    if other is None:
        return PartState.ONLY_IN_A, ()
    if one.content != other.content:
        return PartState.DIFFERS, ()
    if one.values is not None and other.values is not None:
        names = sorted({*one.values, *other.values})
        differing = [
            f"{name}: {one.values.get(name, '-')} | {other.values.get(name, '-')}"
            for name in names
            if one.values.get(name) != other.values.get(name)
        ]
        if differing:
            return PartState.VALUES_ONLY, tuple(differing)
    return PartState.SAME, ()


def compare_schedules(a: Side, b: Side) -> list[tuple[str, str, str]]:
    """Schedules that have another state on each side: name, and both states."""
    return _unlike(a.schedules, b.schedules)


def compare_rights(a: Side, b: Side) -> list[tuple[str, str, str]]:
    """Rights that are others on each side: on what and of whom, and the privileges on both."""
    return _unlike(a.rights, b.rights)


def _unlike(a: Mapping[str, str] | None, b: Mapping[str, str] | None) -> list[tuple[str, str, str]]:
    if a is None or b is None:
        return []
    return [
        (name, a.get(name, "-"), b.get(name, "-"))
        for name in sorted({*a, *b})
        if a.get(name) != b.get(name)
    ]
