"""Flows: moving data between a table and something outside, field by field."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from http import HTTPStatus
from typing import Any, Literal

import yaml
from pydantic import Field, model_validator

from inchworm.core.checks import rules
from inchworm.core.errors import did_you_mean
from inchworm.core.identifiers import Kind, PartId
from inchworm.core.lineage.facts import Facts, Need, Read, Use
from inchworm.core.lineage.graph import Edge, How, Node
from inchworm.core.parameters.matrix import references, substitute
from inchworm.core.parameters.values import Value
from inchworm.core.parts import Part
from inchworm.core.rendered import Rendered, RenderedFlow
from inchworm.core.running.sending import Operation
from inchworm.core.sql.columns import resolve
from inchworm.core.sql.declared import Declaring
from inchworm.core.sql.parse import parse_query
from inchworm.core.sql.problems import SqlProblem
from inchworm.core.sql.render import parameters_in, to_text, with_values
from inchworm.core.structure.tables import Column, Table
from inchworm.core.toml import TomlDocument
from inchworm.kinds.base import Surroundings
from inchworm.kinds.model import reads_of, report_problems
from inchworm.kinds.settings import Report, Settings, documented, parameter_uses, read_part
from inchworm.kinds.sql_rules import QueryReview, rule_of

#: The safe loader in C where libyaml is there: API documents can be large.
_Loader = getattr(yaml, "CSafeLoader", yaml.SafeLoader)


class End(Settings):
    """One end of a flow: rows of ours, or an operation of an API."""

    table: str | None = None
    query: str | None = None
    connection: str | None = None
    api: str | None = None
    operation: str | None = None


class FlowSettings(Settings):
    """A flow's file."""

    about: str = ""
    owner: str = ""
    direction: Literal["out", "in"]
    from_: End = Field(alias="from")
    to: End
    fields: dict[str, str]
    once_per: tuple[str, ...] = ()
    per_second: float | None = Field(None, gt=0)
    cleared: tuple[str, ...] = ()

    @model_validator(mode="after")
    def _ends_fit(self) -> FlowSettings:
        rows, api = (self.from_, self.to) if self.direction == "out" else (self.to, self.from_)
        if not api.api or not api.operation:
            raise ValueError("the outside end needs api = ... and operation = ...")
        if self.direction == "out":
            if bool(rows.table) == bool(rows.query):
                raise ValueError("[from] needs either table = ... or query = ...")
            if not api.connection:
                raise ValueError("[to] needs connection = ...")
        elif not rows.table:
            raise ValueError("[to] needs table = ...")
        return self


