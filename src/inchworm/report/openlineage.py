"""Lineage as OpenLineage events: one JobEvent per part that makes or fills a table.

The events describe the design, not a run, hence JobEvent rather than RunEvent. Columns carry the
column-lineage facet; what decides rows is its ``dataset`` list. See the OpenLineage specification,
version 2-0-2, and its ColumnLineageDatasetFacet, version 1-2-0.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator
from typing import Any

from inchworm.core.lineage.facts import Assembly, Facts
from inchworm.core.lineage.graph import Edge, How, Node

_EVENT = "https://openlineage.io/spec/2-0-2/OpenLineage.json#/$defs/JobEvent"
_FACET = (
    "https://openlineage.io/spec/facets/1-2-0/ColumnLineageDatasetFacet.json"
    "#/$defs/ColumnLineageDatasetFacet"
)
_TRANSFORMATIONS = {
    How.COPIED: {"type": "DIRECT", "subtype": "IDENTITY"},
    How.COMPUTED: {"type": "DIRECT", "subtype": "TRANSFORMATION"},
    How.ROWS: {"type": "INDIRECT", "subtype": "FILTER"},
    How.WHOLE: {"type": "INDIRECT"},
}


def openlineage_events(assembly: Assembly, at: str, version: str) -> Iterator[dict[str, Any]]:
    """One event per part that makes or fills a table.

    Args:
        assembly: the project version; its name is the namespace of jobs and datasets.
        at: the time of the version, ISO 8601.
        version: of this program, which is the producer.
    """
    producer = f"urn:inchworm:{version}"
    for part, facts in sorted(assembly.facts.items()):
        made = sorted({*(table.name for table in facts.provides), *facts.fills})
        if not made or not facts.edges:
            continue
        through = _through(str(part), facts)
        yield {
            "eventTime": at,
            "producer": producer,
            "schemaURL": _EVENT,
            "job": {"namespace": assembly.name, "name": str(part)},
            "inputs": [_dataset(assembly, read) for read in sorted({r.table for r in facts.reads})],
            "outputs": [
                _dataset(assembly, table)
                | {"facets": {"columnLineage": _facet(assembly, table, through, producer)}}
                for table in made
            ],
        }


def _through(part: str, facts: Facts) -> list[Edge]:
    """Edges from column to column: what goes through the part itself is joined up.

    A notebook reads columns and fills others; between the two only the part is known.
    """
    into = [edge for edge in facts.edges if edge.target.owner == part]
    direct = [edge for edge in facts.edges if not edge.source.is_part and not edge.target.is_part]
    joined = [
        Edge(before.source, after.target, How.ROWS if after.how is How.ROWS else before.how)
        for after in facts.edges
        if after.source == Node(part)
        for before in into
    ]
    return direct + joined


def _facet(assembly: Assembly, table: str, edges: list[Edge], producer: str) -> dict[str, Any]:
    fields: dict[str, list[dict[str, Any]]] = defaultdict(list)
    rows: list[dict[str, Any]] = []
    for edge in edges:
        if edge.target.owner != table or edge.source.field is None:
            continue
        entry = {
            "namespace": assembly.name,
            "name": edge.source.owner,
            "field": edge.source.field,
            "transformations": [_TRANSFORMATIONS[edge.how]],
        }
        if edge.target.field is None:
            rows.append(entry)
        else:
            fields[edge.target.field].append(entry)
    return {
        "_producer": producer,
        "_schemaURL": _FACET,
        "fields": {name: {"inputFields": entries} for name, entries in sorted(fields.items())},
        "dataset": rows,
    }


def _dataset(assembly: Assembly, table: str) -> dict[str, Any]:
    return {"namespace": assembly.name, "name": table}
