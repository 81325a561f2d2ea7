"""The lineage graph: which columns, tables and parts come from which.

A node is a table, a column of a table, a part, or a field of a part (the field of an API that a
flow fills). An edge says how its target comes from its source. The graph is assembled from the
facts of the parts; it never looks into their files.
"""

from __future__ import annotations

from collections import defaultdict, deque
from collections.abc import Callable, Collection, Hashable, Iterable, Iterator, Mapping
from enum import StrEnum
from functools import cache
from typing import Generic, NamedTuple, TypeVar

from msgspec import Struct

from inchworm.core.identifiers import Kind, RelationName


class How(StrEnum):
    """How a target comes from its source."""

    COPIED = "copied"
    """The value arrives unchanged."""
    COMPUTED = "computed"
    """The value is derived from it."""
    ROWS = "rows"
    """It decides which rows there are."""
    WHOLE = "whole"
    """Only the table is known, not the columns."""


class Node(NamedTuple):
    """A table or part (``field`` is None), or one column or field of it."""

    owner: str
    field: str | None = None

    @property
    def is_part(self) -> bool:
        """Whether the owner is a part (``kind:name``) rather than a table."""
        return ":" in self.owner

    def __str__(self) -> str:
        if self.field is None:
            return self.owner
        field = f'"{self.field}"' if "." in self.field else self.field
        return f"{self.owner}.{field}"


class Edge(NamedTuple):
    """``target`` comes from ``source``; ``how`` says in which way."""

    source: Node
    target: Node
    how: How


def in_order(edges: Iterable[Edge]) -> list[Edge]:
    """Distinct edges, sorted by their ends and how."""
    return sorted(set(edges), key=lambda edge: (str(edge.source), str(edge.target), edge.how))


def between_owners(edges: Iterable[Edge]) -> list[Edge]:
    """One edge for each pair of tables or parts, with the closest way of those between columns."""
    closest = _closest((s.owner, t.owner, how) for s, t, how in edges if s.owner != t.owner)
    return in_order(closest)


def _closest(ways: Iterable[tuple[str, str, How]]) -> Iterator[Edge]:
    closest: dict[tuple[str, str], How] = {}
    rank = list(How).index
    for one, other, how in ways:
        closest[one, other] = min(how, closest.get((one, other), how), key=rank)
    return (Edge(Node(one), Node(other), how) for (one, other), how in closest.items())


def group_of(owner: str) -> str:
    """The schema that a table is in, ``hydro.*``, or the kind that a part is of, ``flow:*``.

    A place outside stands for itself, whatever it is called.
    """
    kind = Kind.of(owner.partition(":")[0])
    if kind is not None and Node(owner).is_part:
        return f"{kind}:*"
    schema = RelationName(owner).schema
    return f"{schema}.*" if schema else owner


def between_groups(edges: Iterable[Edge]) -> list[Edge]:
    """The same for each pair of schemas and kinds of part: lineage as one sees it from afar.

    A group that only has edges within it has one to itself, so that it is there.
    """
    grouped = list(_closest((group_of(s.owner), group_of(t.owner), how) for s, t, how in edges))
    joined = {end for edge in grouped if edge.source != edge.target for end in edge[:2]}
    return in_order(e for e in grouped if e.source != e.target or e.source not in joined)


class Direction(StrEnum):
    """Which way to follow edges."""

    UP = "up"
    DOWN = "down"


class Step(Struct, frozen=True, kw_only=True):
    """A node met on a walk: how it was reached, and what follows."""

    node: Node
    how: How | None
    next: tuple[Step, ...]
    repeated: bool
    """True when the node is unfolded elsewhere in the walk, so not again here."""


Key = TypeVar("Key", bound=Hashable)