@dataclass(frozen=True, kw_only=True)
class Flow:
    """A flow that has been read, with the API operation at its outside end."""

    part: PartId
    file: str
    dialect: str
    settings: FlowSettings
    document: TomlDocument
    declared: Declaring
    api: Mapping[str, Any] = field(default_factory=dict)
    api_uses: tuple[Use, ...] = ()

    @property
    def documents(self) -> tuple[str, ...]:
        """The API document that is packed with the flow."""
        return (self.outside.api,) if self.outside.api else ()

    @property
    def outside(self) -> End:
        """The end that is an operation of an API."""
        return self.settings.to if self.settings.direction == "out" else self.settings.from_


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
        api = _read_api(flow, surroundings.shared, report)
        if api is None:
            return None
        uses = _uses_in(flow.outside.api or "", surroundings.shared)
        return replace(flow, api=api, api_uses=uses)

    def facts(self, flow: Flow, tables: Mapping[str, Table], report: Report) -> Facts:
        """The columns behind each field, or the fields behind each column."""
        _check_fields(flow, report)
        rows = flow.settings.from_ if flow.settings.direction == "out" else flow.settings.to
        if rows.table and rows.table.lower() in tables:
            _check_types(flow, tables[rows.table.lower()], report)
        needs = []
        if flow.outside.connection:
            side = "to" if flow.settings.direction == "out" else "from"
            needs.append(
                Need(
                    wanted=PartId(Kind.CONNECTION, flow.outside.connection),
                    file=flow.file,
                    line=flow.document.line_of((side, "connection")),
                )
            )
        uses = (*parameter_uses(flow.document, flow.file), *flow.api_uses)
        if flow.settings.direction == "in":
            return self._inward(flow, tuple(needs), report)
        reads, edges, more = self._outward(flow, tables, report)
        return Facts(
            part=flow.part,
            documents=flow.documents,
            documented=documented(flow.settings),
            reads=reads,
            edges=edges,
            needs=tuple(needs),
            uses=(*uses, *more),
            cleared=flow.settings.cleared,
        )

    def _inward(self, flow: Flow, needs: tuple[Need, ...], report: Report) -> Facts:
        table = (flow.settings.to.table or "").lower()
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
            documented=documented(flow.settings),
            fills=(table,),
            reads=tuple(reads),
            edges=tuple(edges),
            needs=needs,
            uses=(*parameter_uses(flow.document, flow.file), *flow.api_uses),
        )

    def _outward(
        self, flow: Flow, tables: Mapping[str, Table], report: Report
    ) -> tuple[tuple[Read, ...], tuple[Edge, ...], tuple[Any, ...]]:
        line = flow.document.line_of(("from", "query"))
        owner = str(flow.part)
        if flow.settings.from_.table:
            table = flow.settings.from_.table.lower()
            reads = tuple(
                Read(
                    table=table,
                    columns=frozenset({column.lower()}),
                    file=flow.file,
                    line=flow.document.line_of(("fields", name)),
                )
                for name, column in flow.settings.fields.items()
            )
            edges = tuple(
                Edge(Node(table, column.lower()), Node(owner, name), How.COPIED)
                for name, column in flow.settings.fields.items()
            )
            return reads, edges, ()
        try:
            query = parse_query(flow.settings.from_.query or "", flow.dialect, flow.declared)
        except SqlProblem as problem:
            rule = rule_of(problem, rules.SQL_UNREADABLE)
            message = f"query: {problem.reason}"
            report(rule.finding(message, part=flow.part, file=flow.file, line=line))
            return (), (), ()
        resolution = resolve(query, tables, flow.dialect, flow.declared)
        report_problems(flow.part, flow.file, resolution, report, first_line=line or 1)
        QueryReview(flow.part, tables, flow.dialect, report).look(
            query, resolution, flow.file, line or 1
        )
        shown = tuple(Column(column.name, column.type) for column in resolution.columns)
        _check_types(flow, Table("the query", shown), report)
        columns = {column.name: column for column in resolution.columns}
        field_edges: list[Edge] = [Edge(s, Node(owner), How.ROWS) for s, _ in resolution.rows]
        for name, column in flow.settings.fields.items():
            source = columns.get(column.lower())
            if source is not None:
                field_edges += [Edge(s, Node(owner, name), how) for s, how in source.sources]
            elif not resolution.open:
                report(
                    rules.FIELD_UNKNOWN.finding(
                        f"the field {name} takes {column}, which the query does not show",
                        part=flow.part,
                        file=flow.file,
                        line=flow.document.line_of(("fields", name)),
                        remedy=did_you_mean(column, columns, rules.FIELD_UNKNOWN.remedy),
                    )
                )
        at = [
            Read(table=r.table, columns=r.columns, file=r.file, line=line)
            for r in reads_of(flow.file, resolution)
        ]
        uses = tuple(Use(parameter=n, file=flow.file, line=line) for n in parameters_in(query))
        return tuple(at), tuple(field_edges), uses

    def render(self, flow: Flow, values: Mapping[str, Value]) -> Rendered:
        """The file and its query with this environment's values, and the API document."""
        document: dict[str, Any] = substitute(flow.document.values, values)
        if flow.settings.from_.query:
            query = parse_query(flow.settings.from_.query, flow.dialect, flow.declared)
            query = with_values(query, values)
            document["from"] = {**document["from"], "query": to_text(query, flow.dialect)}
        document["openapi"] = substitute(flow.api, values)
        return RenderedFlow(part=flow.part, content=document, dialect=flow.dialect)


