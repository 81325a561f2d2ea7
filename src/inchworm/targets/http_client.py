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
from urllib.parse import unquote, urlencode

from msgspec import Struct, field

from inchworm.core.errors import TargetError
from inchworm.targets.exchanges import hung_up_after, limited
from inchworm.targets.secret import Secret
from inchworm.targets.services import sim_file

if TYPE_CHECKING:
    from starlette.types import ASGIApp, Message
    from urllib3 import BaseHTTPResponse, PoolManager
    from urllib3.exceptions import HTTPError

_SIMULATED = "sim:"
_TIMEOUT = 30
"""Seconds that a service may take to answer."""

_LARGEST_ANSWER = 64 * 1024 * 1024
"""Bytes of an answer."""

_PIECE = 64 * 1024
"""Bytes of an answer that are read at a time."""

_TOO_LONG = "it takes too long"

_AT_ONCE = 10
"""Connections to a service that are kept open."""


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
    headers = {"authorization": f"Bearer {token.for_header()}"} if token is not None else {}
    headers["user-agent"] = "inchworm"
    if url.startswith(_SIMULATED):
        from inchworm.sim.app import create_app

        app = create_app(sim_file(root, url.removeprefix(_SIMULATED)), resolve=resolve)
        return SimulatedClient(app, headers)
    if url.startswith(("http://", "https://")):
        return HttpClient(url, headers, timeout)
    raise TargetError(f"there is no service at {url!r}.", next="Write sim:NAME or an http address.")


class HttpClient:
    """Sends requests over the network, through the machine's proxy where it has one.

    Args:
        url: the service's address; the paths of requests are put behind it.
        headers: of every request.
        timeout: seconds that the whole exchange may take, from the request to the end of the
            answer; and before it, that the service may take to let us connect.
    """

    def __init__(self, url: str, headers: Mapping[str, str], timeout: float) -> None:
        self._url = url.rstrip("/")
        self._headers = headers
        self._timeout = timeout
        self._pools = _pools(url, timeout)

    def send(
        self,
        method: str,
        path: str,
        body: Any = None,
        query: Mapping[str, str] | None = None,
        headers: Mapping[str, str] | None = None,
    ) -> Answer:
        """The answer to a request."""
        from urllib3.exceptions import HTTPError

        given = {**self._headers, **(headers or {})}
        # any text, as UTF-8: the library makes bytes of it by ISO-8859-1
        sent = {name: value.encode().decode("iso-8859-1") for name, value in given.items()}
        if body is not None:
            sent["content-type"] = "application/json"
        address = f"{self._url}/{path.removeprefix('/')}"
        with hung_up_after(self._timeout) as is_late:
            try:
                answer = self._pools.request(
                    method,
                    f"{address}?{urlencode(query)}" if query else address,
                    body=None if body is None else json.dumps(body).encode(),
                    headers=sent,
                    redirect=False,
                    preload_content=False,
                )
                content = self._content(answer)
            except HTTPError as error:
                raise self._unreachable(_TOO_LONG if is_late() else _reason(error)) from error
            if is_late():  # an answer whose length nobody told looks like a whole one
                raise self._unreachable(_TOO_LONG)
        return Answer(
            status=answer.status,
            content=content,
            headers={name.lower(): value for name, value in answer.headers.items()},
        )

    def _unreachable(self, why: str) -> TargetError:
        return TargetError(
            f"the service {self._url} cannot be reached: {why}.",
            next="Check its address in the environment file, and that it is running.",
        )

    def _content(self, answer: BaseHTTPResponse) -> bytes:
        """What an answer says, as far as that is of a size that can be right."""
        content = bytearray()
        try:
            for piece in answer.stream(_PIECE):
                content += piece
                if len(content) > _LARGEST_ANSWER:
                    raise TargetError(
                        f"the service {self._url} answers with more than "
                        f"{_LARGEST_ANSWER:,} bytes.",
                        next="Check its address: that is no answer of such a service.",
                    )
        except BaseException:
            answer.close()  # what is left of it would be taken for the next answer
            raise
        answer.release_conn()
        return bytes(content)

    def close(self) -> None:
        """Let go of the connections."""
        self._pools.clear()


def _pools(url: str, timeout: float) -> PoolManager:
    """Connections to an address, directly or through a proxy.

    Which proxy is for the machine to say: in ``HTTP_PROXY``, ``HTTPS_PROXY`` and ``NO_PROXY``, or
    in the settings of its system.

    Raises:
        TargetError: when the address, or that of the proxy, is none.
    """
    from urllib.request import getproxies, proxy_bypass

    from urllib3 import PoolManager, ProxyManager, Timeout
    from urllib3.exceptions import LocationParseError, ProxySchemeUnknown
    from urllib3.util import make_headers, parse_url

    try:
        address = parse_url(url)
    except LocationParseError as error:
        raise TargetError(f"{url} is no address.", next="Write it as a browser has it.") from error
    limits = Timeout(connect=timeout, read=timeout)
    proxies = getproxies()
    proxy = proxies.get(str(address.scheme)) or proxies.get("all")
    if proxy is None or proxy_bypass(address.netloc or ""):
        return limited(PoolManager(maxsize=_AT_ONCE, timeout=limits, retries=False))
    try:
        login = parse_url(proxy).auth
        manager = ProxyManager(
            proxy if "://" in proxy else f"http://{proxy}",
            proxy_headers=make_headers(proxy_basic_auth=unquote(login)) if login else None,
            maxsize=_AT_ONCE,
            timeout=limits,
            retries=False,
        )
        return limited(manager)
    except (LocationParseError, ProxySchemeUnknown) as error:
        raise TargetError(
            "the proxy of this machine is none for HTTP.",
            next=f"Correct it ({address.scheme}_proxy or all_proxy), or name {address.host} in "
            "no_proxy.",
        ) from error


def _reason(error: HTTPError) -> str:
    """Why a request failed, without the objects that the library names."""
    from urllib3.exceptions import ConnectTimeoutError, NewConnectionError, ReadTimeoutError

    is_late = isinstance(error, ConnectTimeoutError | ReadTimeoutError)
    if is_late and not isinstance(error, NewConnectionError):
        return _TOO_LONG
    cause = error.__cause__ or error.__context__
    if isinstance(cause, OSError) and cause.strerror:
        return cause.strerror
    return str(cause or error).rstrip(".")


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
