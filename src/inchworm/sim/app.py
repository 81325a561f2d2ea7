"""The simulated workspace and gateway as a Starlette application.

Errors are problem details (RFC 9457), whatever it is thrown at.
"""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable
from http import HTTPStatus
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

from starlette.applications import Starlette
from starlette.exceptions import HTTPException
from starlette.requests import Request
from starlette.responses import JSONResponse, Response

from inchworm.core.errors import InchwormError
from inchworm.core.identifiers import Home, Kind
from inchworm.sim.description import description
from inchworm.sim.requests import (
    Handler,
    bearer,
    body_of,
    is_token,
    object_of,
    problem,
    refused,
    route,
    token_digest,
    unreadable,
)
from inchworm.sim.store import FURTHEST, SimStore, moved

WORKSPACE_KINDS = tuple(kind.value for kind in Kind if kind.home is Home.WORKSPACE)
GATEWAY_KINDS = tuple(kind.value for kind in Kind if kind.home is Home.GATEWAY)

_LARGEST_BODY = 1024 * 1024
_LARGEST_ITEM = 64 * 1024 * 1024
"""Bytes of an item, such as a notebook or a library."""

_WEB = frozenset({"http", "https"})


def create_app(
    path: Path,
    token: str | None = None,
    resolve: Callable[[str], str] | None = None,
    *,
    simulates: bool = True,
) -> Starlette:
    """The application.

    Args:
        path: the file of its store.
        token: every request must bring it, where there is one.
        resolve: the secret that a reference leads to; it raises an ``InchwormError`` where it
            cannot be had. Without it no secret can be had here.
        simulates: whether it also takes faults, gives secrets, and takes what is sent to services
            of others, as no workspace and gateway of its own would.
    """
    platform = _Platform(SimStore(path), token, resolve)
    guarded = platform.guarded
    simulated = [
        route("/v1/secrets/{path:path}", GET=platform.get_secret, PUT=platform.put_secret),
        route("/v1/faults", PUT=guarded(platform.put_fault)),
        route("/v1/clock", GET=guarded(platform.get_clock), PUT=guarded(platform.put_clock)),
        route("/v1/received", GET=guarded(platform.list_received)),
        route("/{path:path}", POST=guarded(platform.receive), PUT=guarded(platform.receive)),
    ]
    describe = platform.describe if simulates else platform.describe_real
    return Starlette(
        routes=[
            route("/openapi.json", GET=describe),
            route("/v1/items", GET=guarded(platform.list_items)),
            route(
                "/v1/items/{kind}/{name}",
                GET=guarded(platform.get_item),
                PUT=guarded(platform.put_item),
                DELETE=guarded(platform.delete_item),
            ),
            route("/v1/flows/{name}/activation", POST=guarded(platform.activate)),
            route("/v1/schedules", GET=guarded(platform.list_schedules)),
            route("/v1/schedules/{pipeline}/{name}", PUT=guarded(platform.put_schedule)),
            *(simulated if simulates else ()),
        ],
        exception_handlers={
            HTTPException: refused,
            UnicodeError: unreadable,
            RecursionError: unreadable,
        },
    )


_STARTING = "starting"