_JSON_TYPES = {
    "integer": ("TINYINT", "SMALLINT", "INT", "BIGINT", "HUGEINT"),
    "number": ("DOUBLE", "FLOAT", "REAL", "DECIMAL"),
    "boolean": ("BOOLEAN",),
    "string": ("TEXT", "VARCHAR", "CHAR", "UUID", "DATE", "TIME", "TIMESTAMP", "TIMESTAMPTZ"),
}
"""The JSON type that a column's values have, by the name of its SQL type."""


def json_type(type_: str) -> str | None:
    """The JSON type of a column's values, or None when nothing certain is known."""
    named = re.fullmatch(r"([A-Z]+)(?:\([\d, ]*\))?", type_)  # a list or a struct is none of these
    return next((j for j, names in _JSON_TYPES.items() if named and named[1] in names), None)


def operation_of(
    api: Mapping[str, Any], operation: str
) -> tuple[str, str, Mapping[str, Any]] | None:
    """Path, method and description of an operation, by its ``operationId``."""
    for path, item in api.get("paths", {}).items():
        for method, described in item.items():
            if isinstance(described, dict) and described.get("operationId") == operation:
                return path, method, described
    return None


def body_schema(api: Mapping[str, Any], operation: Mapping[str, Any]) -> Mapping[str, Any]:
    """The JSON Schema of an operation's request body, one reference followed."""
    content = operation.get("requestBody", {}).get("content", {})
    return _referred(api, content.get("application/json", {}).get("schema", {}))


def operation_of_api(api: Mapping[str, Any], operation: str) -> Operation:
    """An operation as a flow sends to it.

    Raises:
        KeyError: when the API has none of that name.
    """
    operation_found = operation_of(api, operation)
    if operation_found is None:
        raise KeyError(operation)
    path, method, described = operation_found
    parameters = [*api["paths"][path].get("parameters", ()), *described.get("parameters", ())]
    resolved = [_referred(api, each) for each in parameters]
    return Operation(
        method=method.upper(),
        path=path,
        places={each["name"]: each["in"] for each in resolved},
        schema=body_schema(api, described),
    )


def success_status(api: Mapping[str, Any], operation: str) -> int:
    """The status that an operation promises when all went well: the lowest that begins with 2."""
    operation_found = operation_of(api, operation)
    statuses = operation_found[2].get("responses", {}) if operation_found else {}
    promised = sorted(int(s) for s in map(str, statuses) if s.isdigit() and s.startswith("2"))
    return promised[0] if promised else HTTPStatus.CREATED


def _referred(api: Mapping[str, Any], described: Mapping[str, Any]) -> Mapping[str, Any]:
    """A description, one reference followed."""
    reference = described.get("$ref")
    if not isinstance(reference, str) or not reference.startswith("#/"):
        return described
    at: Any = api
    for key in reference[2:].split("/"):
        at = at.get(key, {})
    referred: Mapping[str, Any] = at
    return referred


def _uses_in(path: str, shared: Mapping[str, bytes]) -> tuple[Use, ...]:
    """Every ``${name}`` of an API document, with its line."""
    lines = shared[path].decode("utf-8", "replace").splitlines()
    return tuple(
        Use(parameter=name, file=path, line=number)
        for number, line in enumerate(lines, start=1)
        for name in references(line)
    )


