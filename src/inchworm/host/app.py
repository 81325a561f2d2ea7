"""The host over HTTP: a page for people, metrics, and runs started by a call.

Metrics are in the OpenMetrics text format 1.0.
"""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable, Collection, Mapping, Sequence
from http import HTTPStatus
from types import MappingProxyType
from typing import Any
from urllib.parse import quote

from starlette.applications import Starlette
from starlette.concurrency import run_in_threadpool
from starlette.exceptions import HTTPException
from starlette.middleware import Middleware
from starlette.requests import Request
from starlette.responses import HTMLResponse, JSONResponse, PlainTextResponse, Response
from starlette.routing import Mount, Route
from starlette.types import ASGIApp

from inchworm import __version__
from inchworm.core.errors import InchwormError, TargetError
from inchworm.core.ledger.runs import RunsAsked, RunSummary
from inchworm.engine.running.receiving import Incoming, Retired, Unacceptable
from inchworm.host.guard import PATIENCE, Guard, token_given
from inchworm.host.host import Host, NotBegun, Watched
from inchworm.host.incoming import Busy, Inbox
from inchworm.host.metrics import metrics
from inchworm.host.page import STYLE, page
from inchworm.host.seen import Open, run_without_names, without_names
from inchworm.host.tokens import Tokens
from inchworm.sim.requests import (
    json_of,
    object_of,
    problem,
    refused,
    route,
)

_NO_TOKENS = Tokens()
_NO_PLATFORMS: Mapping[str, ASGIApp] = MappingProxyType({})
_LARGEST_BODY = 64 * 1024
_SHOWN = 25
"""Runs that are listed."""


def create_app(
    host: Host,
    runs: Callable[[RunsAsked], list[RunSummary]],
    now: Callable[[], dt.datetime],
    tokens: Tokens,
    inbox: Inbox | None = None,
    flow_tokens: Tokens = _NO_TOKENS,
    platforms: Mapping[str, ASGIApp] = _NO_PLATFORMS,
    reading: Tokens = _NO_TOKENS,
    opened: Open = Open.STATUS,
    names: Collection[str] | None = None,
    patience: float = PATIENCE,
) -> Starlette:
    """The application.

    Args:
        host: what it tells of.
        runs: those runs of the ledger that are asked for, the latest last.
        now: the present time, with a zone.
        tokens: that starting a run asks for; without one nobody can start any.
        inbox: takes in what comes to flows.
        flow_tokens: that sending something to a flow asks for; without one nothing is taken.
        platforms: workspaces and gateways that the host is itself, by name.
        reading: tokens with which errors and people's names are shown, besides those for starting.
        opened: what a visitor without a token sees.
        names: the names by which the host is asked, in lower case; None for any.
        patience: seconds within which a request's body has to be here.
    """
    readers = (reading, tokens)
    served = _Served(host, runs, now, tokens, inbox, flow_tokens, readers, opened)
    return Starlette(
        routes=[
            Route("/", served.show),
            Route("/full", served.show_full),
            Route("/metrics", served.measure),
            Route("/openapi.json", served.describe),
            route("/v1/runs", GET=served.list_runs, POST=served.start_run),
            Route(
                "/flows/{environment}/{flow}/{path:path}",
                served.take,
                methods=["POST", "PUT", "PATCH", "DELETE"],
            ),
            *(Mount(f"/platform/{name}", app=each) for name, each in platforms.items()),
        ],
        exception_handlers={HTTPException: refused, InchwormError: _wrong},
        middleware=[Middleware(Guard, names=names, style=STYLE, patience=patience)],
    )


