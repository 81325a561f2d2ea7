"""Flows: moving data between a table and something outside, field by field, or file by file."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any

from msgspec.structs import replace
from sqlglot import exp

from inchworm.core.checks import rules
from inchworm.core.errors import did_you_mean
from inchworm.core.identifiers import Kind, PartId
from inchworm.core.lineage.facts import Facts, Need, Read, Use
from inchworm.core.lineage.graph import Edge, How, Node
from inchworm.core.parameters.matrix import substitute
from inchworm.core.parameters.values import Value
from inchworm.core.parts import Part
from inchworm.core.rendered import Rendered, RenderedFlow
from inchworm.core.sql.columns import Resolution, resolve
from inchworm.core.sql.problems import SqlProblem
from inchworm.core.sql.render import parameters_in, to_text, with_values
from inchworm.core.structure.tables import Column, Table
from inchworm.kinds.base import Surroundings
from inchworm.kinds.flow_api import check_fields, check_types, read_api, report_field, uses_in
from inchworm.kinds.flow_rows import expression_of, outward_rows
from inchworm.kinds.flow_settings import Flow, FlowSettings, Way
from inchworm.kinds.model import reads_of, report_problems
from inchworm.kinds.settings import Report, documented, parameter_uses, read_part
from inchworm.kinds.sql_rules import QueryReview, rule_of
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
        reads, edges, more = self._outward(flow, tables, report)
        return Facts(
            part=flow.part,
            documents=flow.documents,
            place=_PLACES[flow.settings.way],
            owner=flow.settings.owner,
            documented=documented(flow.settings),
            verifications=flow.settings.verifications,
            reads=reads,
            edges=edges,
            needs=needs,
            uses=(*uses, *more),
            cleared=flow.settings.cleared,
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

    def _outward(
        self, flow: Flow, tables: Mapping[str, Table], report: Report
    ) -> tuple[tuple[Read, ...], tuple[Edge, ...], tuple[Use, ...]]:
        line = flow.document.line_of(("from", "query"))
        if not _expressions_fit(flow, report):
            return (), (), ()
        try:
            rows = outward_rows(flow)
        except SqlProblem as problem:
            rule = rule_of(problem, rules.SQL_UNREADABLE)
            message = f"query: {problem.reason}"
            report(rule.finding(message, part=flow.part, file=flow.file, line=line))
            return (), (), ()
        if rows.query is None:
            return (*self._of_table(flow, rows.fields, tables, report), ())
        line = line or flow.document.line_of(("fields",))
        return self._of_query(flow, rows.query, rows.fields, tables, report, line)

    def _of_table(
        self,
        flow: Flow,
        fields: Mapping[str, str],
        tables: Mapping[str, Table],
        report: Report,
    ) -> tuple[tuple[Read, ...], tuple[Edge, ...]]:
        """What a flow of a table's rows reads: columns, each of which is a field."""
        table = (flow.settings.from_.table or "").lower()
        if flow.api_end is not None and table in tables:
            check_types(flow, fields, tables[table], report)
        columns = {name: column.lower() for name, column in flow.settings.fields.items()}
        reads = tuple(
            Read(
                table=table,
                columns=frozenset({column}),
                file=flow.file,
                line=flow.document.line_of(("fields", name)),
            )
            for name, column in columns.items()
        )
        owner = str(flow.part)
        edges = tuple(
            Edge(Node(table, column), Node(owner, name), How.COPIED)
            for name, column in columns.items()
        )
        return reads, edges

    def _of_query(
        self,
        flow: Flow,
        query: exp.Query,
        fields: Mapping[str, str],
        tables: Mapping[str, Table],
        report: Report,
        line: int | None,
    ) -> tuple[tuple[Read, ...], tuple[Edge, ...], tuple[Use, ...]]:
        """What a flow of a query's rows reads, where its fields come from, and its parameters."""
        resolution = resolve(query, tables, flow.dialect, flow.declared)
        report_problems(flow.part, flow.file, resolution, report, first_line=line or 1)
        QueryReview(flow.part, tables, flow.dialect, report).look(
            query, resolution, flow.file, line or 1
        )
        shown = tuple(Column(column.name, column.type) for column in resolution.columns)
        if flow.api_end is not None:
            check_types(flow, fields, Table("the query", shown), report)
        reads = tuple(
            Read(table=r.table, columns=r.columns, file=r.file, line=line)
            for r in reads_of(flow.file, resolution)
        )
        uses = tuple(Use(parameter=n, file=flow.file, line=line) for n in parameters_in(query))
        return reads, tuple(_edges(flow, fields, resolution, report)), uses

    def render(self, flow: Flow, values: Mapping[str, Value]) -> Rendered:
        """The file and its query with this environment's values, and the API document."""
        document: dict[str, Any] = substitute(without_questions(flow.document), values)
        if flow.is_outward and (rows := outward_rows(flow)).query is not None:
            query = with_values(rows.query, values)
            document["from"] = {"query": to_text(query, flow.dialect)}
            document["fields"] = dict(rows.fields)
            if rows.once_per:
                document["once_per"] = list(rows.once_per)
        if flow.api_end is not None:
            document["openapi"] = substitute(flow.api, values)
        return RenderedFlow(part=flow.part, content=document, dialect=flow.dialect)


def _edges(
    flow: Flow, fields: Mapping[str, str], resolution: Resolution, report: Report
) -> Iterator[Edge]:
    """Where each field of a query's rows comes from; a field of no column is reported."""
    owner = str(flow.part)
    columns = {column.name: column for column in resolution.columns}
    for source, _ in resolution.rows:
        yield Edge(source, Node(owner), How.ROWS)
    for name, column in fields.items():
        shown = columns.get(column.lower())
        if shown is not None:
            for source, how in shown.sources:
                yield Edge(source, Node(owner, name), how)
        elif not resolution.open:
            report_field(
                flow,
                report,
                f"the field {name} takes {column}, which the query does not show",
                ("fields", name),
                did_you_mean(column, columns, rules.FIELD_UNKNOWN.remedy),
            )


def _expressions_fit(flow: Flow, report: Report) -> bool:
    """Whether each field is a column or an expression; what is wrong is reported at its line."""
    fits = True
    for name, text in flow.settings.fields.items():
        try:
            expression_of(text, flow)
        except SqlProblem as problem:
            fits = False
            report_field(
                flow,
                report,
                f"the field {name} cannot be calculated: {problem.reason}",
                ("fields", name),
                "Write the name of a column, or one expression over the columns of a row.",
            )
    return fits


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
