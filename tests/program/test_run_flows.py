"""Flows that a run executes: every row arrives once, whatever the receiver and the machine do."""

from __future__ import annotations

import json
import os
import signal
import socket
import threading
import time
import uuid
from collections import Counter
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field
from typing import Any

import pytest
import uvicorn
from starlette.applications import Starlette
from starlette.requests import Request
from starlette.responses import JSONResponse, Response
from starlette.routing import Route

from inchworm.core.running.sending import Message, Operation, message_of
from inchworm.engine.running import flows
from tests.driver import Program
from tests.once import SQLITE

API = """
openapi: 3.0.3
info: {title: Levels, version: 1.0.0}
paths:
  /gauges/{gauge}/levels:
    post:
      operationId: postLevel
      parameters:
        - {name: gauge, in: path, required: true, schema: {type: string}}
        - {name: source, in: query, schema: {type: string}}
      requestBody:
        content: {application/json: {schema: {$ref: "#/components/schemas/Level"}}}
      responses: {"201": {description: Taken.}}
components:
  schemas:
    Level:
      type: object
      required: [level]
      properties:
        level: {type: number, maximum: 500}
        note: {type: string}
"""
FLOW = """
direction = "out"
[from]
table = "mart.level"
[to]
connection = "receiver"
api = "apis/levels.yaml"
operation = "postLevel"
[fields]
gauge = "gauge"
source = "source"
level = "level"
note = "note"
"""


@dataclass
class Receiver:
    """A receiver on loopback that does what a test wants, and remembers what it took."""

    port: int
    answer: Callable[[int, Request], Response | None] = lambda number, request: None
    requests: list[tuple[str, str, Any]] = field(default_factory=list)
    """The key, path with query, and body of each request."""
    tokens: set[str] = field(default_factory=set)

    @property
    def url(self) -> str:
        return f"http://127.0.0.1:{self.port}/v2"

    async def take(self, request: Request) -> Response:
        self.tokens.add(request.headers.get("authorization", ""))
        answer = self.answer(len(self.requests), request)
        query = f"?{request.url.query}" if request.url.query else ""
        path = request.scope["raw_path"].decode() + query
        body = json.loads(await request.body() or b"null")
        self.requests.append((request.headers["idempotency-key"], path, body))
        return answer or Response(status_code=201)

    @property
    def taken(self) -> Counter[str]:
        """How often each key came."""
        return Counter(key for key, _, _ in self.requests)


@pytest.fixture
def receiver() -> Iterator[Receiver]:
    with socket.socket() as listener:
        listener.bind(("127.0.0.1", 0))
        made = Receiver(listener.getsockname()[1])
        routes = [Route("/{path:path}", made.take, methods=["POST", "GET"])]
        config = uvicorn.Config(Starlette(routes=routes), log_level="error")
        server = uvicorn.Server(config)
        thread = threading.Thread(target=server.run, args=([listener],), daemon=True)
        thread.start()
        while not server.started:
            time.sleep(0.01)
        yield made
        server.should_exit = True
        thread.join()


def prepare(
    program: Program, receiver: Receiver, rows: str, more: str = "", api: str = API
) -> None:
    """A flow of these rows that is live in development."""
    os.environ["RECEIVER_TOKEN"] = "open sesame"
    if not (program.folder / "flows").exists():
        matrix = (program.folder / "parameters.toml").read_text()
        program.write(
            "parameters.toml",
            f'{matrix}\n[receiver_url]\ntype = "text"\nevery = "{receiver.url}"\n'
            '[receiver_token]\ntype = "secret"\nevery = "env:RECEIVER_TOKEN"\n',
        )
    program.write(
        "connections/receiver.toml",
        'kind = "http"\nurl = "${receiver_url}"\ntimeout = "2s"\n'
        '[credentials]\ntoken = "${receiver_token}"\n',
    )
    program.write("apis/levels.yaml", api)
    program.write("flows/levels.toml", more + FLOW)
    program.write("models/mart/level.sql", f'/*---\nstore = "table"\n---*/\n{rows}\n')
    program.promote(program.pack(), "dev", code=None)