class _Served:
    def __init__(
        self,
        host: Host,
        runs: Callable[[RunsAsked], list[RunSummary]],
        now: Callable[[], dt.datetime],
        tokens: Tokens,
        inbox: Inbox | None,
        flow_tokens: Tokens,
        readers: tuple[Tokens, ...],
        opened: Open,
    ) -> None:
        self._host = host
        self._runs = runs
        self._now = now
        self._inbox = inbox
        self._tokens = tokens
        self._flow_tokens = flow_tokens
        self._readers = readers
        self._opened = opened

    def show(self, request: Request) -> Response:
        watched, runs = self._seen(request)
        return HTMLResponse(page(watched, runs, self._now()))

    def show_full(self, request: Request) -> Response:
        """The page with errors and names; a browser asks for the token as for a password."""
        if not self._is_reader(request):
            asked = {"www-authenticate": 'Basic realm="inchworm", charset="UTF-8"'}
            detail = "Give any name, and the token as password."
            return PlainTextResponse(detail, HTTPStatus.UNAUTHORIZED, asked)
        return HTMLResponse(page(self._host.watched(), self._latest(), self._now()))

    def _is_reader(self, request: Request) -> bool:
        given = token_given(request)
        return any(tokens.has(given) for tokens in self._readers)

    def _seen(self, request: Request) -> tuple[Sequence[Watched], list[RunSummary]]:
        """What somebody who asks may see of environments and runs.

        Raises:
            HTTPException: when they may see nothing.
        """
        watched, runs = self._host.watched(), self._latest()
        if self._opened is Open.EVERYTHING or self._is_reader(request):
            return watched, runs
        if self._opened is Open.NOTHING:
            raise HTTPException(HTTPStatus.UNAUTHORIZED, "The token is missing or wrong.")
        return [*map(without_names, watched)], [*map(run_without_names, runs)]

    def measure(self, request: Request) -> Response:
        if self._opened is Open.NOTHING:
            self._seen(request)
        text = metrics(self._host.watched(), self._runs(RunsAsked()), self._now())
        kind = "application/openmetrics-text; version=1.0.0; charset=utf-8"
        return PlainTextResponse(text, media_type=kind)

    async def list_runs(self, request: Request) -> Response:
        watched, latest = await run_in_threadpool(self._seen, request)
        not_begun = [one for each in watched for one in each.not_begun]
        return JSONResponse(
            {
                "runs": [_told(run) for run in latest],
                "not_begun": [_told_not_begun(each) for each in not_begun],
            }
        )

    async def start_run(self, request: Request) -> Response:
        self._tokens.check(request)
        body = await object_of(request, _LARGEST_BODY)
        environment, name = body.get("environment"), body.get("name")
        if not isinstance(environment, str) or not isinstance(name, str) or not name:
            raise HTTPException(
                HTTPStatus.BAD_REQUEST, 'Send {"environment": "test", "name": "pipeline:nightly"}.'
            )
        if name.startswith("-") or not (_is_name(name) and _is_name(environment)):
            raise HTTPException(HTTPStatus.BAD_REQUEST, "That is no name.")
        if environment in {each.name for each in self._host.watched()}:
            self._tokens.check_for(request, environment)
        self._host.call(environment, name)
        answer = {"environment": environment, "name": name, "state": "called for"}
        return JSONResponse(answer, status_code=HTTPStatus.ACCEPTED)

    async def take(self, request: Request) -> Response:
        """Have a flow take in a request.

        An answer by a former version of its API says since when there is a later one (RFC 9745),
        and where (RFC 5829).
        """
        names = request.path_params
        watched = {each.name: each for each in self._host.watched()}
        self._flow_tokens.check(request)
        if names["environment"] in watched:
            self._flow_tokens.check_for(request, names["environment"])
        body = await json_of(request, _LARGEST_BODY)
        environment = watched.get(names["environment"])
        if environment is None or self._inbox is None:
            raise HTTPException(HTTPStatus.NOT_FOUND, f"There is no {names['environment']} here.")
        prefix = request.scope["path"].removesuffix(names["path"]).count("/")
        raw = request.scope["raw_path"].decode("ascii", "replace").partition("?")[0]
        incoming = Incoming(
            method=request.method,
            path="/".join(raw.split("/")[prefix:]),
            query=dict(request.query_params),
            headers=dict(request.headers),
            body=body,
        )
        try:
            taken = await run_in_threadpool(self._inbox.take, environment, names["flow"], incoming)
        except Busy:
            detail = "It cannot be taken now: send it again later."
            return problem(HTTPStatus.SERVICE_UNAVAILABLE, detail, {"retry-after": "5"})
        except Retired as error:
            return problem(HTTPStatus.GONE, str(error))
        except Unacceptable as error:
            return problem(HTTPStatus.UNPROCESSABLE_ENTITY, error.what)
        except TargetError:
            detail = "The environment cannot be reached: send it again later."
            return problem(HTTPStatus.SERVICE_UNAVAILABLE, detail, {"retry-after": "30"})
        answer = {"taken": True, "new": taken.is_new}
        headers = {}
        if taken.since:
            at = dt.datetime.fromisoformat(taken.since)
            latest = quote(f"/flows/{names['environment']}/{taken.flow}/{names['path']}")
            headers["deprecation"] = f"@{at.timestamp():.0f}"
            headers["link"] = f'<{latest}>; rel="successor-version"'
        return JSONResponse(answer, status_code=taken.status, headers=headers)

    def describe(self, request: Request) -> Response:
        return JSONResponse(DESCRIPTION)

    def _latest(self) -> list[RunSummary]:
        asked = [RunsAsked(environment=each.name, latest=_SHOWN) for each in self._host.watched()]
        runs = [run for of_environment in asked for run in self._runs(of_environment)]
        return sorted(runs, key=lambda run: run.id.number, reverse=True)[:_SHOWN]


def _is_name(text: str) -> bool:
    """Return True if a text can be an argument of a command: short, and of printable letters."""
    return len(text) <= _LONGEST_NAME and text.isprintable()


_LONGEST_NAME = 300
"""Letters of the name of what is started."""


