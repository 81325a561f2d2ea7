"""The simulated workspace and gateway: in process and over HTTP they are the same."""

from __future__ import annotations

import datetime as dt
import socket
import subprocess
import sys
import time
from collections.abc import Iterator
from pathlib import Path

import httpx
import pytest
from openapi_spec_validator import OpenAPIV31SpecValidator

from inchworm.core.errors import TargetError
from inchworm.core.identifiers import PartId
from inchworm.sim.app import create_app
from inchworm.targets.http_client import SimulatedClient
from inchworm.targets.http_services import HttpService, connect_service
from inchworm.targets.secret import Secret
from tests.driver import PLAIN

TOKEN = "a-made-up-token"


def free_port() -> int:
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        port: int = probe.getsockname()[1]
        return port


@pytest.fixture(scope="module")
def served(tmp_path_factory: pytest.TempPathFactory) -> Iterator[str]:
    """The address of a server of its own, which asks for a token."""
    folder = tmp_path_factory.mktemp("served")
    port = free_port()
    process = subprocess.Popen(
        [
            *(sys.executable, "-m", "inchworm", "sim", "serve", "shared"),
            *("--port", str(port), "--token", "env:TOKEN"),
        ],
        cwd=folder,
        env={"TOKEN": TOKEN, "PATH": ""},
        stdout=subprocess.DEVNULL,
    )
    address = f"http://127.0.0.1:{port}"
    for _ in range(200):
        try:
            httpx.get(f"{address}/openapi.json", verify=PLAIN)
            break
        except httpx.TransportError:
            time.sleep(0.1)
    yield address
    process.terminate()
    process.wait()


@pytest.fixture(params=["in process", "over HTTP"])
def service(request: pytest.FixtureRequest, tmp_path: Path) -> HttpService:
    """A platform; the one over HTTP is emptied first."""
    if request.param == "in process":
        return connect_service("sim:here", tmp_path)
    address: str = request.getfixturevalue("served")
    found = connect_service(address, tmp_path, Secret(TOKEN, "env:TOKEN"))
    for part in found.items():
        found.remove(part)
    return found


FLOW = {
    "direction": "out",
    "to": {"connection": "board", "operation": "post"},
    "openapi": {"paths": {"/": {"post": {"operationId": "post"}}}},
}


def test_items_come_back_as_they_were_put(service: HttpService) -> None:
    """Putting one again replaces it; removing one twice does no harm."""
    service.put(PartId.parse("notebook:n"), "sha256:1", {"cells": [1]})
    service.put(PartId.parse("notebook:n"), "sha256:2", {"cells": [2]})
    assert service.items()[PartId.parse("notebook:n")].digest == "sha256:2"
    assert service.document(PartId.parse("notebook:n")) == {"cells": [2]}
    service.remove(PartId.parse("notebook:n"))
    service.remove(PartId.parse("notebook:n"))
    assert service.items() == {}
    with pytest.raises(TargetError, match="404: There is no such item"):
        service.document(PartId.parse("notebook:n"))


def test_a_pipeline_keeps_the_state_of_its_schedules(service: HttpService) -> None:
    """New ones are off; those that are gone are gone."""
    service.put(PartId.parse("pipeline:p"), "1", {"schedules": {"a": {"cron": "0 0 * * *"}}})
    assert service.schedules() == {"p.a": "off"}
    service.set_schedule("p", "a", "on")
    both = {"a": {"cron": "0 1 * * *"}, "b": {"cron": "0 2 * * *"}}
    service.put(PartId.parse("pipeline:p"), "2", {"schedules": both})
    assert service.schedules() == {"p.a": "on", "p.b": "off"}
    with pytest.raises(TargetError, match="has no schedule c"):
        service.set_schedule("p", "c", "on")
    service.remove(PartId.parse("pipeline:p"))
    assert service.schedules() == {}


def test_a_flow_is_activated_only_when_it_can_run(service: HttpService) -> None:
    """The gateway looks at its connection and its API, and says why not."""
    service.put(PartId.parse("flow:f"), "1", FLOW)
    assert service.activate(PartId.parse("flow:f")) == "The connection board is not there."
    service.put(PartId.parse("connection:board"), "1", {"url": "mailto:x@x.example"})
    assert service.activate(PartId.parse("flow:f")) == "The connection board has no http address."
    service.put(PartId.parse("connection:board"), "2", {"url": "http://board.example/"})
    assert service.activate(PartId.parse("flow:f")) is None
    assert service.items()[PartId.parse("flow:f")].state == "active"
    service.set_fault("flow:f", "Closed today.")
    assert service.activate(PartId.parse("flow:f")) == "Closed today."
    assert service.items()[PartId.parse("flow:f")].reason == "Closed today."
    service.set_fault("flow:f", None)


def test_a_fault_of_the_service_is_an_error_with_its_words(service: HttpService) -> None:
    """And with what to do next."""
    service.set_fault("put notebook:n", "The disk is full.")
    with pytest.raises(TargetError, match=r"503: The disk is full\.") as caught:
        service.put(PartId.parse("notebook:n"), "1", {})
    assert "goes on where it stopped" in str(caught.value.next)
    service.set_fault("put notebook:n", None)


def test_without_the_token_nothing_is_told(served: str, tmp_path: Path) -> None:
    """Neither with none nor with another."""
    for token in (None, Secret("other", "env:X")):
        with pytest.raises(TargetError, match="401: The token is missing or wrong"):
            connect_service(served, tmp_path, token).items()


def test_the_service_describes_itself(served: str) -> None:
    """By a valid OpenAPI document."""
    OpenAPIV31SpecValidator(httpx.get(f"{served}/openapi.json", verify=PLAIN).json()).validate()


