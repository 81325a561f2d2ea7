"""The client of services over HTTP: one interface, in process or over the network."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable, Mapping
from http import HTTPStatus
from pathlib import Path
from typing import Any
from urllib.parse import quote

from inchworm.core.counting import counted
from inchworm.core.errors import TargetError
from inchworm.core.identifiers import Kind, PartId
from inchworm.core.promotion.composition import LiveItem
from inchworm.targets.http_client import Answer, Client, http_client
from inchworm.targets.secret import Secret


class HttpService:
    """A workspace or gateway behind HTTP; it answers both protocols."""

    def __init__(self, client: Client, name: str, token: Secret | None = None) -> None:
        self._client = client
        self._name = name
        self._token = token
        self.is_untouched = False
        """Whether it said, when it was asked for its items, that it never had any."""

    def items(self) -> dict[PartId, LiveItem]:
        """All items, by part."""
        answer = self._request("GET", "/v1/items").json()
        self.is_untouched = bool(answer.get("untouched", False))
        items = [
            LiveItem(
                part=PartId(Kind.named(item["kind"]), item["name"]),
                digest=item["digest"],
                state=item["state"],
                reason=item["reason"],
            )
            for item in answer["items"]
        ]
        return {item.part: item for item in items}

    def document(self, part: PartId) -> Mapping[str, Any]:
        """The definition of one item, as it was put there."""
        content: Mapping[str, Any] = self._request("GET", _path(part)).json()["document"]
        return content

    def put(self, part: PartId, digest: str, document: Mapping[str, Any]) -> None:
        """Add or replace an item."""
        self._request("PUT", _path(part), {"digest": digest, "document": document})

    def remove(self, part: PartId) -> None:
        """Remove an item if it is there."""
        self._request("DELETE", _path(part))

    def schedules(self) -> dict[str, str]:
        """The state of each ``pipeline.schedule``."""
        answer = self._request("GET", "/v1/schedules").json()["schedules"]
        return {f"{s['pipeline']}.{s['name']}": s["state"] for s in answer}

    def set_schedule(self, pipeline: str, schedule: str, state: str) -> None:
        """Set a schedule's state."""
        path = f"/v1/schedules/{quote(pipeline, safe='')}/{quote(schedule, safe='')}"
        self._request("PUT", path, {"state": state})

    def ahead(self) -> dt.timedelta:
        """By how much its clock was moved; by nothing where it has none that can be moved."""
        answer = self._client.send("GET", "/v1/clock")
        if answer.status == HTTPStatus.NOT_FOUND:
            return dt.timedelta()
        return dt.timedelta(seconds=self._checked(answer).json()["ahead"])

    def state_of(self, flow: PartId) -> tuple[str, str]:
        """The state of a flow, and the reason of it: ``active``, ``starting`` or another word."""
        item = self._request("GET", _path(flow)).json()
        return str(item["state"]), str(item["reason"])

    def activate(self, flow: PartId) -> str | None:
        """Switch a flow on, or have it start; the gateway's reason if it refuses."""
        name = quote(flow.name, safe="")
        answer = self._client.send("POST", f"/v1/flows/{name}/activation")
        if answer.status == HTTPStatus.CONFLICT:
            return str(answer.json()["detail"])
        self._checked(answer)
        return None

    def greet(self) -> str:
        """What the service says about itself, after it accepted our token.

        Raises:
            TargetError: when it cannot be reached, or refuses us.
        """
        items = counted(len(self.items()), "item")
        info = self._request("GET", "/openapi.json").json().get("info", {})
        return f"{info.get('title', self._name)} {info.get('version', '')}, {items}".strip()

    def set_fault(self, target: str, reason: str | None) -> None:
        """Make a simulated service refuse something from now on, or no longer."""
        self._request("PUT", "/v1/faults", {"target": target, "reason": reason})

    def close(self) -> None:
        """Let go of the connections."""
        self._client.close()

    def _request(self, method: str, path: str, body: Any = None) -> Answer:
        return self._checked(self._client.send(method, path, body))

    def _checked(self, answer: Answer) -> Answer:
        if answer.is_success:
            return answer
        try:
            detail = str(answer.json()["detail"])
        except (ValueError, KeyError, TypeError):
            detail = _phrase(answer.status)
        if self._token is not None:  # a service may repeat what it was sent
            detail = self._token.hidden_in(detail)
        raise TargetError(
            f"the service {self._name} says {answer.status}: {detail}",
            next="Mend the reason and promote again: the promotion goes on where it stopped.",
        )


def _phrase(status: int) -> str:
    """The standard's phrase for a status; empty for one that it does not know."""
    return HTTPStatus(status).phrase if status in set(HTTPStatus) else ""


def connect_service(
    url: str, root: Path, token: Secret | None = None, resolve: Callable[[str], str] | None = None
) -> HttpService:
    """A service at ``sim:NAME`` (in process) or at an http address.

    Args:
        url: its address.
        root: the project's folder.
        token: that it asks for.
        resolve: by which a service in process gets the secrets that references lead to.

    Raises:
        TargetError: when the address is of no known kind.
    """
    return HttpService(http_client(url, root, token, resolve), url, token)


def _path(part: PartId) -> str:
    return f"/v1/items/{part.kind.value}/{quote(part.name, safe='')}"
