"""A host answers to declared names, in time, and shows errors and names to whoever has a token."""

from __future__ import annotations

import asyncio
import json
import socket
import time
from contextlib import suppress
from typing import Any

import httpx
import pytest

from inchworm.host.guard import Guard, policy
from inchworm.host.page import STYLE
from inchworm.host.seen import Open
from tests.program.test_serve import TOKEN, Asked

HEADERS = {"authorization": f"Bearer {TOKEN}"}
BASIC = httpx.BasicAuth("anybody", TOKEN)


@pytest.mark.parametrize(
    "path", ["/", "/full", "/metrics", "/v1/runs", "/openapi.json", "/nothing"]
)
def test_every_answer_binds_a_browser(path: str) -> None:
    """Whatever is asked for, and whether or not it is there."""
    headers = Asked()("GET", path).headers
    assert headers["x-content-type-options"] == "nosniff"
    assert headers["content-security-policy"] == policy(STYLE)
    assert "frame-ancestors 'none'" in headers["content-security-policy"]
    assert headers["referrer-policy"] == "no-referrer"


def test_the_policy_allows_the_style_of_the_page() -> None:
    """And nothing else: the page has no other style, and no script."""
    text = Asked()("GET", "/").text
    assert f"<style>{STYLE}</style>" in text
    assert "style=" not in text
    assert "<script" not in text


@pytest.mark.parametrize(
    ("host", "status"),
    [
        (b"localhost:8860", 200),
        (b"LOCALHOST", 200),
        (b"[::1]:80", 200),
        (b"evil.example", 421),
        (b"localhost.evil.example", 421),
        (b"", 421),
    ],
)
def test_a_host_answers_to_declared_names(host: bytes, status: int) -> None:
    """Not to one under which a page elsewhere sends a browser here."""

    async def app(scope: Any, receive: Any, send: Any) -> None:
        await send({"type": "http.response.start", "status": 200, "headers": []})
        await send({"type": "http.response.body", "body": b""})

    answered: list[int] = []

    async def send(message: Any) -> None:
        answered.extend([message["status"]] if "status" in message else [])

    async def receive() -> Any:
        return {"type": "http.request", "body": b""}

    guard = Guard(app, {"localhost", "::1"}, STYLE)
    scope = {"type": "http", "headers": [(b"host", host)] if host else [], "method": "GET"}
    asyncio.run(guard(scope, receive, send))
    assert answered == [status]


@pytest.mark.parametrize(
    ("opened", "headers", "auth", "shown"),
    [
        (Open.STATUS, {}, None, False),
        (Open.STATUS, HEADERS, None, True),
        (Open.STATUS, {}, BASIC, True),
        (Open.STATUS, {"authorization": "Bearer wrong"}, None, False),
        (Open.STATUS, {"authorization": "Basic %%%"}, None, False),
        (Open.EVERYTHING, {}, None, True),
        (Open.NOTHING, HEADERS, None, True),
        (Open.NOTHING, {}, None, None),
    ],
)
def test_errors_and_names_need_a_token(
    opened: Open, headers: dict[str, str], auth: Any, shown: bool | None
) -> None:
    """Unless they are opened to everybody; where nothing is, a visitor sees nothing."""
    asked = Asked(opened)
    for path in ("/", "/v1/runs"):
        answer = asked("GET", path, headers=headers, auth=auth)
        if shown is None:
            assert answer.status_code == 401
        else:
            assert ("is at work" in answer.text) is shown, path
    full = asked("GET", "/full", headers=headers, auth=auth)
    has_token = auth is not None or headers == HEADERS
    assert full.status_code == (200 if has_token else 401)
    if not has_token:
        assert full.headers["www-authenticate"].startswith("Basic ")
    assert asked("GET", "/metrics").status_code == (401 if opened is Open.NOTHING else 200)


