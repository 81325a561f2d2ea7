"""What others send to inward flows: checked, written once, refused with the reason."""

from __future__ import annotations

import asyncio
import datetime as dt
import json
import os
import subprocess
import sys
from concurrent.futures import ThreadPoolExecutor
from typing import Any

import httpx
import pytest

from inchworm.application.schedules import read_live
from inchworm.application.source_tree import SourceTree
from inchworm.application.workplace import Workplace
from inchworm.core.running.receiving import path_values
from inchworm.core.running.sending import Operation
from inchworm.host.app import create_app
from inchworm.host.host import Host, Watched
from inchworm.host.incoming import Inbox
from inchworm.host.tokens import Tokens
from inchworm.targets.machine import Machine
from tests.driver import SEALER, Program, trusted
from tests.once import SQLITE

TOKEN = "open sesame"
API = """
openapi: 3.0.3
info: {title: Readings, version: 2.0.0}
paths:
  /gauges/{gauge}/readings:
    post:
      operationId: postReading
      parameters:
        - {name: gauge, in: path, required: true, schema: {type: string}}
        - {name: source, in: query, schema: {type: string}}
      requestBody:
        content: {application/json: {schema: {$ref: "#/components/schemas/Reading"}}}
      responses: {"202": {description: Taken.}}
components:
  schemas:
    Reading:
      type: object
      required: [time, level]
      properties:
        time: {type: string, format: date-time}
        level: {type: number, maximum: 5000}
        note: {type: string}
"""
FLOW = """
direction = "in"
[from]
api = "apis/readings.yaml"
operation = "postReading"
[to]
table = "ops.reading"
[fields]
gauge = "gauge"
source = "source"
taken_at = "time"
level = "level"
note = "note"
"""
READING = {"time": "2026-05-01T12:00:00Z", "level": 120.5}


class Asked:
    """The application of a host of development, asked in this process."""

    def __init__(self, program: Program) -> None:
        tree = SourceTree.around(program.folder, SEALER)
        trust = trusted(program.folder)
        machine = Machine(root=program.folder, environ=os.environ, login="lena", trust=trust)

        def workplace() -> Workplace:
            return Workplace.around(tree, machine, lambda: dt.datetime.now(dt.UTC))

        host = Host(["dev"], workplace, lambda _: None, print)  # type: ignore[arg-type, return-value]
        place = workplace()
        live = read_live(place, place.project.environment("dev"))
        host._watched["dev"] = Watched(name="dev", live=live)
        inbox = Inbox(workplace)
        now = lambda: dt.datetime.now(dt.UTC)  # noqa: E731
        self._app = create_app(
            host, lambda asked: [], now, Tokens(), inbox, Tokens.of({"dev": TOKEN})
        )

    def __call__(self, path: str, body: Any = None, **options: Any) -> httpx.Response:
        headers = {"authorization": f"Bearer {TOKEN}", **options.pop("headers", {})}
        content = options.pop("content", json.dumps(READING if body is None else body))
        method = options.pop("method", "POST")

        async def ask() -> httpx.Response:
            transport = httpx.ASGITransport(self._app, raise_app_exceptions=False)
            async with httpx.AsyncClient(transport=transport, base_url="http://host") as client:
                return await client.request(method, path, content=content, headers=headers)

        return asyncio.run(ask())


def receive(program: Program) -> Asked:
    """Make a flow live that takes readings in."""
    program.write("apis/readings.yaml", API)
    program.write("flows/readings.toml", FLOW)
    program.write(
        "schemas/ops/migrations/0009_reading.sql",
        "CREATE TABLE ops.reading (gauge VARCHAR(20) NOT NULL, source VARCHAR(20), "
        "taken_at TIMESTAMP, level NUMERIC(9, 1) CHECK (level > -100), note VARCHAR(20));\n",
    )
    program.promote(program.pack(), "dev")
    return Asked(program)


@pytest.fixture
def receiving(anywhere: tuple[Program, str]) -> tuple[Program, str, Asked]:
    """A flow that takes readings in, and is live in a database of each kind."""
    return *anywhere, receive(anywhere[0])


@pytest.fixture
def receiving_here(plain: Program) -> tuple[Program, str, Asked]:
    """The same in SQLite, for what does not depend on the database."""
    return plain, SQLITE, receive(plain)


def rows(program: Program, url: str) -> list[tuple[Any, ...]]:
    query = "SELECT gauge, source, CAST(level AS VARCHAR(9)), note FROM ops.reading ORDER BY 1, 3"
    return program.ask(url, query)


def test_a_request_becomes_a_row(receiving: tuple[Program, str, Asked]) -> None:
    program, url, ask = receiving
    answer = ask("/flows/dev/readings/gauges/Upper%20Brack%2F1/readings?source=r%20%26%20s")
    assert (answer.status_code, answer.json()) == (202, {"taken": True, "new": True})
    assert rows(program, url) == [("Upper Brack/1", "r & s", "120.5", None)]


@pytest.mark.parametrize(
    ("content", "status", "says"),
    [
        (b'{"time": "2026-05-01T12:00:00Z", "level": 1, "note": "\\ud800"}', 422, "no text"),
        (b'{"time": "2026-05-01T12:00:00Z", "level": -1e999}', 400, "too large a number"),
        (b'{"time": "2026-05-01T12:00:00Z", "level": -1e12}', 422, "too large for DECIMAL(9, 1)"),
    ],
)
def test_what_no_database_can_keep_is_refused(
    receiving: tuple[Program, str, Asked], content: bytes, status: int, says: str
) -> None:
    """A half of a letter, a number that is none."""
    program, url, ask = receiving
    answer = ask("/flows/dev/readings/gauges/a/readings", content=content)
    if url.startswith("sqlite") and "DECIMAL" in says:
        says = "CHECK constraint failed"  # that of the table: its numbers have no bounds
    assert answer.status_code == status
    assert says in answer.json()["detail"]
    assert rows(program, url) == []


