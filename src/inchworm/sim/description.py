"""The API of the simulated workspace and gateway, described (OpenAPI 3.1)."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from inchworm.sim.store import FURTHEST

_Json = dict[str, Any]

_TEXT: _Json = {"type": "string"}
_OBJECT: _Json = {"type": "object"}
_AHEAD: _Json = {"type": "integer", "minimum": -FURTHEST, "maximum": FURTHEST}
"""Seconds by which the clock is ahead of that of the machine."""

_STATE: _Json = {"type": "string", "enum": ["on", "off", "paused"]}


def _reference(name: str) -> _Json:
    return {"$ref": f"#/components/schemas/{name}"}


def _of(properties: Mapping[str, _Json], *, optional: tuple[str, ...] = ()) -> _Json:
    """An object with these properties."""
    required = [name for name in properties if name not in optional]
    return {"type": "object", "properties": dict(properties), "required": required}


def _content(schema: _Json, media_type: str = "application/json") -> _Json:
    return {media_type: {"schema": schema}}


def _body(schema: _Json) -> _Json:
    return {"required": True, "content": _content(schema)}


def _listed(name: str, item: _Json) -> _Json:
    return _of({name: {"type": "array", "items": item}})


def _parameters(*names: str, **more: _Json) -> list[_Json]:
    """Parameters of a path: texts, unless said otherwise."""
    schemas = {name: more.get(name, {**_TEXT, "minLength": 1}) for name in (*names, *more)}
    return [
        {"name": name, "in": "path", "required": True, "schema": schema}
        for name, schema in schemas.items()
    ]


def _operation(
    about: str,
    answers: Mapping[str, _Json | str],
    refusals: tuple[str, ...] = (),
    *,
    body: _Json | None = None,
    token: str = "token",
    query: list[_Json] | None = None,
) -> _Json:
    """An operation.

    Args:
        about: what it does.
        answers: by status, the schema of the answer; or its description, where it has no body.
        refusals: the statuses of problems.
        body: of the request.
        token: the security scheme; empty where none is asked for.
        query: parameters of the query.
    """
    described = {
        status: {"description": answer}
        if isinstance(answer, str)
        else {"description": "As asked.", "content": _content(answer)}
        for status, answer in answers.items()
    }
    refused = ("401", *refusals) if token else refusals
    operation: _Json = {
        "summary": about,
        "responses": {**described, **dict.fromkeys(refused, _PROBLEM)},
        "security": [{token: []}] if token else [],
    }
    if body is not None:
        operation["requestBody"] = body
    if query:
        operation["parameters"] = query
    return operation


_PROBLEM: _Json = {
    "description": "What is wrong (RFC 9457).",
    "content": _content(_reference("Problem"), "application/problem+json"),
}
_NULLABLE_TEXT: _Json = {"type": ["string", "null"]}

_SCHEMAS: _Json = {
    "Problem": _of({"title": _TEXT, "status": {"type": "integer"}, "detail": _TEXT}),
    "Item": _of(
        {
            **dict.fromkeys(("kind", "name", "digest", "state", "reason", "changed_at"), _TEXT),
            "document": _OBJECT,
        },
        optional=("document",),
    ),
    "PutItem": _of({"digest": _TEXT, "document": _OBJECT}),
    "Schedule": _of({"pipeline": _TEXT, "name": _TEXT, "state": _STATE}),
    "PutSchedule": _of({"state": _STATE}),
    "Activation": _of({"state": {"type": "string", "enum": ["active", "starting"]}}),
    "Secret": _of(
        {
            "data": {"type": "object", "additionalProperties": _TEXT},
            "version": {"type": "integer"},
            "valid_until": _NULLABLE_TEXT,
        }
    ),
    "PutSecret": _of(
        {
            "references": {
                "type": "object",
                "additionalProperties": {"type": "string", "pattern": ":"},
            },
            "valid_until": {"oneOf": [{"type": "null"}, {**_TEXT, "format": "date-time"}]},
        },
        optional=("valid_until",),
    ),
    "Clock": _of({"now": {**_TEXT, "format": "date-time"}, "ahead": _AHEAD}),
    "PutClock": _of({"ahead": _AHEAD}),
    "Fault": _of({"target": _TEXT, "reason": _NULLABLE_TEXT}, optional=("reason",)),
    "Received": _of(
        {"path": _TEXT, "key": _TEXT, "body": _TEXT, "at": _TEXT}, optional=("key", "at")
    ),
}


def _items(kinds: tuple[str, ...]) -> _Json:
    """Items of some kinds, and flows switched on."""
    item = _parameters("name", kind={"type": "string", "enum": list(kinds)})
    return {
        "/v1/items": {
            "get": _operation("All items.", {"200": _listed("items", _reference("Item"))})
        },
        "/v1/items/{kind}/{name}": {
            "parameters": item,
            "get": _operation("One item.", {"200": _reference("Item")}, ("404",)),
            "put": _operation(
                "Add or replace an item.",
                {"204": "It is there."},
                ("400", "404", "413", "503"),
                body=_body(_reference("PutItem")),
            ),
            "delete": _operation(
                "Remove an item, if it is there.", {"204": "It is not there."}, ("404",)
            ),
        },
        "/v1/flows/{name}/activation": {
            "parameters": _parameters("name"),
            "post": _operation(
                "Switch a flow on.",
                {"200": _reference("Activation"), "202": _reference("Activation")},
                ("400", "404", "409"),
            ),
        },
    }


_SCHEDULES: _Json = {
    "/v1/schedules": {
        "get": _operation("All schedules.", {"200": _listed("schedules", _reference("Schedule"))})
    },
    "/v1/schedules/{pipeline}/{name}": {
        "parameters": _parameters("pipeline", "name"),
        "put": _operation(
            "Set the state of a schedule.",
            {"204": "It is in that state."},
            ("400", "404", "413", "503"),
            body=_body(_reference("PutSchedule")),
        ),
    },
}
_SECRETS: _Json = {
    "/v1/secrets/{path}": {
        "parameters": _parameters("path"),
        "get": _operation(
            "A secret's values.",
            {"200": _reference("Secret")},
            ("400", "404", "410"),
            token="secretToken",
            query=[
                {
                    "name": "version",
                    "in": "query",
                    "schema": {"type": "integer", "minimum": 0},
                }
            ],
        ),
        "put": _operation(
            "Keep references to a secret's values.",
            {"201": _of({"version": {"type": "integer"}})},
            ("400", "404", "413"),
            body=_body(_reference("PutSecret")),
            token="secretToken",
        ),
    },
}
_OTHERS: _Json = {
    "/openapi.json": {"get": _operation("This document.", {"200": _OBJECT}, token="")},
    "/v1/faults": {
        "put": _operation(
            "Have something refused from now on, or no longer.",
            {"204": "It is so."},
            ("400", "413"),
            body=_body(_reference("Fault")),
        )
    },
    "/v1/clock": {
        "get": _operation("The time by its clock.", {"200": _reference("Clock")}),
        "put": _operation(
            "Move the clock.",
            {"204": "It is so."},
            ("400", "413"),
            body=_body(_reference("PutClock")),
        ),
    },
    "/v1/received": {
        "get": _operation(
            "What was sent to any other path.",
            {"200": _listed("received", _reference("Received"))},
        )
    },
}


def description(kinds: tuple[str, ...], *, simulates: bool = True) -> _Json:
    """The document.

    Args:
        kinds: of the items that it keeps.
        simulates: whether it is of a simulated one, which also takes faults, gives secrets, and
            takes what is sent to services of others.
    """
    simulated = {**_SECRETS, **_OTHERS} if simulates else {}
    title = "Simulated workspace and gateway" if simulates else "Workspace and gateway"
    schemes = {name: {"type": "http", "scheme": "bearer"} for name in ("token", "secretToken")}
    return {
        "openapi": "3.1.0",
        "info": {"title": title, "version": "1.0.0"},
        "paths": {**_items(kinds), **_SCHEDULES, **simulated},
        "components": {"schemas": _SCHEMAS, "securitySchemes": schemes},
    }
