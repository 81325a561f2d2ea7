"""OpenAPI documents: an operation by its id, the schema of its body, and what is wrong with one."""

from __future__ import annotations

import re
from collections.abc import Mapping
from http import HTTPStatus
from typing import Any

from inchworm.core.running.sending import Operation

JSON_TYPES = {
    "integer": ("TINYINT", "SMALLINT", "INT", "BIGINT", "HUGEINT"),
    "number": ("DOUBLE", "FLOAT", "REAL", "DECIMAL"),
    "boolean": ("BOOLEAN",),
    "string": ("TEXT", "VARCHAR", "CHAR", "UUID", "DATE", "TIME", "TIMESTAMP", "TIMESTAMPTZ"),
}
"""The JSON type that a column's values have, by the name of its SQL type."""


def json_type(type_: str) -> str | None:
    """The JSON type of a column's values, or None when nothing certain is known."""
    named = re.fullmatch(r"([A-Z]+)(?:\([\d, ]*\))?", type_)  # a list or a struct is none of these
    return next((j for j, names in JSON_TYPES.items() if named and named[1] in names), None)


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
        promised={
            str(status).upper(): tuple(_referred(api, answer).get("content", ()))
            for status, answer in described.get("responses", {}).items()
            if str(status).startswith("2")
        },
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


def api_fault(api: object) -> str | None:
    """Why something is no valid OpenAPI 3 document; None where it is one."""
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
