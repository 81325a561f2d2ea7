"""How far a walk over the lineage goes: what is different on it, counted, and its nearest steps."""

from __future__ import annotations

from collections import Counter, deque
from collections.abc import Iterator, Mapping

from msgspec import Struct
from msgspec.structs import replace

from inchworm.core.identifiers import Kind, PartId, RelationName
from inchworm.core.lineage.facts import Assembly
from inchworm.core.lineage.graph import Node, Step


def steps_of(walk: Step) -> Iterator[Step]:
    """Every step of a walk behind its start."""
    waiting = list(walk.next)
    while waiting:
        step = waiting.pop()
        yield step
        waiting.extend(step.next)


class Reach(Struct, frozen=True, kw_only=True):
    """The different things on a walk, counted.

    Attributes:
        lines: how many steps it has; a thing may be met several times.
        things: how many different things they meet.
        kinds: columns, tables, and the parts of each kind.
        schemas: the tables and columns of each schema.
        owners: the things of each owner who is named.
    """

    lines: int
    things: int
    kinds: Mapping[str, int]
    schemas: Mapping[str, int]
    owners: Mapping[str, int]


def reach_of(walk: Step, assembly: Assembly) -> Reach:
    """Count what a walk meets."""
    lines = 0
    nodes: set[Node] = set()
    for step in steps_of(walk):
        lines += 1
        nodes.add(step.node)
    kinds: Counter[str] = Counter()
    schemas: Counter[str] = Counter()
    owners: Counter[str] = Counter()
    for node in nodes:
        part = assembly.provider.get(node.owner)
        if node.is_part:
            kinds[node.owner.partition(":")[0]] += 1
            part = PartId.parse(node.owner) if node.owner.partition(":")[0] in _KINDS else None
        else:
            kinds["table" if node.field is None else "column"] += 1
            schemas[RelationName(node.owner).schema] += 1
        outline = assembly.outlines.get(part) if part is not None else None
        if outline is not None and outline.owner:
            owners[outline.owner] += 1
    return Reach(lines=lines, things=len(nodes), kinds=kinds, schemas=schemas, owners=owners)


_KINDS = frozenset(kind.value for kind in Kind)


def nearest(walk: Step, most: int) -> Step:
    """A walk with its nearest steps only, at most so many behind its start."""
    nearest_ids: set[int] = set()
    queue = deque(walk.next)
    while queue and len(nearest_ids) < most:
        step = queue.popleft()
        nearest_ids.add(id(step))
        queue.extend(step.next)

    def pruned(step: Step) -> Step:
        return replace(
            step, next=tuple(pruned(each) for each in step.next if id(each) in nearest_ids)
        )

    return pruned(walk)