def _told(run: RunSummary) -> dict[str, Any]:
    return {
        "id": str(run.id),
        "environment": run.environment,
        "name": str(run.subject),
        "state": run.state.value,
        "started": run.started,
        "began_at": run.began_at,
        "changed_at": run.changed_at,
        "message": run.message,
    }


def _told_not_begun(each: NotBegun) -> dict[str, Any]:
    return {
        "environment": each.job.environment,
        "name": each.job.name,
        "started": each.job.schedule or "call",
        "at": each.at.astimezone(dt.UTC).isoformat(timespec="seconds"),
        "why": each.why,
        "is_tried_again": each.is_tried_again,
    }


async def _wrong(request: Request, error: Exception) -> Response:
    return problem(HTTPStatus.NOT_FOUND, str(error))


_PROBLEM = {
    "description": "What is wrong.",
    "content": {"application/problem+json": {"schema": {"$ref": "#/components/schemas/Problem"}}},
}
_RUN = {
    "type": "object",
    "properties": {
        name: {"type": "string"}
        for name in (
            *("id", "environment", "name", "state", "started", "began_at", "changed_at", "message"),
        )
    },
}


_NOT_BEGUN = {
    "type": "object",
    "properties": {
        **{name: {"type": "string"} for name in ("environment", "name", "started", "at", "why")},
        "is_tried_again": {"type": "boolean"},
    },
}
"""A run that was due, or called for, and could not begin: no run of the ledger is about it."""


def _sent_by(method: str) -> dict[str, Any]:
    """The operation by which something is sent to a flow with a method."""
    return {
        "operationId": f"{method}ToFlow",
        "description": "What the flow's own API document describes, at its path.",
        "security": [{"flowToken": []}],
        "requestBody": {"required": True, "content": {"application/json": {"schema": {}}}},
        "responses": {
            "2XX": {
                "description": "It is taken; the status is that of the flow's API.",
                "headers": {
                    "Deprecation": {
                        "description": "Since when there is a later version of the API.",
                        "schema": {"type": "string"},
                    },
                    "Link": {"description": "Where it is.", "schema": {"type": "string"}},
                },
            },
            **dict.fromkeys(("400", "401", "403", "404", "410", "413", "422", "503"), _PROBLEM),
        },
    }


DESCRIPTION: dict[str, Any] = {
    "openapi": "3.1.0",
    "info": {"title": "Inchworm host", "version": __version__},
    "paths": {
        "/": {
            "get": {"responses": {"200": {"description": "A page for people."}, "401": _PROBLEM}}
        },
        "/full": {
            "get": {
                "security": [{"token": []}],
                "responses": {
                    "200": {"description": "The page with errors and people's names."},
                    "401": {"description": "A browser asks for the token."},
                },
            }
        },
        "/metrics": {
            "get": {
                "responses": {"200": {"description": "Metrics in OpenMetrics."}, "401": _PROBLEM}
            }
        },
        "/flows/{environment}/{flow}/{path}": {
            "parameters": [
                {"name": name, "in": "path", "required": True, "schema": {"type": "string"}}
                for name in ("environment", "flow", "path")
            ],
            **{method: _sent_by(method) for method in ("post", "put", "patch", "delete")},
        },
        "/v1/runs": {
            "get": {
                "operationId": "listRuns",
                "responses": {
                    "401": _PROBLEM,
                    "200": {
                        "description": "The latest runs, and those that could not begin.",
                        "content": {
                            "application/json": {
                                "schema": {
                                    "type": "object",
                                    "required": ["runs", "not_begun"],
                                    "properties": {
                                        "runs": {"type": "array", "items": _RUN},
                                        "not_begun": {"type": "array", "items": _NOT_BEGUN},
                                    },
                                }
                            }
                        },
                    },
                },
            },
            "post": {
                "operationId": "startRun",
                "security": [{"token": []}],
                "requestBody": {
                    "required": True,
                    "content": {
                        "application/json": {"schema": {"$ref": "#/components/schemas/Call"}}
                    },
                },
                "responses": {
                    "202": {"description": "It runs as soon as nothing else works on its parts."},
                    **dict.fromkeys(("400", "401", "403", "404", "413"), _PROBLEM),
                },
            },
        },
    },
    "components": {
        "securitySchemes": {
            name: {"type": "http", "scheme": "bearer"} for name in ("token", "flowToken")
        },
        "schemas": {
            "Call": {
                "type": "object",
                "required": ["environment", "name"],
                "properties": {
                    "environment": {"type": "string"},
                    "name": {"type": "string", "pattern": "^[^-]"},
                },
            },
            "Problem": {
                "type": "object",
                "required": ["title", "status", "detail"],
                "properties": {
                    "title": {"type": "string"},
                    "status": {"type": "integer"},
                    "detail": {"type": "string"},
                },
            },
        },
    },
}
"""The host's API, described (OpenAPI 3.1)."""
