"""What changed between two versions of a project, for those who rely on it.

The *interface* of a part is what others can rely on: the tables that it provides, with their
columns and types. A change of anything else is a change, too, but nobody outside can see it.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from enum import StrEnum

from msgspec import Struct

from inchworm.core.bundle.api_changes import Api, api_changes
from inchworm.core.identifiers import Kind, PartId
from inchworm.core.lineage.facts import Assembly, Outline, Trait
from inchworm.core.lineage.graph import Direction, Node
from inchworm.core.parameters.matrix import Matrix
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


class Change(Struct, frozen=True, kw_only=True):
    """One difference.

    Attributes:
        part: the part that it is in; None of a parameter.
        what: a word: ``added``, ``gone``, ``retyped``, ``loosened``, ``required``, ``changed``.
        item: the table, column, field or parameter, where it is one.
        detail: for instance the two types.
        affected: parts further down that read it, in the version before.
    """

    part: PartId | None
    what: str
    item: str = ""
    detail: str = ""
    weight: Weight
    affected: tuple[str, ...] = ()


Apis = Callable[[PartId], tuple[Api, Api]]
"""The API documents of a flow in the version before and after."""


def compare(before: Assembly, after: Assembly, apis: Apis = lambda _: ({}, {})) -> list[Change]:
    """Every difference between two versions, part by part, and of parameters."""
    changes = list(_parameters(before.matrix, after.matrix))
    for part in sorted({*before.parts, *after.parts}):
        if part not in after.parts:
            gone = _interface(before, part)
            affected = tuple(sorted({f for t in gone for f in _affected(before, Node(t))}))
            promised = gone or part.kind is Kind.CHECK
            weight = Weight.MAJOR if promised else Weight.MINOR
            changes.append(Change(part=part, what="gone", weight=weight, affected=affected))
        elif part not in before.parts:
            changes.append(Change(part=part, what="added", weight=Weight.MINOR))
        elif before.parts[part].digest != after.parts[part].digest:
            breaking = [*_columns(before, after, part), *_promises(before, after, part)]
            if part.kind is Kind.FLOW and part in before.facts and part in after.facts:
                breaking += _flow(before, after, part, apis)
            changes += breaking or [_logic(before, part)]
        else:
            # the text is the same, but a star may show other columns now
            changes += _columns(before, after, part)
    return changes


def _logic(before: Assembly, part: PartId) -> Change:
    """A change that nobody can see in the interface; whatever comes from its columns may differ."""
    nodes = [
        Node(t, c.name) for t, table in _interface(before, part).items() for c in table.columns
    ]
    reached = before.graph.reached(nodes, Direction.DOWN) if nodes else {}
    columns = sorted(str(n) for n in reached if n.field is not None and n not in nodes)
    affected = tuple(dict.fromkeys([*_owners(before, {n.owner for n in reached}, part), *columns]))
    return Change(part=part, what="changed", weight=Weight.PATCH, affected=affected)


def _owners(assembly: Assembly, owners: set[str], own: PartId) -> list[str]:
    parts = {str(assembly.provider[o]) if o in assembly.provider else o for o in owners}
    return sorted(parts - {str(own)})


def _promises(before: Assembly, after: Assembly, part: PartId) -> Iterator[Change]:
    """What could be relied on beside columns: checks, classes, how it is stored, when it runs."""
    old, new = before.outlines[part], after.outlines[part]
    gone: list[tuple[str, str]] = [
        (check, "is not checked any more") for check in old.checks if check not in new.checks
    ]
    classes = dict(new.classes)
    columns_after = {c.name for table in _interface(after, part).values() for c in table.columns}
    gone += [
        (str(node), f"was {class_}")
        for node, class_ in old.classes
        if classes.get(node) != class_ and node.field in columns_after
    ]
    ended = dict(new.declassified).keys() - dict(old.declassified).keys()
    gone += [(str(node), "classes end here now") for node in sorted(ended)]
    affected = tuple(
        sorted({f for t in _interface(before, part) for f in _affected(before, Node(t))})
    )
    for item, detail in gone:
        yield Change(
            part=part,
            what="loosened",
            item=item,
            detail=detail,
            weight=Weight.MAJOR,
            affected=affected,
        )
    if part.kind is Kind.MODEL and (Trait.VIEW in old.traits) is not (Trait.VIEW in new.traits):
        stored = "a view" if Trait.VIEW in new.traits else "a table"
        yield Change(part=part, what="changed", detail=f"is {stored} now", weight=Weight.MINOR)
    yield from _schedules(old, new)


def _schedules(old: Outline, new: Outline) -> Iterator[Change]:
    before = {s.name: s.text for s in old.schedules}
    after = {s.name: s.text for s in new.schedules}
    for name in sorted({*before, *after}):
        one, other = before.get(name), after.get(name)
        if one != other:
            what = "gone" if other is None else "added" if one is None else "changed"
            detail = f"{one} is {other} now" if what == "changed" else (one or other or "")
            yield Change(
                part=old.part,
                what=what,
                item=f"schedule {name}",
                detail=detail,
                weight=Weight.MINOR,
            )


def _flow(before: Assembly, after: Assembly, part: PartId, apis: Apis) -> Iterator[Change]:
    """Fields that a flow fills or takes, and the API that it speaks to."""
    old, new = _fields_of(before, part), _fields_of(after, part)
    for field in sorted(old - new):
        yield Change(part=part, what="gone", item=f"field {field}", weight=Weight.MAJOR)
    for field in sorted(new - old):
        yield Change(part=part, what="added", item=f"field {field}", weight=Weight.MINOR)
    for change in api_changes(*apis(part)):
        yield Change(
            part=part,
            what=change.what,
            item=change.item,
            detail=change.detail,
            weight=Weight.MAJOR if change.breaks else Weight.MINOR,
        )


def _fields_of(assembly: Assembly, flow: PartId) -> set[str]:
    owner = str(flow)
    ends = (node for edge in assembly.facts[flow].edges for node in (edge.source, edge.target))
    return {node.field for node in ends if node.owner == owner and node.field is not None}


def _parameters(before: Matrix, after: Matrix) -> Iterator[Change]:
    """Parameters, and their values in each environment; of secrets the references."""
    for name in sorted({*before, *after}):
        old, new = before.get(name), after.get(name)
        if old is None or new is None:
            what = "added" if old is None else "gone"
            yield Change(part=None, what=what, item=name, weight=Weight.PATCH)
            continue
        if old.type is not new.type:
            detail = f"{old.type.value} is {new.type.value} now"
            yield Change(part=None, what="retyped", item=name, detail=detail, weight=Weight.PATCH)
        cells = {"every": (old.every, new.every)}
        cells |= {e: (old.cells.get(e), new.cells.get(e)) for e in {*old.cells, *new.cells}}
        details = [
            f"{environment}: {_shown(one)} is {_shown(other)} now"
            for environment, (one, other) in sorted(cells.items())
            if one != other
        ]
        for detail in details:
            yield Change(part=None, what="changed", item=name, detail=detail, weight=Weight.PATCH)


def _shown(cell: object) -> str:
    return "nothing" if cell is None else str(cell)


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
