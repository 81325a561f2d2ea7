"""Lineage edges from what a query reads to the relation that it makes."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from inchworm.core.lineage.graph import Edge, How, Node
from inchworm.core.sql.columns import Resolution


def edges_to(name: str, resolution: Resolution, columns: Sequence[str] = ()) -> Iterator[Edge]:
    """The edges to a relation and its columns.

    Args:
        name: the relation's.
        resolution: of the query that makes it.
        columns: the names that its columns get; where there are none, the query's own.
    """
    sourced = set()
    for place, column in enumerate(resolution.columns):
        shown = columns[place] if place < len(columns) else column.name
        for source, how in column.sources:
            sourced.add(source.owner)
            yield Edge(source, Node(name, shown), how)
    for source, how in resolution.rows:
        sourced.add(source.owner)
        yield Edge(source, Node(name), how)
    for table in resolution.tables:
        if table not in sourced:
            yield Edge(Node(table), Node(name), How.WHOLE)