def rows(*levels: int, gauge: str = "Upper Brack/1") -> str:
    return " UNION ALL ".join(
        f"SELECT '{gauge}' AS gauge, 'river & sea' AS source, "
        f"CAST({level} AS NUMERIC(9, 1)) AS level, CAST(NULL AS VARCHAR(9)) AS note"
        for level in levels
    )


def run(program: Program, *options: str, code: int | None = 0) -> dict[str, Any]:
    answer = program("run", "levels", "--in", "dev", "--json", *options, code=code)
    ended: dict[str, Any] = json.loads(answer.out.splitlines()[-1])
    step: dict[str, Any] = ended["steps"][0]
    return step


def test_each_row_is_sent_once_and_again_when_it_changed(
    anywhere: tuple[Program, str], receiver: Receiver
) -> None:
    program, url = anywhere
    prepare(program, receiver, rows(1, 2))
    assert run(program)["message"] == "2 rows sent"
    _, path, body = receiver.requests[0]
    assert path == "/v2/gauges/Upper%20Brack%2F1/levels?source=river+%26+sea"
    assert sorted(b["level"] for _, _, b in receiver.requests) == [1, 2]
    assert "note" not in body, "what the API does not let be null is left out"
    assert receiver.tokens == {"Bearer open sesame"}
    assert run(program)["message"] == "0 rows sent, 2 sent before"
    prepare(program, receiver, rows(1, 3))
    assert run(program)["message"] == "1 row sent, 1 sent before"
    assert len(receiver.requests) == len(receiver.taken) == 3
    kept = program.ask(url, "SELECT count(*) FROM inchworm.unsent_rows")
    assert kept == [(0,)], "what was said is not kept longer than needed"
    assert program.ask(url, "SELECT count(*) FROM inchworm.sent_keys") == [(3,)]


