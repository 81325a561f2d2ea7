"""What every request to a host goes through, whatever it asks for.

A page of somebody else's may send a browser here under another name (DNS rebinding), show us in a
frame, or keep a request open for ever. So only declared names are answered, every answer says what
a browser may do with it, and a request has to be complete in time.
"""

from __future__ import annotations

import asyncio
import base64
import hashlib
from collections.abc import Collection
from contextlib import suppress
from http import HTTPStatus
from typing import Any

from starlette.exceptions import HTTPException
from starlette.requests import ClientDisconnect, Request
from starlette.types import ASGIApp, Message, Receive, Scope, Send

from inchworm.sim.requests import HANG_UP, bearer, problem

PATIENCE = 30.0
"""Seconds within which a request has to be here, from its first byte to its last."""


def policy(style: str) -> str:
    """Return the content security policy of a page whose one style is in it."""
    digest = base64.b64encode(hashlib.sha256(style.encode()).digest()).decode()
    return (
        f"default-src 'none'; style-src 'sha256-{digest}'; frame-ancestors 'none'; "
        "base-uri 'none'; form-action 'none'"
    )


class Guard:
    """Answers requests to declared names, with headers that bind a browser.

    Args:
        app: the application behind it.
        names: the names of hosts that are answered, in lower case and without ports; None for any.
        style: the style of its pages.
        patience: seconds within which a body has to be here.
    """

    def __init__(
        self,
        app: ASGIApp,
        names: Collection[str] | None,
        style: str,
        patience: float = PATIENCE,
    ) -> None:
        self._app = app
        self._names = names
        self._headers = [
            (b"x-content-type-options", b"nosniff"),
            (b"referrer-policy", b"no-referrer"),
            (b"content-security-policy", policy(style).encode()),
            (b"cache-control", b"no-store"),
        ]
        self._patience = patience

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        """Answer a request."""
        if scope["type"] != "http":
            await self._app(scope, receive, send)
            return

        async def guarded(message: Message) -> None:
            if message["type"] == "http.response.start":
                message = {**message, "headers": [*message["headers"], *self._headers]}
            await send(message)

        if self._names is not None and _host(scope) not in self._names:
            detail = "This host does not answer to that name: inchworm serve --host NAME."
            await problem(HTTPStatus.MISDIRECTED_REQUEST, detail)(scope, receive, guarded)
            return
        ends = asyncio.get_running_loop().time() + self._patience
        is_here = False

        async def in_time() -> Message:
            nonlocal is_here
            if is_here:
                return await receive()  # waits for the client's leaving, for as long as we answer
            try:
                async with asyncio.timeout_at(ends):
                    message = await receive()
            except TimeoutError:
                detail = f"The body was not here within {self._patience:g} seconds."
                raise HTTPException(HTTPStatus.REQUEST_TIMEOUT, detail, HANG_UP) from None
            is_here = not message.get("more_body", False)
            return message

        with suppress(ClientDisconnect):  # nobody is there who could get an answer
            await self._app(scope, in_time, guarded)


def _host(scope: Scope) -> str:
    """The name that a request is for, without its port; empty where it is given twice or not."""
    given = [value for name, value in scope["headers"] if name == b"host"]
    if len(given) != 1:
        return ""
    text = str(given[0], "latin-1").lower()
    if text.startswith("["):
        return text[1:].partition("]")[0]
    return text.rpartition(":")[0] if ":" in text else text


def token_given(request: Request) -> str:
    """Return the token of a request: a bearer's, or the password of a browser's question."""
    scheme, _, given = request.headers.get("authorization", "").partition(" ")
    if scheme.lower() != "basic":
        return bearer(request)
    try:
        return base64.b64decode(given, validate=True).decode().partition(":")[2]
    except ValueError:
        return ""


def patient_protocol() -> type[asyncio.Protocol]:
    """Return a protocol for uvicorn that ends connections whose requests do not come."""
    from uvicorn.protocols.http.h11_impl import H11Protocol

    class Patient(H11Protocol):
        """Waits so long for the head of a request, from the first byte or connection on."""

        _waiting: asyncio.TimerHandle | None = None

        def connection_made(self, transport: Any) -> None:
            super().connection_made(transport)
            self._wait()

        def data_received(self, data: bytes) -> None:
            super().data_received(data)
            if self.cycle is not None and not self.cycle.response_complete:
                self._stop_waiting()
            elif self._waiting is None:
                self._wait()

        def connection_lost(self, exc: Exception | None) -> None:
            self._stop_waiting()
            super().connection_lost(exc)

        def _wait(self) -> None:
            self._waiting = self.loop.call_later(PATIENCE, self._end)

        def _stop_waiting(self) -> None:
            if self._waiting is not None:
                self._waiting.cancel()
                self._waiting = None

        def _end(self) -> None:
            self._waiting = None
            if self.cycle is None or self.cycle.response_complete:
                self.transport.close()

    return Patient