@pytest.mark.parametrize("name", ["a\x00b", "\ud800", "x" * 10_000, "a\nb", "\x1b[2J"])
@pytest.mark.parametrize("what", ["name", "environment"])
def test_a_name_that_is_none_is_a_bad_request(name: str, what: str) -> None:
    """It would end the run of another, or answer with an error of ours."""
    body = {"name": "all", "environment": "dev", what: name}
    answer = Asked()("POST", "/v1/runs", content=json.dumps(body), headers=HEADERS)
    assert answer.status_code == 400


def test_a_body_that_does_not_come_ends() -> None:
    """Half of it is sent, and nothing more."""

    async def half() -> Any:
        yield b'{"name": '
        await asyncio.sleep(60)

    answer = Asked()("POST", "/v1/runs", content=half(), headers=HEADERS)
    assert answer.status_code == 408


def test_the_head_of_a_request_that_does_not_come_ends(monkeypatch: pytest.MonkeyPatch) -> None:
    """The connection is closed, also where a byte comes now and then."""
    import uvicorn

    from inchworm.host import guard

    monkeypatch.setattr(guard, "PATIENCE", 0.3)

    async def app(scope: Any, receive: Any, send: Any) -> None:
        await send({"type": "http.response.start", "status": 200, "headers": []})
        await send({"type": "http.response.body", "body": b"here"})

    async def serve() -> bytes:
        protocol = guard.patient_protocol()
        config = uvicorn.Config(app, http=protocol, log_level="error", lifespan="off", port=0)
        server = uvicorn.Server(config)
        with socket.create_server(("127.0.0.1", 0)) as listening:
            serving = asyncio.create_task(server.serve(sockets=[listening]))
            reader, writer = await asyncio.open_connection(*listening.getsockname()[:2])
            writer.write(b"GET / HTTP/1.1\r\nHost: x\r\n\r\n")
            first = await reader.readuntil(b"here")
            writer.write(b"GET / HTTP/1.1\r\nHo")
            began = time.monotonic()
            with pytest.raises((asyncio.IncompleteReadError, ConnectionError)):
                while time.monotonic() < began + 30:
                    writer.write(b"s")
                    try:
                        await asyncio.wait_for(reader.readexactly(1), 0.1)
                    except TimeoutError:
                        continue
            writer.close()
            server.should_exit = True
            await serving
        return first

    assert b"200" in asyncio.run(serve())


BEGUN = (
    b"POST /v1/runs HTTP/1.1\r\nHost: x\r\nContent-Type: application/json\r\n"
    + f"Authorization: Bearer {TOKEN}\r\nContent-Length: 1000\r\n\r\n".encode()
    + b'{"name": '
)


@pytest.mark.parametrize("leaves", [True, False], ids=["leaves", "is slow"])
def test_a_client_that_is_not_done_with_its_body_leaves_no_traceback(
    leaves: bool, caplog: pytest.LogCaptureFixture
) -> None:
    """One leaves in its middle, one sends a byte now and then: both end, in time."""
    import uvicorn

    from inchworm.host import guard

    async def serve() -> bytes:
        protocol = guard.patient_protocol()
        config = uvicorn.Config(Asked()._app, http=protocol, log_config=None, lifespan="off")
        server = uvicorn.Server(config)
        answer = b""
        with socket.create_server(("127.0.0.1", 0)) as listening:
            serving = asyncio.create_task(server.serve(sockets=[listening]))
            reader, writer = await asyncio.open_connection(*listening.getsockname()[:2])
            writer.write(BEGUN)
            await writer.drain()
            if not leaves:
                waiting = asyncio.create_task(reader.readline())
                while not waiting.done():
                    writer.write(b" ")
                    await asyncio.wait([waiting], timeout=0.02)
                answer = waiting.result()
                with suppress(ConnectionError):  # what we sent in vain
                    await reader.read()
            else:
                await asyncio.sleep(0.05)
            writer.close()
            await asyncio.sleep(0.05)
            server.should_exit = True
            await serving
        return answer

    answer = asyncio.run(asyncio.wait_for(serve(), 30))
    assert leaves or b" 408 " in answer
    assert [record.getMessage() for record in caplog.records if record.levelname == "ERROR"] == []