def _read_api(flow: Flow, shared: Mapping[str, bytes], report: Report) -> Mapping[str, Any] | None:
    end = flow.outside
    side = "to" if flow.settings.direction == "out" else "from"
    path = end.api or ""

    def refuse(
        message: str, remedy: str | None = None, at: str = flow.file, key: str = "api"
    ) -> None:
        line = flow.document.line_of((side, key)) if at == flow.file else None
        report(
            rules.API_INVALID.finding(message, part=flow.part, file=at, line=line, remedy=remedy)
        )

    content = shared.get(path)
    if content is None:
        apis = [name for name in shared if name.startswith("apis/")]
        refuse(f"there is no {path}", did_you_mean(path, apis, "Add the OpenAPI document."))
        return None
    try:
        api = yaml.load(content.decode("utf-8"), Loader=_Loader)
    except (UnicodeDecodeError, yaml.YAMLError) as error:
        mark = getattr(error, "problem_mark", None)
        message = f"is not YAML: {getattr(error, 'problem', error)}"
        number = mark.line + 1 if mark is not None else None
        report(rules.API_INVALID.finding(message, part=flow.part, file=path, line=number))
        return None
    fault = _api_fault(api)
    if fault is not None:
        refuse(f"is not a valid OpenAPI 3 document: {fault}", at=path)
        return None
    if operation_of(api, end.operation or "") is None:
        known = [
            described["operationId"]
            for item in api.get("paths", {}).values()
            for described in item.values()
            if isinstance(described, dict) and "operationId" in described
        ]
        refuse(
            f"{path} has no operation {end.operation}",
            did_you_mean(end.operation or "", known, f"Operations there: {', '.join(known)}."),
            key="operation",
        )
        return None
    checked: Mapping[str, Any] = api
    return checked


def _api_fault(api: object) -> str | None:
    from openapi_spec_validator import OpenAPIV30SpecValidator, OpenAPIV31SpecValidator

    if not isinstance(api, dict) or not str(api.get("openapi", "")).startswith("3."):
        return "it does not say openapi: 3.x"
    newer = str(api["openapi"]).startswith("3.1")
    validator = OpenAPIV31SpecValidator if newer else OpenAPIV30SpecValidator
    for error in validator(api).iter_errors():
        where = "/".join(str(key) for key in error.absolute_path)
        message = str(error.message).splitlines()[0][:160]
        return f"{message} (at {where or 'the top'})"
    return None


def _check_fields(flow: Flow, report: Report) -> None:
    """The map must fit the API: required fields present, no fields that it does not know."""
    operation = operation_of_api(flow.api, flow.outside.operation or "")
    schema = operation.schema
    properties = {**schema.get("properties", {}), **{name: {} for name in operation.places}}
    outward = flow.settings.direction == "out"
    mapped = set(flow.settings.fields if outward else flow.settings.fields.values())
    if not schema.get("properties"):
        return
    for name, other in flow.settings.fields.items():
        field_name = name if outward else other
        if field_name not in properties:
            report(
                rules.FIELD_UNKNOWN.finding(
                    f"{flow.outside.operation} has no field {field_name}",
                    part=flow.part,
                    file=flow.file,
                    line=flow.document.line_of(("fields", name)),
                    remedy=did_you_mean(field_name, properties, rules.FIELD_UNKNOWN.remedy),
                )
            )
    if outward:
        in_path = {name for name, place in operation.places.items() if place == "path"}
        for missing in sorted({*schema.get("required", ()), *in_path} - mapped):
            report(
                rules.FIELD_UNKNOWN.finding(
                    f"{flow.outside.operation} requires the field {missing}, which is not mapped",
                    part=flow.part,
                    file=flow.file,
                    line=flow.document.line_of(("fields",)),
                    remedy=f"Add {missing} = ... under [fields].",
                )
            )


def _check_types(flow: Flow, table: Table, report: Report) -> None:
    """Where both types are certain, the values of one end must fit the other."""
    operation = operation_of(flow.api, flow.outside.operation or "")
    properties = body_schema(flow.api, operation[2]).get("properties", {}) if operation else {}
    outward = flow.settings.direction == "out"
    for left, right in flow.settings.fields.items():
        name, column_name = (left, right) if outward else (right, left)
        column = table.by_name.get(column_name.lower())
        asked = properties.get(name, {}).get("type")
        given = json_type(column.type) if column is not None else None
        if column is None or given is None or not isinstance(asked, str) or asked == given:
            continue
        source, target = (given, asked) if outward else (asked, given)
        if asked in _JSON_TYPES and (source, target) != ("integer", "number"):
            report(
                rules.FIELD_UNKNOWN.finding(
                    f"the field {name} is {asked}, but {table.name}.{column.name} is {column.type}",
                    part=flow.part,
                    file=flow.file,
                    line=flow.document.line_of(("fields", left)),
                    remedy="Convert the value in the model, or correct the type in the API.",
                )
            )
