"""Classes of data, such as ``personal``: which columns the values of a class reach."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping

from inchworm.core.lineage.facts import Assembly
from inchworm.core.lineage.graph import Node


def carried_classes(assembly: Assembly) -> Iterator[tuple[str, Mapping[Node, Node | None]]]:
    """For each column that is declared to be of a class, the class and where its values arrive.

    Classes end at columns that are declassified, and at those that only count. Each node comes with
    the one before it on the way.
    """
    ends = {node for outline in assembly.outlines.values() for node, _ in outline.declassified}
    ends |= {node for outline in assembly.outlines.values() for node in outline.counts}
    for outline in assembly.outlines.values():
        for start, class_ in outline.classes:
            yield class_, assembly.graph.carried(start, ends)


def classed_columns(query: str, columns: Iterable[str], assembly: Assembly) -> dict[str, str]:
    """The columns of a query's rows that show values of a class.

    Args:
        query: a SELECT in the project's dialect, with logical names.
        columns: the columns that it turned out to have.
        assembly: all parts, with the classes that their columns are declared to be of.

    Returns:
        By the column's name in lower case, the class. A column about which the query does not say
        where it comes from has the class of any column that the query reads.
    """
    classed: dict[Node, str] = {}
    for class_, came_from in carried_classes(assembly):
        classed.update(dict.fromkeys(came_from, class_))
    if not classed:
        return {}
    from inchworm.core.sql.columns import resolve  # the parser
    from inchworm.core.sql.parse import parse_query

    resolution = resolve(parse_query(query, assembly.dialect), assembly.tables, assembly.dialect)

    def class_of(sources: Iterable[Node]) -> str:
        for source in sources:
            if source.field is not None and source in classed:
                return classed[source]
            if source.field is None:
                for node, class_ in classed.items():
                    if node.owner == source.owner:
                        return class_
        return ""

    of_any = class_of(Node(table) for table in resolution.tables)
    by_name = {c.name.lower(): class_of(n for n, _ in c.sources) for c in resolution.columns}
    names = [name.lower() for name in columns]
    return {name: class_ for name in names if (class_ := by_name.get(name, of_any))}
