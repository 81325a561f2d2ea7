"""What outward flows read, and the columns behind each of their fields."""

from __future__ import annotations

from collections.abc import Iterator, Mapping

from msgspec import Struct
from sqlglot import exp

from inchworm.core.checks import rules
from inchworm.core.errors import did_you_mean
from inchworm.core.lineage.facts import Read, Unportable, Use
from inchworm.core.lineage.graph import Edge, How, Node
from inchworm.core.sql.columns import Resolution, resolve
from inchworm.core.sql.problems import SqlProblem
from inchworm.core.sql.render import parameters_in
from inchworm.core.structure.tables import Column, Table
from inchworm.kinds.flow_api import check_types, report_field
from inchworm.kinds.flow_rows import expression_of, outward_rows
from inchworm.kinds.flow_settings import Flow
from inchworm.kinds.model import reads_of, report_problems
from inchworm.kinds.settings import Report
from inchworm.kinds.sql_rules import QueryReview, rule_of, unportable


class Outward(Struct, frozen=True, kw_only=True):
    """What an outward flow reads, where its fields come from, and what its query has."""

    reads: tuple[Read, ...] = ()
    edges: tuple[Edge, ...] = ()
    uses: tuple[Use, ...] = ()
    unportable: tuple[Unportable, ...] = ()


def outward_facts(flow: Flow, tables: Mapping[str, Table], report: Report) -> Outward:
    """The facts of a flow that sends rows; none where its query cannot be read."""
    line = flow.document.line_of(("from", "query"))
    if not _expressions_fit(flow, report):
        return Outward()
    try:
        rows = outward_rows(flow)
    except SqlProblem as problem:
        rule = rule_of(problem, rules.SQL_UNREADABLE)
        message = f"query: {problem.reason}"
        report(rule.finding(message, part=flow.part, file=flow.file, line=line))
        return Outward()
    if rows.query is None:
        return _of_table(flow, rows.fields, tables, report)
    line = line or flow.document.line_of(("fields",))
    return _of_query(flow, rows.query, rows.fields, tables, report, line)


def _of_table(
    flow: Flow,
    fields: Mapping[str, str],
    tables: Mapping[str, Table],
    report: Report,
) -> Outward:
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
        Edge(Node(table, column), Node(owner, name), How.COPIED) for name, column in columns.items()
    )
    return Outward(reads=reads, edges=edges)


def _of_query(
    flow: Flow,
    query: exp.Query,
    fields: Mapping[str, str],
    tables: Mapping[str, Table],
    report: Report,
    line: int | None,
) -> Outward:
    """What a flow of a query's rows reads, and where its fields come from."""
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
    return Outward(
        reads=reads,
        edges=tuple(_edges(flow, fields, resolution, report)),
        uses=uses,
        unportable=unportable(resolution, flow.dialect, flow.file, line or 1),
    )


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