class Graph(Generic[Key]):
    """Edges, indexed both ways. They come in groups, each fetched when a walk first comes near it.

    Args:
        touching: for each owner of nodes, the groups with edges that begin or end there.
        edges_of: the edges of a group.
    """

    def __init__(
        self,
        touching: Mapping[str, Collection[Key]],
        edges_of: Callable[[Key], Iterable[Edge]],
    ) -> None:
        self._touching = touching
        self._edges_of = edges_of
        self._fetched: set[Key] = set()
        self._complete: set[str] = set()
        self._after: dict[Node, list[Edge]] = defaultdict(list)
        self._before: dict[Node, list[Edge]] = defaultdict(list)
        self._fields: dict[str, set[Node]] = defaultdict(set)

    @classmethod
    def of(cls, edges: Iterable[Edge]) -> Graph[int]:
        """A graph of edges that are all at hand."""
        groups = list(set(edges))
        touching: dict[str, set[int]] = defaultdict(set)
        for i, edge in enumerate(groups):
            touching[edge.source.owner].add(i)
            touching[edge.target.owner].add(i)
        return Graph(touching, lambda i: (groups[i],))

    def _fetch(self, owner: str) -> None:
        """Have all edges at hand that begin or end at an owner's nodes."""
        if owner in self._complete:
            return
        self._complete.add(owner)
        for key in self._touching.get(owner, ()):
            if key in self._fetched:
                continue
            self._fetched.add(key)
            for edge in self._edges_of(key):
                self._after[edge.source].append(edge)
                self._before[edge.target].append(edge)
                self._fields[edge.source.owner].add(edge.source)
                self._fields[edge.target.owner].add(edge.target)

    @property
    def edges(self) -> list[Edge]:
        """Every edge, in order."""
        for owner in self._touching:
            self._fetch(owner)
        return in_order(edge for edges in self._after.values() for edge in edges)

    @property
    def nodes(self) -> list[Node]:
        """Every node that an edge touches, sorted."""
        for owner in self._touching:
            self._fetch(owner)
        return sorted(
            (n for nodes in self._fields.values() for n in nodes),
            key=lambda n: (n.owner, n.field or ""),
        )

    def of_owner(self, owner: str) -> set[Node]:
        """A table or part and its columns or fields, as far as edges touch them."""
        self._fetch(owner)
        return self._fields.get(owner, set())

    def neighbours(self, node: Node, direction: Direction) -> list[tuple[Node, How]]:
        """Nodes one edge away, the closest relation first (copied before rows)."""
        self._fetch(node.owner)
        if direction is Direction.DOWN:
            nodes = {(edge.target, edge.how) for edge in self._after.get(node, ())}
        else:
            nodes = {(edge.source, edge.how) for edge in self._before.get(node, ())}
        return sorted(
            nodes, key=lambda pair: (_CLOSENESS[pair[1]], pair[0].owner, pair[0].field or "")
        )

    def _onward(self, node: Node, direction: Direction) -> Iterator[tuple[Node, How]]:
        """Neighbours; a whole table also reaches whatever its columns come from, or affect.

        A column that decides which rows a table has changes all that is read from the table.
        """
        yield from self.neighbours(node, direction)
        if node.field is None:
            for field in sorted(self.of_owner(node.owner) - {node}, key=str):
                yield from self.neighbours(field, direction)
        if node.field is not None and direction is Direction.UP and not node.is_part:
            yield from self.neighbours(Node(node.owner), direction)

    def walk(
        self,
        start: Node,
        direction: Direction,
        *,
        depth: int | None = None,
        hows: Collection[How] = tuple(How),
    ) -> Step:
        """The tree of everything reached from ``start``; every node is unfolded once.

        Args:
            start: where to begin.
            direction: which way to follow edges.
            depth: how many edges to follow at most; None for all.
            hows: only edges of these kinds are followed.
        """
        seen: set[Node] = set()

        @cache
        def following(node: Node) -> dict[Node, How]:
            closest: dict[Node, How] = {}
            for other, relation in self._onward(node, direction):
                known = closest.get(other)
                nearer = known is None or _CLOSENESS[relation] < _CLOSENESS[known]
                if other != node and relation in hows and nearer:
                    closest[other] = relation
            return closest

        def unfold(node: Node, how: How | None, level: int) -> Step:
            if node in seen:
                return Step(node=node, how=how, next=(), repeated=bool(following(node)))
            if depth is not None and level == depth:
                return Step(node=node, how=how, next=(), repeated=False)
            seen.add(node)
            onward = following(node).items()
            below = tuple(unfold(other, relation, level + 1) for other, relation in onward)
            return Step(node=node, how=how, next=below, repeated=False)

        return unfold(start, None, 0)

    def between(self, start: Node, end: Node) -> list[Edge]:
        """Every edge that lies on some way from ``start`` down to ``end``."""
        below = self.reached([start], Direction.DOWN)
        above = self.reached([end], Direction.UP)
        on_the_way = set(below) & (set(above) | {end})
        return in_order(e for n in on_the_way for e in self._after[n] if e.target in on_the_way)

    def reached(self, starts: Iterable[Node], direction: Direction) -> dict[Node, Node | None]:
        """Every node reached from ``starts``, with the node before it on a shortest way."""
        return self._search(starts, lambda node: (n for n, _ in self._onward(node, direction)))

    def carried(self, start: Node, ends: Collection[Node]) -> dict[Node, Node | None]:
        """Where the values of ``start`` arrive, as they are or in others, but not past ``ends``.

        What only decides about rows carries no value.
        """

        def values(node: Node) -> Iterator[Node]:
            for other, how in self.neighbours(node, Direction.DOWN):
                if other not in ends and how is not How.ROWS:
                    yield other

        return self._search([start], values)

    @staticmethod
    def _search(
        starts: Iterable[Node], onward: Callable[[Node], Iterable[Node]]
    ) -> dict[Node, Node | None]:
        came_from: dict[Node, Node | None] = dict.fromkeys(starts)
        queue = deque(came_from)
        while queue:
            node = queue.popleft()
            for other in onward(node):
                if other not in came_from:
                    came_from[other] = node
                    queue.append(other)
        return came_from


def way_to(node: Node, came_from: Mapping[Node, Node | None]) -> list[Node]:
    """The shortest way from a start of :meth:`Graph.reached` to ``node``, both included."""
    way = [node]
    while (previous := came_from[way[-1]]) is not None:
        way.append(previous)
    return way[::-1]


_CLOSENESS = {How.COPIED: 0, How.COMPUTED: 1, How.ROWS: 2, How.WHOLE: 3}