def test_a_row_that_comes_again_is_sent_once(
    anywhere: tuple[Program, str], receiver: Receiver, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Whether it was looked up together with the first, or later."""
    program, _ = anywhere
    monkeypatch.setattr(flows, "_LOOKED_UP", 3)
    prepare(program, receiver, rows(1, 2, 1, 3, 2, 1, 4))
    assert run(program)["message"] == "4 rows sent, 3 sent before"
    assert sorted(body["level"] for _, _, body in receiver.requests) == [1, 2, 3, 4]
    assert run(program)["message"] == "0 rows sent, 7 sent before"


def test_what_was_sent_takes_no_memory(starter: Program, receiver: Receiver) -> None:
    """DuckDB has indexes in memory, a hundred bytes for each of the millions of rows."""
    prepare(starter, receiver, rows(1))
    run(starter)
    url = f"duckdb:///{starter.folder}/.inchworm/dev.duckdb"
    query = "SELECT table_name, constraint_type FROM duckdb_constraints() WHERE table_name LIKE "
    assert starter.ask(url, f"{query} 'sent_%'")
    assert starter.ask(url, f"{query} '%_rows' AND constraint_type <> 'NOT NULL'") == []


_ROWS_OF_EARLIER = (
    "(flow VARCHAR NOT NULL, identity VARCHAR NOT NULL, state VARCHAR NOT NULL, "
    "message VARCHAR NOT NULL, reason VARCHAR NOT NULL, changed_at VARCHAR NOT NULL, "
    "run VARCHAR NOT NULL, PRIMARY KEY (flow, identity))"
)


@pytest.mark.parametrize("tables", [("sent_rows",), ("arrived_rows", "waiting_rows")])
def test_what_an_earlier_version_recorded_counts(
    tables: Sequence[str], anywhere: tuple[Program, str], receiver: Receiver
) -> None:
    """The first had one table of all rows, the next a wide one of those that were sent."""
    program, url = anywhere
    prepare(program, receiver, rows(1, 2, 3))
    run(program)
    key, path, body = zip(
        *sorted(receiver.requests, key=lambda each: each[2]["level"]), strict=True
    )
    message = json.dumps(
        {"path": path[0].removeprefix("/v2").partition("?")[0], "query": {}, "headers": {}}
        | {"body": body[2]}
    )
    ((flow,),) = program.ask(url, "SELECT DISTINCT flow FROM inchworm.sent_batches")
    row_key = uuid.uuid5(uuid.NAMESPACE_OID, f"{flow} {key[0]}")
    texts = "flow VARCHAR NOT NULL, sent_at VARCHAR NOT NULL, run VARCHAR NOT NULL"
    arrived = f"(row_key UUID NOT NULL, {texts}, PRIMARY KEY (row_key))"
    with_state = [("sent", ""), ("refused", message), ("sending", message)]
    program.ask(
        url,
        *(f"DROP TABLE inchworm.{t}" for t in ("sent_keys", "sent_batches", "unsent_rows")),
        *(
            f"CREATE TABLE inchworm.{t} {arrived if t == 'arrived_rows' else _ROWS_OF_EARLIER}"
            for t in tables
        ),
        *(
            f"INSERT INTO inchworm.{tables[-1]} VALUES ('{flow}', '{key[at]}', '{state}', "
            f"'{said}', '', '2026-11-01T00:00:00Z', 'R1')"
            for at, (state, said) in enumerate(with_state)
            if state != "sent" or len(tables) == 1
        ),
        *(
            f"INSERT INTO inchworm.{t} VALUES ('{row_key}', '{flow}', '2026-11-01T00:00:00Z', 'R1')"
            for t in tables[:-1]
        ),
        "SELECT 1",
    )
    assert run(program)["message"] == "1 row sent, 2 sent before"
    assert receiver.requests[-1][0] == key[2], "it may not have arrived"
    assert run(program, "--dead-letters")["message"] == "1 row sent"
    assert receiver.requests[-1][0] == key[1]
    assert run(program)["message"] == "0 rows sent, 3 sent before"
    first = "SELECT b.sent_at, b.run FROM inchworm.sent_keys AS k JOIN inchworm.sent_batches AS b "
    first += f"ON b.batch = k.batch WHERE b.flow = '{flow}' ORDER BY b.sent_at"
    assert program.ask(url, first)[0] == ("2026-11-01T00:00:00Z", "R1")
    assert program.ask(url, "SELECT count(*) FROM inchworm.sent_keys") == [(3,)]
    program.ask(url, *(f"CREATE TABLE inchworm.{t} (has_gone INTEGER)" for t in tables), "SELECT 1")


def calculated(program: Program, **fields: str) -> None:
    """Have fields of the flow come from expressions."""
    for name, text in fields.items():
        program.edit("flows/levels.toml", f'{name} = "{name}"', f"{name} = {json.dumps(text)}")


def test_fields_are_calculated_by_the_database(
    anywhere: tuple[Program, str], receiver: Receiver
) -> None:
    program, _ = anywhere
    prepare(program, receiver, rows(10, 25), 'once_per = ["gauge", "level"]\n')
    calculated(program, level="level / 10.0", note="'at ' || upper(gauge)")
    program.promote(program.pack(), "dev")
    sent = run(program)
    assert sent["message"] == "2 rows sent"
    assert sorted((b["level"], b["note"]) for _, _, b in receiver.requests) == [
        (1, "at UPPER BRACK/1"),
        (2.5, "at UPPER BRACK/1"),
    ]
    assert run(program)["message"] == "0 rows sent, 2 sent before", "told apart by its columns"
    reached = program("trace", "mart.level.gauge", "--down").text
    assert "flow:levels.note" in reached
    assert "computed" in reached


@pytest.mark.parametrize(
    ("name", "text", "says"),
    [
        ("level", "sum(level)", "sum(level) takes many rows together"),
        ("level", "level, 1", "level, 1 is not one expression"),
        ("level", "level + FROM", "the field level cannot be calculated: level + FROM"),
        ("level", "level -- 1\nFROM mart.other", "is not one expression"),
        ("level", "levle * 2", "levle"),
        ("level", "gauge || ''", "the field level is number, but the query.level is TEXT"),
    ],
)
def test_expressions_that_do_not_fit_are_findings(
    plain: Program, receiver: Receiver, name: str, text: str, says: str
) -> None:
    prepare(plain, receiver, rows(1))
    calculated(plain, **{name: text})
    (finding,) = [f for f in plain.findings(code=1) if f["part"] == "flow:levels"]
    assert says in finding["message"]
    assert finding["file"] == "flows/levels.toml"


def test_what_is_not_taken_is_a_dead_letter(plain: Program, receiver: Receiver) -> None:
    problem = {"title": "No", "detail": "2 is not welcome"}
    receiver.answer = lambda number, request: JSONResponse(problem, 422) if number == 1 else None
    prepare(plain, receiver, rows(1, 2, 999))
    step = run(plain)
    assert step["state"] == "warning"
    assert step["message"] == "1 row sent, 2 dead letters"
    assert "999.0 is greater than the maximum of 500" in step["log"] or "999 is" in step["log"]
    assert "422 2 is not welcome" in step["log"]
    assert len(receiver.requests) == 2, "what the schema does not take is not sent"
    assert run(plain)["message"] == "0 rows sent, 3 sent before"
    receiver.answer = lambda number, request: None
    assert run(plain, "--dead-letters")["message"] == "2 rows sent"


def test_a_token_that_a_receiver_repeats_is_not_kept(plain: Program, receiver: Receiver) -> None:
    """Neither whole nor in part, where what is kept of an answer is cut off within it."""
    receiver.answer = lambda number, request: JSONResponse(
        {"detail": "x" * 180 * number + f"you sent {request.headers['authorization']}"}, 422
    )
    prepare(plain, receiver, rows(1, 2))
    step = run(plain)
    assert step["message"] == "0 rows sent, 2 dead letters"
    reasons = plain.ask(SQLITE, "SELECT reason FROM inchworm.unsent_rows")
    texts = [step["log"], plain("history", "R1").text, *(row[0] for row in reasons)]
    assert len(texts) == 4
    assert not [text for text in texts if "open" in text or "sesame" in text]
    assert "<secret env:RECEIVER_TOKEN>" in step["log"]


def test_a_row_that_would_lead_elsewhere_is_never_sent(plain: Program, receiver: Receiver) -> None:
    prepare(plain, receiver, rows(1, gauge="..") + " UNION ALL " + rows(2))
    step = run(plain)
    assert step["message"] == "1 row sent, 1 dead letter"
    assert "/gauges/../levels: a path cannot have" in step["log"]
    assert run(plain, "--dead-letters")["message"] == "0 rows sent, 1 dead letter"
    assert len(receiver.requests) == 1


def test_a_receiver_that_is_busy_is_asked_again(plain: Program, receiver: Receiver) -> None:
    answers = iter([429, 503, 201])

    def answer(number: int, request: Request) -> Response:
        status = next(answers)
        return Response(status_code=status, headers={"retry-after": "0"})

    receiver.answer = answer
    prepare(plain, receiver, rows(7))
    assert run(plain)["message"] == "1 row sent"
    assert list(receiver.taken.values()) == [3], "under one key"


@pytest.mark.parametrize(
    ("status", "headers"),
    [(302, {"location": "http://127.0.0.1:9/elsewhere"}), (401, {}), (503, {"retry-after": "0"})],
)
def test_a_receiver_that_takes_nothing_loses_nothing(
    plain: Program, receiver: Receiver, status: int, headers: dict[str, str]
) -> None:
    receiver.answer = lambda number, request: (
        Response(status_code=status, headers=headers) if number else None
    )
    prepare(plain, receiver, rows(1, 2, 3))
    step = run(plain, code=1)
    assert f"the receiver answers {status}" in step["message"]
    assert "1 row sent" in step["message"]
    receiver.answer = lambda number, request: None
    assert run(plain)["message"] == "2 rows sent, 1 sent before"
    assert {body["level"] for _, _, body in receiver.requests} == {1, 2, 3}


def gauges(*numbers: int) -> str:
    """A row of each gauge."""
    return " UNION ALL ".join(rows(number, gauge=f"g{number}") for number in numbers)


def failing(*numbers: int) -> Callable[[int, Request], Response | None]:
    """Answers 500 to some gauges, and takes the others."""

    def answer(number: int, request: Request) -> Response | None:
        is_wrong = any(f"/g{number}/" in request.url.path for number in numbers)
        return Response(status_code=500, content=b"it broke") if is_wrong else None

    return answer


@pytest.fixture
def quick(monkeypatch: pytest.MonkeyPatch) -> None:
    """Two attempts for each message, without a pause."""
    monkeypatch.setattr(flows, "_ATTEMPTS", 2)
    monkeypatch.setattr(flows, "_LONGEST_PAUSE", 0.0)


def test_a_row_that_always_fails_is_set_aside(
    plain: Program, receiver: Receiver, quick: None
) -> None:
    """The others go on; it is a dead letter, as somebody else was taken after it."""
    receiver.answer = failing(2)
    prepare(plain, receiver, gauges(1, 2, 3))
    step = run(plain)
    assert step["message"] == "2 rows sent, 1 dead letter"
    assert "500 it broke, 2 times, while others were taken" in step["log"]
    receiver.answer = lambda number, request: None
    assert run(plain, "--dead-letters")["message"] == "1 row sent"


def test_rows_that_fail_block_nobody(plain: Program, receiver: Receiver, quick: None) -> None:
    """Three in a row are taken for a receiver that is broken; the next run begins with others."""
    receiver.answer = failing(1, 2, 3)
    prepare(plain, receiver, gauges(1, 2, 3, 4, 5))
    assert "the receiver answers 500 it broke" in run(plain, code=1)["message"]
    assert run(plain)["message"] == "2 rows sent, 3 dead letters"


def test_a_row_that_fails_alone_stays(plain: Program, receiver: Receiver, quick: None) -> None:
    receiver.answer = failing(1)
    prepare(plain, receiver, gauges(1))
    for _ in range(2):
        assert "the receiver answers 500 it broke" in run(plain, code=1)["message"]
    receiver.answer = lambda number, request: None
    assert run(plain)["message"] == "1 row sent"


@pytest.mark.parametrize("status", [200, 201])
def test_an_answer_that_the_api_does_not_promise_is_none(
    plain: Program, receiver: Receiver, status: int
) -> None:
    """Something in between answers with a page on which one is to log in."""
    page = Response(status_code=status, content=b"<html>Who are you?", media_type="text/html")
    receiver.answer = lambda number, request: page
    promised = "{description: Taken., content: {application/json: {}}}"
    api = API.replace("{description: Taken.}", promised)
    prepare(plain, receiver, rows(4), api=api)
    answers = f"the receiver answers {status} with text/html, and its API promises 201 with"
    assert answers in run(plain, code=1)["message"]
    receiver.answer = lambda number, request: JSONResponse({}, status_code=201)
    assert run(plain)["message"] == "1 row sent"


def test_half_an_answer_is_no_answer(plain: Program, receiver: Receiver) -> None:
    class Half(Response):
        async def __call__(self, scope: Any, receive: Any, send: Any) -> None:
            headers = [(b"content-length", b"100"), (b"connection", b"close")]
            await send({"type": "http.response.start", "status": 201, "headers": headers})
            await send({"type": "http.response.body", "body": b"half", "more_body": True})
            raise ConnectionError

    receiver.answer = lambda number, request: Half() if number == 0 else None
    prepare(plain, receiver, rows(4))
    assert run(plain)["message"] == "1 row sent"
    assert list(receiver.taken.values()) == [2]


def test_a_flow_that_was_stopped_by_hand_does_not_run(plain: Program, receiver: Receiver) -> None:
    prepare(plain, receiver, rows(4))
    plain("sim", "refuse", "dev", "levels")
    prepare(plain, receiver, rows(5), more='about = "changed"\n')
    step = run(plain, code=1)
    assert "flow:levels is refused at the gateway" in step["message"]
    assert receiver.requests == []


@pytest.mark.long
def test_a_run_that_is_killed_sends_every_row_once(
    anywhere: tuple[Program, str], receiver: Receiver
) -> None:
    """As far as the receiver can tell: by the key of each request."""
    kill_and_go_on(anywhere[0], receiver, 250)


@pytest.mark.parametrize("at", [1, 199, 200, 399])
def test_it_may_be_killed_at_any_row(plain: Program, receiver: Receiver, at: int) -> None:
    kill_and_go_on(plain, receiver, at)


def kill_and_go_on(program: Program, receiver: Receiver, at: int) -> None:
    numbers = (
        "WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 400) "
        "SELECT 'G' AS gauge, 's' AS source, i AS level, CAST(NULL AS VARCHAR(9)) AS note FROM n"
    )
    prepare(program, receiver, numbers)
    reached = threading.Event()

    def answer(number: int, request: Request) -> None:
        if number >= at:
            reached.set()

    receiver.answer = answer
    process = program.start("run", "levels", "--in", "dev")
    assert reached.wait(60)
    process.send_signal(signal.SIGKILL)
    process.communicate(timeout=60)
    receiver.answer = lambda number, request: None
    run(program)
    levels = {key: body["level"] for key, _, body in receiver.requests}
    assert sorted(levels.values()) == list(range(1, 401))
    assert sum(receiver.taken.values()) - 400 <= 200, "no more than a batch came twice"
    assert run(program)["message"] == "0 rows sent, 400 sent before"
    states = [r["state"] for r in program("history", "--runs", "--json").json["runs"]]
    assert states == ["done", "done", "broken off"]


def test_an_inward_flow_has_nothing_to_run(river: Program) -> None:
    """It is a step of a pipeline all the same."""
    river.pack()
    river.promote("riverwatch-1.4.0", "dev")
    output = river("run", "intake", "--in", "dev").text
    assert "nothing to run: it takes in what others send" in output


def test_a_value_that_no_request_can_carry_is_a_fault() -> None:
    """It would end a header, or lead to another place of the API."""
    operation = Operation(
        method="POST", path="/x/{g}/y", places={"g": "path", "h": "header"}, schema={}
    )

    def fault(g: str, h: str) -> str:
        return message_of({"g": g, "h": h}, {"g": "g", "h": "h"}, operation).fault

    assert fault("a/../b ..", "at Ελβα") == ""
    assert fault("..", "x").startswith("/x/../y: a path cannot have")
    assert fault(".", "x").startswith("/x/./y: a path cannot have")
    assert fault("a", "x\r\nHost: other").startswith("h: a header cannot have line breaks")


def test_rows_are_told_apart_by_what_the_flow_says() -> None:
    operation = Operation(method="POST", path="/x", places={}, schema={"properties": {}})
    row = {"gauge": 1, "level": 2.0}

    def identity(once_per: tuple[str, ...], **changed: object) -> str:
        fields = {"g": "gauge", "l": "level"}
        return message_of(row | changed, fields, operation, once_per).identity

    assert identity(()) != identity((), level=3.0)
    assert identity(("gauge",)) == identity(("GAUGE",), level=3.0)
    message = message_of(row, {"g": "gauge"}, operation)
    assert Message.of_text(message.identity, message.text) == message
