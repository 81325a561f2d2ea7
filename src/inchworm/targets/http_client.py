"""Requests to services: over HTTP, or to the simulated platform in this process.

Both give the same answers to the same requests; the simulated one needs no HTTP library, which
takes longer to import than the platform takes to answer.
"""

from __future__ import annotations

import json
from collections.abc import Callable, Mapping
from http import HTTPStatus
from pathlib import Path
from typing import TYPE_CHECKING, Any, Protocol
from urllib.parse import urlencode

from msgspec import Struct, field

from inchworm.core.errors import TargetError
from inchworm.targets.secret import Secret
from inchworm.targets.services import SIM_FOLDER

if TYPE_CHECKING:
    import httpx
    from starlette.types import ASGIApp, Message

_SIMULATED = "sim:"
_TIMEOUT = 30
"""Seconds that a service may take to answer."""

_LARGEST_ANSWER = 64 * 1024 * 1024
"""Bytes of an answer."""


class Answer(Struct, frozen=True, kw_only=True):
    """An answer of a service."""

    status: int
    content: bytes
    headers: Mapping[str, str] = field(default_factory=dict)
    """By name in lower case."""

    @property
    def is_success(self) -> bool:
        """Whether the request was done."""
        return HTTPStatus.OK <= self.status < HTTPStatus.MULTIPLE_CHOICES

    def json(self) -> Any:
        """The content, read as JSON.

        Raises:
            ValueError: when it is none.
        """
        return json.loads(self.content)


class Client(Protocol):
    """Sends requests to one service."""

    def send(
        self,
        method: str,
        path: str,
        body: Any = None,
        query: Mapping[str, str] | None = None,
        headers: Mapping[str, str] | None = None,
    ) -> Answer:
        """The answer to a request; a body is sent as JSON. A redirect is not followed.

        Raises:
            TargetError: when the service cannot be reached.
        """
        ...

    def close(self) -> None:
        """Let go of the connections."""
        ...


def http_client(
    url: str,
    root: Path,
    token: Secret | None = None,
    resolve: Callable[[str], str] | None = None,
    timeout: float = _TIMEOUT,
) -> Client:
    """A client for ``sim:NAME`` or an http address, with a bearer token where there is one.

    Args:
        url: the address.
        root: the project's folder.
        token: goes with every request.
        resolve: by which a service in process gets the secrets that references lead to.
        timeout: seconds that the service may take to answer.

    Raises:
        TargetError: when the address is of no known kind.
    """
    headers = {"authorization": f"Bearer {token.reveal()}"} if token is not None else {}
    if url.startswith(_SIMULATED):
        from inchworm.sim.app import create_app

        file = root / SIM_FOLDER / f"{url.removeprefix(_SIMULATED)}.sqlite"
        app = create_app(file, resolve=resolve)
        return SimulatedClient(app, headers)
    if url.startswith(("http://", "https://")):
        import ssl

        import httpx

        # to read all certificates that the machine trusts takes longer than most requests; one
        # that trusts nobody is never asked, as no redirect is followed
        verify = True if url.startswith("https:") else ssl.SSLContext(ssl.PROTOCOL_TLS_CLIENT)
        client = httpx.Client(base_url=url, headers=headers, timeout=timeout, verify=verify)
        return HttpClient(client, url)
    raise TargetError(f"there is no service at {url!r}.", next="Write sim:NAME or an http address.")


class HttpClient:
    """Sends requests over the network."""

    def __init__(self, client: httpx.Client, name: str) -> None:
        self._client = client
        self._name = name

    def send(
        self,
        method: str,
        path: str,
        body: Any = None,
        query: Mapping[str, str] | None = None,
        headers: Mapping[str, str] | None = None,
    ) -> Answer:
        """The answer to a request."""
        import httpx

        content = bytearray()
        try:
            with self._client.stream(
                method, path, json=body, params=query or None, headers=headers
            ) as answer:
                for piece in answer.iter_bytes():
                    content += piece
                    if len(content) > _LARGEST_ANSWER:
                        raise TargetError(
                            f"the service {self._name} answers with more than "
                            f"{_LARGEST_ANSWER:,} bytes.",
                            next="Check its address: that is no answer of such a service.",
                        )
        except httpx.HTTPError as error:
            raise TargetError(
                f"the service {self._name} cannot be reached: {error or type(error).__name__}.",
                next="Check its address in the environment file, and that it is running.",
            ) from error
        return Answer(
            status=answer.status_code, content=bytes(content), headers=dict(answer.headers)
        )

    def close(self) -> None:
        """Let go of the connections."""
        self._client.close()


class SimulatedClient:
    """Sends requests to an ASGI application in this process.

    Args:
        app: the application.
        headers: of every request.
    """

    def __init__(self, app: ASGIApp, headers: Mapping[str, str]) -> None:
        self._app = app
        self._headers = [(k.encode(), v.encode()) for k, v in headers.items()]

    def send(
        self,
        method: str,
        path: str,
        body: Any = None,
        query: Mapping[str, str] | None = None,
        headers: Mapping[str, str] | None = None,
    ) -> Answer:
        """The answer to a request."""
        import asyncio

        return asyncio.run(self._exchange(method, path, body, query or {}, headers or {}))

    async def _exchange(
        self,
        method: str,
        path: str,
        body: Any,
        query: Mapping[str, str],
        headers: Mapping[str, str],
    ) -> Answer:
        """One request and its answer, as the ASGI specification 3.0 has them."""
        from urllib.parse import unquote

        content = b"" if body is None else json.dumps(body).encode()
        scope = {
            "type": "http",
            "asgi": {"version": "3.0"},
            "http_version": "1.1",
            "method": method,
            "scheme": "http",
            "path": unquote(path),
            "raw_path": path.encode(),
            "query_string": urlencode(query).encode(),
            "headers": [
                *self._headers,
                *((name.lower().encode(), value.encode()) for name, value in headers.items()),
                (b"content-type", b"application/json"),
            ],
            "server": ("sim", 80),
            "client": None,
        }
        status, pieces = 0, []
        answered: dict[str, str] = {}

        async def receive() -> Message:
            return {"type": "http.request", "body": content, "more_body": False}

        async def send(message: Message) -> None:
            nonlocal status
            status = message.get("status", status)
            for name, value in message.get("headers", ()):
                answered[name.decode()] = value.decode()
            pieces.append(message.get("body", b""))

        await self._app(scope, receive, send)
        return Answer(status=status, content=b"".join(pieces), headers=answered)

    def close(self) -> None:
        """There is nothing to let go of."""