def test_a_request_that_comes_twice_is_one_row(receiving: tuple[Program, str, Asked]) -> None:
    program, url, ask = receiving
    key = {"headers": {"idempotency-key": "k1"}}
    answers = [ask("/flows/dev/readings/gauges/a/readings", **key).json() for _ in range(2)]
    assert [answer["new"] for answer in answers] == [True, False]
    other = ask("/flows/dev/readings/gauges/a/readings", READING | {"level": 7}, **key)
    assert other.status_code == 422
    assert "its Idempotency-Key was used before, with different content" in other.json()["detail"]
    assert ask("/flows/dev/readings/gauges/b/readings", **key).status_code == 422
    with ThreadPoolExecutor(6) as pool:
        paths = [f"/flows/dev/readings/gauges/g{n % 3}/readings" for n in range(12)]
        keyed = [{"headers": {"idempotency-key": f"k{n % 3 + 2}"}} for n in range(12)]
        found = list(pool.map(lambda each: ask(each[0], **each[1]), zip(paths, keyed, strict=True)))
    assert {answer.status_code for answer in found} == {202}
    assert [row[0] for row in rows(program, url)] == ["a", "g0", "g1", "g2"]


@pytest.mark.parametrize(
    ("path", "options", "status", "words"),
    [
        ("gauges/a/readings", {"headers": {"authorization": TOKEN}}, 401, "token"),
        ("gauges/a/readings", {"headers": {"authorization": "Bearer no"}}, 401, "token"),
        ("gauges/a/readings", {"content": b"{"}, 400, "no JSON"),
        ("gauges/a/readings", {"content": b'{"level": NaN}'}, 400, "no JSON"),
        ("gauges/a/readings", {"content": b" " * 70_000}, 413, "bytes at most"),
        ("gauges/a/readings", {"body": 5}, 422, "5 is not of type 'object'"),
        ("gauges/a/readings", {"body": {"level": 1}}, 422, "'time' is a required"),
        ("gauges/a/readings", {"body": READING | {"time": "noon"}}, 422, "time: 'noon' is not a"),
        ("gauges/a/readings", {"body": READING | {"level": 9999}}, 422, "level: 9999"),
        ("gauges/a", {}, 404, "takes POST /gauges/{gauge}/readings"),
        ("gauges/a/readings", {"method": "PUT"}, 404, "takes POST"),
    ],
)
def test_what_is_wrong_is_told(
    receiving_here: tuple[Program, str, Asked],
    path: str,
    options: dict[str, Any],
    status: int,
    words: str,
) -> None:
    program, url, ask = receiving_here
    answer = ask(f"/flows/dev/readings/{path}", **options)
    assert answer.status_code == status
    assert answer.headers["content-type"] == "application/problem+json"
    assert words in answer.json()["detail"]
    assert rows(program, url) == []


def test_what_the_table_refuses_leaves_no_mark(receiving: tuple[Program, str, Asked]) -> None:
    program, url, ask = receiving
    key = {"headers": {"idempotency-key": "k"}}
    low = ask("/flows/dev/readings/gauges/a/readings", READING | {"level": -500}, **key)
    assert low.status_code == 422
    assert "the table does not take it" in low.json()["detail"]
    assert ask("/flows/dev/readings/gauges/a/readings", **key).json()["new"]
    assert len(rows(program, url)) == 1


def test_flows_that_are_not_there_take_nothing(receiving_here: tuple[Program, str, Asked]) -> None:
    _, _, ask = receiving_here
    assert ask("/flows/prod/readings/gauges/a/readings").status_code == 404
    answer = ask("/flows/dev/reading/gauges/a/readings")
    assert (answer.status_code, "Did you mean readings?" in answer.text) == (404, True)


def test_a_database_that_somebody_has_is_busy(starter: Program) -> None:
    """As a DuckDB file is, which one process has at a time."""
    program, ask = starter, receive(starter)
    assert ask("/flows/dev/readings/gauges/a/readings").status_code == 202
    code = (
        "import duckdb; c = duckdb.connect('.inchworm/dev.duckdb'); print(1, flush=True); input()"
    )
    with subprocess.Popen(
        [sys.executable, "-u", "-c", code],
        cwd=program.folder,
        stdin=subprocess.PIPE,
        stdout=subprocess.PIPE,
    ) as other:
        assert other.stdout is not None
        other.stdout.readline()
        answer = ask("/flows/dev/readings/gauges/a/readings")
        assert (answer.status_code, answer.headers["retry-after"]) == (503, "5")
        other.communicate(b"\n")
    assert ask("/flows/dev/readings/gauges/a/readings").status_code == 202


def test_paths_are_those_of_the_operation() -> None:
    operation = Operation(method="POST", path="/a/{x}/b", places={"x": "path"}, schema={})
    assert path_values("a/1%2F2/b", operation) == {"x": "1/2"}
    assert path_values("/a/1/b/", operation) == {"x": "1"}
    assert path_values("a/1", operation) is None
    assert path_values("c/1/b", operation) is None
