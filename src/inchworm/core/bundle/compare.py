"""What changed between two versions of a project, for those who rely on it.

The *interface* of a part is what others can rely on: the tables that it provides, with their
columns and types. A change of anything else is a change, too, but nobody outside can see it.
"""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum

from inchworm.core.identifiers import PartId
from inchworm.core.lineage.facts import Assembly
from inchworm.core.lineage.graph import Direction, Node
from inchworm.core.structure.tables import UNKNOWN_TYPE, Table


class Weight(StrEnum):
    """The weight of a change for the version number."""

    NONE = "none"
    PATCH = "patch"
    """Nobody outside can see it."""
    MINOR = "minor"
    """There is more than before."""
    MAJOR = "major"
    """Something that could be relied on is gone or different."""


@dataclass(frozen=True, kw_only=True)
class Change:
    """One difference.

    Attributes:
        part: the part that it is in.
        what: a word: ``added``, ``gone``, ``retyped``, ``loosened``, ``changed``.
        item: the table or column, where it is one.
        detail: for instance the two types.
        affected: parts further down that read it, in the version before.
    """

    part: PartId
    what: str
    item: str = ""
    detail: str = ""
    weight: Weight
    affected: tuple[str, ...] = ()


def compare(before: Assembly, after: Assembly) -> list[Change]:
    """Every difference between two versions, part by part."""
    changes: list[Change] = []
    for part in sorted({*before.parts, *after.parts}):
        if part not in after.parts:
            gone = _interface(before, part)
            affected = tuple(sorted({f for t in gone for f in _affected(before, Node(t))}))
            weight = Weight.MAJOR if gone else Weight.MINOR
            changes.append(Change(part=part, what="gone", weight=weight, affected=affected))
        elif part not in before.parts:
            changes.append(Change(part=part, what="added", weight=Weight.MINOR))
        elif before.parts[part].digest != after.parts[part].digest:
            found = _columns(before, after, part)
            changes += found or [Change(part=part, what="changed", weight=Weight.PATCH)]
        else:
            # the text is the same, but a star may show other columns now
            changes += _columns(before, after, part)
    return changes


def weight_of(changes: list[Change]) -> Weight:
    """The heaviest of some changes."""
    order = list(Weight)
    return max((change.weight for change in changes), key=order.index, default=Weight.NONE)


def next_version(version: str, weight: Weight) -> str:
    """The version after a change: ``1.4.2`` becomes ``2.0.0``, ``1.5.0`` or ``1.4.3``."""
    major, minor, patch = (int(number) for number in version.split("."))
    match weight:
        case Weight.MAJOR:
            return f"{major + 1}.0.0"
        case Weight.MINOR:
            return f"{major}.{minor + 1}.0"
        case Weight.PATCH:
            return f"{major}.{minor}.{patch + 1}"
    return version


def _interface(assembly: Assembly, part: PartId) -> dict[str, Table]:
    facts = assembly.facts.get(part)
    return {table.name: table for table in facts.provides} if facts else {}


def _columns(before: Assembly, after: Assembly, part: PartId) -> list[Change]:
    old, new = _interface(before, part), _interface(after, part)
    changes: list[Change] = []
    for name in sorted({*old, *new}):
        if name not in new:
            affected = _affected(before, Node(name))
            changes.append(
                Change(part=part, what="gone", item=name, weight=Weight.MAJOR, affected=affected)
            )
        elif name not in old:
            changes.append(Change(part=part, what="added", item=name, weight=Weight.MINOR))
        else:
            changes += _table(before, part, old[name], new[name])
    return changes


def _table(before: Assembly, part: PartId, old: Table, new: Table) -> list[Change]:
    changes: list[Change] = []
    for column in old.columns:
        node = Node(old.name, column.name)
        other = new.by_name.get(column.name.lower())
        if other is None and not new.open:
            affected = _affected(before, node)
            changes.append(
                Change(
                    part=part, what="gone", item=str(node), weight=Weight.MAJOR, affected=affected
                )
            )
        elif other is not None and _differ(column.type, other.type):
            changes.append(
                Change(
                    part=part,
                    what="retyped",
                    item=str(node),
                    detail=f"{column.type} is {other.type} now",
                    weight=Weight.MAJOR,
                    affected=_affected(before, node),
                )
            )
        elif other is not None and column.required and not other.required:
            changes.append(
                Change(
                    part=part,
                    what="loosened",
                    item=str(node),
                    detail="was required",
                    weight=Weight.MAJOR,
                    affected=_affected(before, node),
                )
            )
    if old.key and not (new.key and set(new.key) <= set(old.key)):
        changes.append(
            Change(
                part=part,
                what="loosened",
                item=old.name,
                detail=f"was unique by {', '.join(old.key)}",
                weight=Weight.MAJOR,
                affected=_affected(before, Node(old.name)),
            )
        )
    changes += [
        Change(part=part, what="added", item=str(Node(new.name, c.name)), weight=Weight.MINOR)
        for c in new.columns
        if c.name.lower() not in old.by_name and not old.open
    ]
    return changes


def _differ(one: str, other: str) -> bool:
    """Whether two types are certainly different."""
    return one != other and UNKNOWN_TYPE not in (one, other)


def _affected(assembly: Assembly, node: Node) -> tuple[str, ...]:
    """The parts downstream of a column or table."""
    owners = {n.owner for n in assembly.graph.reached([node], Direction.DOWN)} - {node.owner}
    parts = {
        str(assembly.provider[owner]) if owner in assembly.provider else owner for owner in owners
    }
    return tuple(sorted(parts))
