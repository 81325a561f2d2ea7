"""The OpenAPI end of a flow: its document read, and the field map held against it."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from inchworm.core.checks import rules
from inchworm.core.errors import did_you_mean
from inchworm.core.lineage.facts import Use
from inchworm.core.parameters.matrix import references
from inchworm.core.structure.tables import Table
from inchworm.core.toml import KeyPath
from inchworm.kinds.api_document import (
    JSON_TYPES,
    api_fault,
    body_schema,
    json_type,
    operation_of,
    operation_of_api,
)
from inchworm.kinds.api_yaml import ApiUnreadable, read_api_document
from inchworm.kinds.base import Surroundings
from inchworm.kinds.flow_settings import Flow
from inchworm.kinds.settings import Report


def uses_in(path: str, shared: Mapping[str, bytes]) -> tuple[Use, ...]:
    """Every ``${name}`` of an API document, with its line."""
    lines = shared[path].decode("utf-8", "replace").splitlines()
    return tuple(
        Use(parameter=name, file=path, line=number)
        for number, line in enumerate(lines, start=1)
        for name in references(line)
    )


def read_api(flow: Flow, surroundings: Surroundings, report: Report) -> Mapping[str, Any] | None:
    """The document that a flow names; None after reporting why there is none."""
    shared = surroundings.shared
    side = "to" if flow.is_outward else "from"
    path = flow.api_path

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
        api = read_api_document(content)
    except ApiUnreadable as error:
        message = f"cannot be read as YAML: {error.reason}"
        report(rules.API_INVALID.finding(message, part=flow.part, file=path, line=error.line))
        return None
    fault = None if surroundings.in_order else api_fault(api)
    if fault is not None:
        refuse(f"is not a valid OpenAPI 3 document: {fault}", at=path)
        return None
    if operation_of(api, flow.operation) is None:
        known = [
            described["operationId"]
            for item in api.get("paths", {}).values()
            for described in item.values()
            if isinstance(described, dict) and "operationId" in described
        ]
        refuse(
            f"{path} has no operation {flow.operation}",
            did_you_mean(flow.operation, known, f"Operations there: {', '.join(known)}."),
            key="operation",
        )
        return None
    checked: Mapping[str, Any] = api
    return checked


def report_field(flow: Flow, report: Report, message: str, key: KeyPath, remedy: str) -> None:
    """Report a field map that does not fit, at the line of one of its settings."""
    line = flow.document.line_of(key)
    report(
        rules.FIELD_UNKNOWN.finding(
            message, part=flow.part, file=flow.file, line=line, remedy=remedy
        )
    )


def check_fields(flow: Flow, report: Report) -> None:
    """The map must fit the API: required fields present, no fields that it does not know."""
    operation = operation_of_api(flow.api, flow.operation)
    schema = operation.schema
    properties = {**schema.get("properties", {}), **{name: {} for name in operation.places}}
    outward = flow.is_outward
    mapped = set(flow.settings.fields if outward else flow.settings.fields.values())
    if not schema.get("properties"):
        return
    for name, other in flow.settings.fields.items():
        field_name = name if outward else other
        if field_name not in properties:
            report_field(
                flow,
                report,
                f"{flow.operation} has no field {field_name}",
                ("fields", name),
                did_you_mean(field_name, properties, rules.FIELD_UNKNOWN.remedy),
            )
    if outward:
        in_path = {name for name, place in operation.places.items() if place == "path"}
        for missing in sorted({*schema.get("required", ()), *in_path} - mapped):
            report_field(
                flow,
                report,
                f"{flow.operation} requires the field {missing}, which is not mapped",
                ("fields",),
                f"Add {missing} = ... under [fields].",
            )


def check_types(flow: Flow, fields: Mapping[str, str], table: Table, report: Report) -> None:
    """Where both types are certain, the values of one end must fit the other.

    Args:
        fields: the map of fields, as far as its columns are those of ``table``.
    """
    operation = operation_of(flow.api, flow.operation)
    properties = body_schema(flow.api, operation[2]).get("properties", {}) if operation else {}
    outward = flow.is_outward
    for left, right in fields.items():
        name, column_name = (left, right) if outward else (right, left)
        column = table.by_name.get(column_name.lower())
        asked = properties.get(name, {}).get("type")
        given = json_type(column.type) if column is not None else None
        if column is None or given is None or not isinstance(asked, str) or asked == given:
            continue
        source, target = (given, asked) if outward else (asked, given)
        if asked in JSON_TYPES and (source, target) != ("integer", "number"):
            report_field(
                flow,
                report,
                f"the field {name} is {asked}, but {table.name}.{column.name} is {column.type}",
                ("fields", left),
                "Convert the value in the model, or correct the type in the API.",
            )
