"""The client of a workspace and a gateway: one HTTP interface, in process or over the network."""

from __future__ import annotations

import asyncio
from collections.abc import Mapping
from pathlib import Path
from typing import Any, Protocol
from urllib.parse import quote

import httpx

from inchworm.core.errors import TargetError
from inchworm.core.identifiers import Kind, PartId
from inchworm.core.promotion.composition import LiveItem
from inchworm.targets.secrets import Secret

SIM_FOLDER = Path(".inchworm/sim")
"""Where simulated services keep what they are sent, below the project."""


class Service(Protocol):
    """What workspaces and gateways have in common: items, each a part with its document."""

    def items(self) -> dict[PartId, LiveItem]:
        """All items, by part."""
        ...

    def put(self, part: PartId, digest: str, document: Mapping[str, Any]) -> None:
        """Add or replace an item; doing it again changes nothing."""
        ...

    def remove(self, part: PartId) -> None:
        """Remove an item if it is there."""
        ...


class Workspace(Service, Protocol):
    """Where notebooks, libraries, pipelines and their schedules live."""

    def schedules(self) -> dict[str, str]:
        """The state of each ``pipeline.schedule``: on, off or paused."""
        ...

    def set_schedule(self, pipeline: str, schedule: str, state: str) -> None:
        """Set a schedule's state."""
        ...


class Gateway(Service, Protocol):
    """Where connections and flows live."""

    def activate(self, flow: PartId) -> str | None:
        """Switch a flow on; the gateway's reason if it refuses."""
        ...


class HttpService:
    """A workspace or gateway behind HTTP; it answers both protocols."""

    def __init__(self, client: httpx.Client, name: str, token: Secret | None = None) -> None:
        self._client = client
        self._name = name
        self._token = token

    def items(self) -> dict[PartId, LiveItem]:
        """All items, by part."""
        answer = self._request("GET", "/v1/items").json()["items"]
        items = [
            LiveItem(
                part=PartId(Kind(item["kind"]), item["name"]),
                digest=item["digest"],
                state=item["state"],
                reason=item["reason"],
            )
            for item in answer
        ]
        return {item.part: item for item in items}

    def document(self, part: PartId) -> Mapping[str, Any]:
        """The definition of one item, as it was put there."""
        found: Mapping[str, Any] = self._request("GET", _path(part)).json()["document"]
        return found

    def put(self, part: PartId, digest: str, document: Mapping[str, Any]) -> None:
        """Add or replace an item."""
        self._request("PUT", _path(part), {"digest": digest, "document": document})

    def remove(self, part: PartId) -> None:
        """Remove an item if it is there."""
        self._request("DELETE", _path(part))

    def schedules(self) -> dict[str, str]:
        """The state of each ``pipeline.schedule``."""
        found = self._request("GET", "/v1/schedules").json()["schedules"]
        return {f"{s['pipeline']}.{s['name']}": s["state"] for s in found}

    def set_schedule(self, pipeline: str, schedule: str, state: str) -> None:
        """Set a schedule's state."""
        path = f"/v1/schedules/{quote(pipeline, safe='')}/{quote(schedule, safe='')}"
        self._request("PUT", path, {"state": state})

    def activate(self, flow: PartId) -> str | None:
        """Switch a flow on; the gateway's reason if it refuses."""
        name = quote(flow.name, safe="")
        answer = self._send("POST", f"/v1/flows/{name}/activation", None)
        if answer.status_code == httpx.codes.CONFLICT:
            return str(answer.json()["detail"])
        self._checked(answer)
        return None

    def greet(self) -> str:
        """What the service says about itself, after it accepted our token.

        Raises:
            TargetError: when it cannot be reached, or refuses us.
        """
        count = len(self.items())
        info = self._request("GET", "/openapi.json").json().get("info", {})
        return f"{info.get('title', self._name)} {info.get('version', '')}, {count} items".strip()

    def set_fault(self, target: str, reason: str | None) -> None:
        """Make a simulated service refuse something from now on, or no longer."""
        self._request("PUT", "/v1/faults", {"target": target, "reason": reason})

    def close(self) -> None:
        """Let go of the connections."""
        self._client.close()

    def _request(self, method: str, path: str, body: Any = None) -> httpx.Response:
        return self._checked(self._send(method, path, body))

    def _send(self, method: str, path: str, body: Any) -> httpx.Response:
        try:
            return self._client.request(method, path, json=body)
        except httpx.HTTPError as error:
            raise TargetError(
                f"the service {self._name} cannot be reached: {error}.",
                next="Check its address in the environment file, and that it is running.",
            ) from error

    def _checked(self, answer: httpx.Response) -> httpx.Response:
        if answer.is_success:
            return answer
        try:
            detail = str(answer.json()["detail"])
        except (ValueError, KeyError, TypeError):
            detail = answer.reason_phrase
        if self._token is not None:  # a service may repeat what it was sent
            detail = detail.replace(self._token.reveal(), str(self._token))
        raise TargetError(
            f"the service {self._name} says {answer.status_code}: {detail}",
            next="Mend the reason and promote again: the promotion goes on where it stopped.",
        )


def connect_service(url: str, root: Path, token: Secret | None = None) -> HttpService:
    """A service at ``sim:NAME`` (in process) or at an http address.

    Raises:
        TargetError: when the address is of no known kind.
    """
    return HttpService(http_client(url, root, token), url, token)


def http_client(url: str, root: Path, token: Secret | None = None) -> httpx.Client:
    """A client for ``sim:NAME`` or an http address, with a bearer token where there is one.

    Raises:
        TargetError: when the address is of no known kind.
    """
    headers = {"authorization": f"Bearer {token.reveal()}"} if token is not None else {}
    if url.startswith("sim:"):
        from inchworm.sim.app import create_app

        app = create_app(root / SIM_FOLDER / f"{url.removeprefix('sim:')}.sqlite")
        transport = _InProcess(httpx.ASGITransport(app=app))
        return httpx.Client(transport=transport, base_url="http://sim", headers=headers)
    if url.startswith(("http://", "https://")):
        return httpx.Client(base_url=url, headers=headers, timeout=30)
    raise TargetError(f"there is no service at {url!r}.", next="Write sim:NAME or an http address.")


class _InProcess(httpx.BaseTransport):
    """Sends the requests of a synchronous client to an application in this process."""

    def __init__(self, transport: httpx.ASGITransport) -> None:
        self._transport = transport

    def handle_request(self, request: httpx.Request) -> httpx.Response:
        async def answer() -> httpx.Response:
            response = await self._transport.handle_async_request(request)
            content = await response.aread()
            return httpx.Response(response.status_code, headers=response.headers, content=content)

        return asyncio.run(answer())


def _path(part: PartId) -> str:
    return f"/v1/items/{part.kind.value}/{quote(part.name, safe='')}"