@pytest.mark.parametrize(
    ("method", "path", "allowed"),
    [
        ("POST", "/v1/items/notebook/n", "DELETE, GET, HEAD, PUT"),
        ("PATCH", "/v1/items/notebook/n", "DELETE, GET, HEAD, PUT"),
        ("POST", "/v1/faults", "PUT"),
        ("PUT", "/v1/flows/f/activation", "POST"),
    ],
)
def test_a_method_that_is_none_names_all_that_are(
    served: str, method: str, path: str, allowed: str
) -> None:
    """And nothing sent to the API is kept as if it had been sent to somebody else."""
    headers = {"authorization": f"Bearer {TOKEN}"}
    with httpx.Client(base_url=served, headers=headers, verify=PLAIN) as client:
        before = client.get("/v1/received").json()
        answer = client.request(method, path, json={})
        assert answer.status_code == 405
        assert answer.headers["content-type"] == "application/problem+json"
        assert set(answer.headers["allow"].split(", ")) == set(allowed.split(", "))
        assert client.get("/v1/received").json() == before
        assert client.delete("/v1/items/thing/n").status_code == 404


def test_a_name_with_any_letter_stays_one_name(service: HttpService) -> None:
    """In an address it is percent-encoded."""
    service.put(PartId.parse("notebook:Größe & höhe"), "sha256:1", {"cells": []})
    assert list(service.items()) == [PartId.parse("notebook:Größe & höhe")]
    service.remove(PartId.parse("notebook:Größe & höhe"))
    assert service.items() == {}


ITEM = {"digest": "d", "document": {}}
BEARER = {"authorization": f"Bearer {TOKEN}"}


@pytest.mark.parametrize(
    ("method", "path", "headers", "content", "status"),
    [
        ("PUT", "/v1/items/model/x", BEARER, b"{", 404),
        ("PUT", "/v1/items/flow/x", BEARER, b"{", 400),
        ("PUT", "/v1/items/flow/x", BEARER, b"5", 400),
        ("PUT", "/v1/items/flow/x", BEARER, b"\xff\xfe", 400),
        ("PUT", "/v1/items/flow/x", BEARER, b'{"digest": {}}', 400),
        ("PUT", "/v1/items/flow/x", BEARER, b'{"digest": {}, "document": {}}', 400),
        ("PUT", "/v1/items/flow/x", BEARER, b'{"digest": "\\ud800", "document": {}}', 400),
        ("PUT", "/v1/items/flow/x", BEARER, b"[" * 100_000, 400),
        (
            "PUT",
            "/v1/items/pipeline/x",
            BEARER,
            b'{"digest": "d", "document": {"schedules": {"a": {}}}}',
            400,
        ),
        (
            "PUT",
            "/v1/items/pipeline/x",
            BEARER,
            b'{"digest": "d", "document": {"schedules": 5}}',
            400,
        ),
        ("PUT", "/v1/schedules/a/b", BEARER, b"[]", 400),
        ("PUT", "/v1/schedules/a/b", BEARER, b'{"state": {}}', 400),
        ("PUT", "/v1/schedules/a/b", BEARER, b'{"state": "on"}', 404),
        ("PUT", "/v1/faults", BEARER, b"{}", 400),
        ("PUT", "/v1/clock", BEARER, b'{"ahead": "1"}', 400),
        ("PUT", "/v1/clock", BEARER, b'{"ahead": 1e300}', 400),
        ("PUT", "/v1/clock", b"", b'{"ahead": 1}', 401),
        ("PUT", "/v1/faults", BEARER, b'{"target": "x", "reason": 5}', 400),
        ("PUT", "/v1/secrets/a", BEARER, b"{}", 401),
        ("POST", "/v1/flows/none/activation", BEARER, b"", 404),
        ("GET", "/v1/items", {"authorization": TOKEN}, b"", 401),
        ("GET", "/v1/items", {"authorization": b"Bearer caf\xe9"}, b"", 401),
        ("GET", "/v1/items", {"authorization": f"Basic {TOKEN}"}, b"", 401),
        ("PATCH", "/v1/items", BEARER, b"", 405),
        ("POST", "/anywhere", BEARER, b"x" * 1_100_000, 413),
    ],
)
def test_whatever_it_is_thrown_at_it_says_what_is_wrong(
    served: str, method: str, path: str, headers: dict[str, str], content: bytes, status: int
) -> None:
    answer = httpx.request(
        method, f"{served}{path}", headers=headers, content=content, verify=PLAIN
    )
    assert answer.status_code == status
    assert answer.headers["content-type"] == "application/problem+json"
    assert answer.json()["detail"]


def test_what_is_no_flow_is_refused(service: HttpService) -> None:
    service.put(PartId.parse("flow:odd"), "d", {})
    assert service.activate(PartId.parse("flow:odd")) == "What was put there is no flow."


@pytest.mark.parametrize("name", ["", "..", "../../other", "a/b", "a\\b", "\0", "a" * 101])
def test_a_simulated_service_is_in_its_folder(name: str, tmp_path: Path) -> None:
    with pytest.raises(TargetError, match="no name of a simulated service"):
        connect_service(f"sim:{name}", tmp_path)
    assert list(tmp_path.iterdir()) == []


def test_a_clock_that_was_moved_is_told(service: HttpService, tmp_path: Path) -> None:
    service._request("PUT", "/v1/clock", {"ahead": 3600})
    assert service.ahead() == dt.timedelta(hours=1)
    service._request("PUT", "/v1/clock", {"ahead": 0})
    assert service.ahead() == dt.timedelta()


def test_a_platform_that_simulates_nothing_has_the_time_of_its_machine(tmp_path: Path) -> None:
    app = create_app(tmp_path / "team.sqlite", simulates=False)
    assert HttpService(SimulatedClient(app, {}), "team").ahead() == dt.timedelta()
