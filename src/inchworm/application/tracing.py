"""Tracing: what a column, table or part depends on, and what it affects."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import TYPE_CHECKING

from msgspec import Struct, field

from inchworm.application.source_tree import DamagedError, SourceTree
from inchworm.core.errors import UsageError, did_you_mean
from inchworm.core.identifiers import Kind
from inchworm.core.lineage.graph import Direction, Edge, How, Node, Step, in_order

if TYPE_CHECKING:
    from collections.abc import Callable

    from inchworm.core.lineage.facts import Assembly


class Question(Struct, frozen=True, kw_only=True):
    """What is asked of the lineage.

    Attributes:
        name: a column, table or part; None for everything.
        ways: up, down or both.
        other: the end, where only the way between two is asked for.
        depth: how many edges to follow at most.
        hows: which edges to follow.
    """

    name: str | None
    ways: tuple[Direction, ...]
    other: str | None
    depth: int | None
    hows: tuple[How, ...]


class Answer(Struct, frozen=True, kw_only=True):
    """Edges, and where one thing was asked about, the walks from it."""

    assembly: Assembly
    edges: list[Edge]
    walks: Mapping[Direction, Step] = field(default_factory=dict)


def trace(tree: SourceTree, read: Callable[[], Assembly], question: Question) -> Answer:
    """The lineage's answer to a question.

    Args:
        tree: the source tree; what is remembered of it is asked first.
        read: reads it, where nothing is remembered of it as it is.
        question: what is asked.

    Raises:
        UsageError: when the lineage knows nothing of that name.
    """
    remembered = tree.assembly()
    try:
        return _answer(remembered or read(), question)
    except DamagedError:
        tree.memory.forget()
        return _answer(read(), question)


def _answer(assembly: Assembly, question: Question) -> Answer:
    graph, hows = assembly.graph, question.hows
    if question.name is None:
        return Answer(assembly=assembly, edges=[e for e in graph.edges if e.how in hows])
    start = find_node(assembly, question.name)
    if question.other is not None:
        between = graph.between(start, find_node(assembly, question.other))
        return Answer(assembly=assembly, edges=[e for e in between if e.how in hows])
    walks = {way: graph.walk(start, way, depth=question.depth, hows=hows) for way in question.ways}
    edges = in_order(edge for way, walk in walks.items() for edge in _edges(walk, way))
    return Answer(assembly=assembly, edges=edges, walks=walks)


def find_node(assembly: Assembly, name: str) -> Node:
    """The column, table or part that a name means; case does not count.

    Raises:
        UsageError: when there is none; with the nearest name.
    """
    folded_name = name.lower()
    owners: dict[str, Node] = {}
    for part in assembly.outlines:
        is_table = part.kind is Kind.MODEL
        node = Node(part.relation) if is_table else Node(str(part))
        owners.setdefault(part.name.lower(), node)
        owners[str(part).lower()] = node
    owners |= {table.lower(): Node(table) for table in assembly.tables}
    for outside in assembly.touching:  # places, and tables of other databases
        owners.setdefault(outside.lower(), Node(outside))
    if folded_name in owners:
        return owners[folded_name]
    for at in (i for i, letter in enumerate(folded_name) if letter == "."):
        owner = owners.get(folded_name[:at])
        if owner is None:
            continue
        fields = {node.field.lower(): node for node in _fields(assembly, owner) if node.field}
        node_of_field = fields.get(folded_name[at + 1 :].strip('"'))
        if node_of_field is not None:
            return node_of_field
        owners |= {str(node).lower(): node for node in fields.values()}
    raise UsageError(
        f"There is no column, table or part {name}.",
        next=did_you_mean(folded_name, owners, "See inchworm trace --all."),
    )


def _fields(assembly: Assembly, owner: Node) -> set[Node]:
    fields = set(assembly.graph.of_owner(owner.owner))
    if owner.owner in assembly.tables:
        table = assembly.tables[owner.owner]
        fields |= {Node(table.name, column.name) for column in table.columns}
    return fields


def _edges(walk: Step, direction: Direction) -> Iterator[Edge]:
    waiting = [walk]
    while waiting:
        step = waiting.pop()
        for following in step.next:
            assert following.how is not None  # only the start has none
            ends = (step.node, following.node)
            source, target = ends if direction is Direction.DOWN else ends[::-1]
            yield Edge(source, target, following.how)
        waiting.extend(step.next)