class _Platform:
    def __init__(
        self, store: SimStore, token: str | None, resolve: Callable[[str], str] | None
    ) -> None:
        self._store = store
        self._token = None if token is None else token_digest(token)
        self._resolve = resolve

    def guarded(self, handler: Handler) -> Handler:
        """The handler behind the token, if one is asked for."""

        async def guard(request: Request) -> Response:
            if self._token is not None and not is_token(bearer(request), self._token):
                return problem(HTTPStatus.UNAUTHORIZED, "The token is missing or wrong.")
            return await handler(request)

        return guard

    async def list_items(self, request: Request) -> Response:
        untouched = self._store.is_untouched
        return JSONResponse({"items": self._store.items(), "untouched": untouched})

    async def get_item(self, request: Request) -> Response:
        kind, name = request.path_params["kind"], request.path_params["name"]
        item = self._store.item(kind, name)
        if item is not None and item["state"] == _STARTING:
            item = self._looked_at(item)
        return (
            JSONResponse(item) if item else problem(HTTPStatus.NOT_FOUND, "There is no such item.")
        )

    def _looked_at(self, flow: dict[str, Any]) -> dict[str, Any]:
        """A flow that starts: each look at it is one less until it is active, or has failed."""
        target = f"starting flow:{flow['name']}"
        looks, _, failure = (self._store.faults().get(target) or "0").partition(" ")
        left = int(looks) - 1 if looks.isdigit() else 0
        if left > 0:
            self._store.set_fault(target, f"{left} {failure}".strip())
            return flow
        self._store.set_fault(target, None)
        ended = {"state": "failed", "reason": failure} if failure else {"state": "active"}
        self._store.put(flow | ended)
        return flow | ended

    async def put_item(self, request: Request) -> Response:
        kind, name = request.path_params["kind"], request.path_params["name"]
        if kind not in WORKSPACE_KINDS + GATEWAY_KINDS:
            return problem(HTTPStatus.NOT_FOUND, f"There are no {kind}s here.")
        body = await object_of(request, _LARGEST_ITEM)
        digest, document = body.get("digest"), body.get("document")
        if not isinstance(digest, str) or not isinstance(document, dict):
            return problem(HTTPStatus.BAD_REQUEST, "An item needs a digest and a document.")
        schedules = document.get("schedules", {}) if kind == "pipeline" else {}
        if not _are_schedules(schedules):
            return problem(HTTPStatus.BAD_REQUEST, "A schedule needs cron, after or arrives.")
        reason = self._store.faults().get(f"put {kind}:{name}")
        if reason is not None:
            return problem(HTTPStatus.SERVICE_UNAVAILABLE, reason)
        self._store.put(
            {
                "kind": kind,
                "name": name,
                "digest": digest,
                "document": document,
                "state": "inactive" if kind == "flow" else "",
                "reason": "",
                "changed_at": self._now().isoformat(timespec="seconds"),
            }
        )
        if kind == "pipeline":
            self._store.keep_schedules(name, schedules)
        return Response(status_code=HTTPStatus.NO_CONTENT)

    async def delete_item(self, request: Request) -> Response:
        if request.path_params["kind"] not in WORKSPACE_KINDS + GATEWAY_KINDS:
            kind = request.path_params["kind"]
            return problem(HTTPStatus.NOT_FOUND, f"There are no {kind}s here.")
        self._store.remove(request.path_params["kind"], request.path_params["name"])
        return Response(status_code=HTTPStatus.NO_CONTENT)

    async def activate(self, request: Request) -> Response:
        name = request.path_params["name"]
        item = self._store.item("flow", name)
        if item is None:
            return problem(HTTPStatus.NOT_FOUND, f"There is no flow {name}.")
        try:
            reason = self._store.faults().get(f"flow:{name}") or self._refusal(item["document"])
        except (KeyError, TypeError, AttributeError):
            reason = "What was put there is no flow."
        starts = self._store.faults().get(f"starting flow:{name}") is not None
        state = "refused" if reason else _STARTING if starts else "active"
        item |= {"state": state, "reason": reason or ""}
        self._store.put(item)
        if reason:
            return problem(HTTPStatus.CONFLICT, reason)
        status = HTTPStatus.ACCEPTED if starts else HTTPStatus.OK
        return JSONResponse({"state": state}, status)

    def _refusal(self, flow: dict[str, Any]) -> str | None:
        """Why a flow cannot run here, judged as a gateway can: by its connection and API."""
        if flow.get("direction") == "copy" or flow["to"].get("address"):
            return self._refused_connections(flow)
        outward = flow.get("direction") == "out"
        end = flow["to" if outward else "from"]
        if outward:
            connection = self._store.item("connection", end["connection"])
            if connection is None:
                return f"The connection {end['connection']} is not there."
            address = urlsplit(connection["document"]["url"])
            is_simulated = address.scheme == "sim" and address.path
            if not is_simulated and not (address.scheme in _WEB and address.hostname):
                return f"The connection {end['connection']} has no http address."
            if reason := self._without_credentials(connection):
                return reason
        operations = [
            described.get("operationId")
            for item in flow["openapi"].get("paths", {}).values()
            for described in item.values()
            if isinstance(described, dict)
        ]
        return (
            None if end["operation"] in operations else f"There is no operation {end['operation']}."
        )

    def _refused_connections(self, flow: dict[str, Any]) -> str | None:
        """Why a flow of files or mails cannot run here, judged by its connections."""
        for end in (flow["from"], flow["to"]):
            if name := end.get("connection"):
                connection = self._store.item("connection", name)
                if connection is None:
                    return f"The connection {name} is not there."
                if reason := self._without_credentials(connection):
                    return reason
        return None

    def _without_credentials(self, connection: dict[str, Any]) -> str | None:
        """Why the credentials of a connection cannot be had."""
        for reference in connection["document"].get("credentials", {}).values():
            try:
                self._secret_of(reference)
            except InchwormError as error:
                return f"{error.what} The connection {connection['name']} needs it."
        return None

    async def list_schedules(self, request: Request) -> Response:
        return JSONResponse({"schedules": self._store.schedules()})

    async def put_schedule(self, request: Request) -> Response:
        pipeline, name = request.path_params["pipeline"], request.path_params["name"]
        state = (await object_of(request, _LARGEST_BODY)).get("state")
        if state not in ("on", "off", "paused"):
            return problem(HTTPStatus.BAD_REQUEST, "A schedule is on, off or paused.")
        reason = self._store.faults().get(f"set {pipeline}.{name} {state}")
        if reason is not None:
            return problem(HTTPStatus.SERVICE_UNAVAILABLE, reason)
        if not self._store.set_schedule(pipeline, name, state):
            return problem(HTTPStatus.NOT_FOUND, f"{pipeline} has no schedule {name}.")
        return Response(status_code=HTTPStatus.NO_CONTENT)

    async def get_secret(self, request: Request) -> Response:
        if not self._opens(request):
            return problem(HTTPStatus.UNAUTHORIZED, "The token is missing, wrong or has expired.")
        version = request.query_params.get("version")
        if version is not None and not version.isdigit():
            return problem(HTTPStatus.BAD_REQUEST, "A version is a number.")
        secret = self._store.secret(request.path_params["path"], int(version) if version else None)
        if secret is None:
            return problem(HTTPStatus.NOT_FOUND, "There is no such secret.")
        ends_at = secret["ends_at"]
        if ends_at is not None and ends_at <= self._now().timestamp():
            return problem(HTTPStatus.GONE, "It is valid no longer.")
        try:
            data = {key: self._secret_of(each) for key, each in secret["references"].items()}
        except InchwormError as error:
            return problem(HTTPStatus.NOT_FOUND, error.what)
        return JSONResponse(
            {
                "data": data,
                "version": secret["version"],
                "valid_until": None if ends_at is None else _spell_time(ends_at),
            }
        )

    async def put_secret(self, request: Request) -> Response:
        if not self._opens(request):
            return problem(HTTPStatus.UNAUTHORIZED, "The token is missing, wrong or has expired.")
        body = await object_of(request, _LARGEST_BODY)
        references = body.get("references")
        if not isinstance(references, dict) or not all(
            isinstance(each, str) and ":" in each for each in references.values()
        ):
            message = "This store keeps references such as env:NAME, and never a secret itself."
            return problem(HTTPStatus.BAD_REQUEST, message)
        until = body.get("valid_until")
        try:
            ends_at = None if until is None else dt.datetime.fromisoformat(str(until)).timestamp()
        except (ValueError, OverflowError):
            return problem(HTTPStatus.BAD_REQUEST, "valid_until is a time in ISO 8601.")
        version = self._store.keep_secret(request.path_params["path"], references, ends_at)
        return JSONResponse({"version": version}, status_code=HTTPStatus.CREATED)

    def _secret_of(self, reference: str) -> str:
        if self._resolve is None:
            raise InchwormError(
                f"The secret {reference} cannot be had here.", next="Ask those who run it."
            )
        return self._resolve(reference)

    def _opens(self, request: Request) -> bool:
        return self._store.opens(bearer(request), self._now().timestamp())

    async def put_fault(self, request: Request) -> Response:
        body = await object_of(request, _LARGEST_BODY)
        target, reason = body.get("target"), body.get("reason")
        if not isinstance(target, str) or not isinstance(reason, str | None):
            return problem(HTTPStatus.BAD_REQUEST, "A fault needs a target, and a reason or null.")
        self._store.set_fault(target, reason)
        return Response(status_code=HTTPStatus.NO_CONTENT)

    def _now(self) -> dt.datetime:
        """The time by the service's own clock."""
        return moved(dt.datetime.now(dt.UTC), self._store.ahead())

    async def get_clock(self, request: Request) -> Response:
        now = self._now().isoformat(timespec="seconds")
        return JSONResponse({"now": now, "ahead": self._store.ahead()})

    async def put_clock(self, request: Request) -> Response:
        ahead = (await object_of(request, _LARGEST_BODY)).get("ahead")
        if isinstance(ahead, bool) or not isinstance(ahead, int) or abs(ahead) > FURTHEST:
            message = f"A clock is ahead by whole seconds, at most {FURTHEST}."
            return problem(HTTPStatus.BAD_REQUEST, message)
        self._store.set_ahead(ahead)
        return Response(status_code=HTTPStatus.NO_CONTENT)

    async def list_received(self, request: Request) -> Response:
        return JSONResponse({"received": self._store.received()})

    async def receive(self, request: Request) -> Response:
        """Take whatever is sent, as a service of others would: once per idempotency key."""
        path = f"/{request.path_params['path']}"
        *described, _ = request.app.routes
        if others := {m for r in described if r.path_regex.match(path) for m in r.methods}:
            allow = ", ".join(sorted(others))
            return problem(HTTPStatus.METHOD_NOT_ALLOWED, f"It takes {allow}.", {"allow": allow})
        reason = self._store.faults().get(f"receive {path}")
        if reason is not None:
            return problem(HTTPStatus.SERVICE_UNAVAILABLE, reason)
        key = request.headers.get("idempotency-key", "")
        at = self._now().isoformat(timespec="seconds")
        body = await body_of(request, _LARGEST_BODY)
        self._store.receive(path, key, body.decode(errors="replace"), at)
        return Response(status_code=HTTPStatus.CREATED)

    async def describe(self, request: Request) -> Response:
        return JSONResponse(description(WORKSPACE_KINDS + GATEWAY_KINDS))

    async def describe_real(self, request: Request) -> Response:
        return JSONResponse(description(WORKSPACE_KINDS + GATEWAY_KINDS, simulates=False))


def _spell_time(seconds: float) -> str:
    """Seconds since 1970 as ISO 8601, UTC."""
    return dt.datetime.fromtimestamp(seconds, dt.UTC).isoformat()


def _are_schedules(schedules: object) -> bool:
    """Whether a pipeline's schedules are what can be kept."""
    return isinstance(schedules, dict) and all(
        isinstance(each, dict)
        and any(isinstance(each.get(key), str) for key in ("cron", "after", "arrives"))
        and isinstance(each.get("timezone", ""), str)
        for each in schedules.values()
    )
