"""Flows: moving data between a table and something outside, field by field, or file by file."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any

from msgspec.structs import replace

from inchworm.core.identifiers import Kind, PartId
from inchworm.core.lineage.facts import Facts, Need, Read
from inchworm.core.lineage.graph import Edge, How, Node
from inchworm.core.parameters.matrix import substitute
from inchworm.core.parameters.values import Value
from inchworm.core.parts import Part
from inchworm.core.rendered import Rendered, RenderedFlow
from inchworm.core.structure.tables import Table
from inchworm.kinds.base import Surroundings
from inchworm.kinds.flow_api import check_fields, check_types, read_api, uses_in
from inchworm.kinds.flow_rows import outward_rows
from inchworm.kinds.flow_settings import Flow, FlowSettings, Way
from inchworm.kinds.settings import Report, documented, parameter_uses, read_part
from inchworm.kinds.verify_settings import without_questions


class FlowKind:
    """How flows are handled."""

    kind = Kind.FLOW

    def read(self, part: Part, surroundings: Surroundings, report: Report) -> Flow | None:
        """The settings and the API document that they name."""
        validated = read_part(FlowSettings, part, report)
        if validated is None:
            return None
        settings, document = validated
        flow = Flow(
            part=part.id,
            file=part.main.path,
            dialect=surroundings.dialect,
            settings=settings,
            document=document,
            declared=surroundings.declared,
        )
        if flow.api_end is None:
            return flow
        api = read_api(flow, surroundings, report)
        if api is None:
            return None
        uses = uses_in(flow.api_path, surroundings.shared)
        return replace(flow, api=api, api_uses=uses)

    def facts(self, flow: Flow, tables: Mapping[str, Table], report: Report) -> Facts:
        """The columns behind each field, or the fields behind each column."""
        if flow.api_end is not None:
            check_fields(flow, report)
        needs = tuple(_connections(flow))
        uses = (*parameter_uses(flow.document, flow.file), *flow.api_uses)
        if not flow.is_outward:
            return self._inward(flow, needs, tables, report)
        from inchworm.kinds.flow_lineage import outward_facts  # its parser, only where it is needed

        outward = outward_facts(flow, tables, report)
        return Facts(
            part=flow.part,
            documents=flow.documents,
            place=_PLACES[flow.settings.way],
            owner=flow.settings.owner,
            documented=documented(flow.settings),
            verifications=flow.settings.verifications,
            reads=outward.reads,
            edges=outward.edges,
            needs=needs,
            uses=(*uses, *outward.uses),
            cleared=flow.settings.cleared,
            unportable=outward.unportable,
        )

    def _inward(
        self, flow: Flow, needs: tuple[Need, ...], tables: Mapping[str, Table], report: Report
    ) -> Facts:
        table = (flow.settings.to.table or "").lower()
        if flow.api_end is not None and table in tables:
            check_types(flow, flow.settings.fields, tables[table], report)
        fields = {column.lower(): name for column, name in flow.settings.fields.items()}
        edges = [
            Edge(Node(str(flow.part), name), Node(table, column), How.COPIED)
            for column, name in fields.items()
        ]
        reads = [
            Read(
                table=table,
                columns=frozenset({column.lower()}),
                file=flow.file,
                line=flow.document.line_of(("fields", column)),
            )
            for column in flow.settings.fields
        ]
        return Facts(
            part=flow.part,
            documents=flow.documents,
            place=_PLACES[flow.settings.way],
            owner=flow.settings.owner,
            documented=documented(flow.settings),
            verifications=flow.settings.verifications,
            fills=(table,) if table else (),
            reads=tuple(reads),
            edges=tuple(edges),
            needs=needs,
            uses=(*parameter_uses(flow.document, flow.file), *flow.api_uses),
        )

    def render(self, flow: Flow, values: Mapping[str, Value]) -> Rendered:
        """The file and its query with this environment's values, and the API document."""
        document: dict[str, Any] = substitute(without_questions(flow.document), values)
        if flow.is_outward and (rows := outward_rows(flow)).query is not None:
            from inchworm.core.sql.render import to_text, with_values

            query = with_values(rows.query, values)
            document["from"] = {"query": to_text(query, flow.dialect)}
            document["fields"] = dict(rows.fields)
            if rows.once_per:
                document["once_per"] = list(rows.once_per)
        if flow.api_end is not None:
            document["openapi"] = substitute(flow.api, values)
        return RenderedFlow(part=flow.part, content=document, dialect=flow.dialect)


_PLACES = {Way.MAIL: "mail", Way.COPY: "files", Way.SEND: "http", Way.RECEIVE: "http"}
"""The kind of place at the other end of a flow."""


def _connections(flow: Flow) -> Iterator[Need]:
    """The connections that a flow names, each with the kind that it has to be of."""
    for side, end in (("from", flow.settings.from_), ("to", flow.settings.to)):
        if end.connection:
            yield Need(
                wanted=PartId(Kind.CONNECTION, end.connection),
                file=flow.file,
                line=flow.document.line_of((side, "connection")),
                place="" if flow.api_end is not None else _PLACES[flow.settings.way],
            )
