"""What has to hold once a promotion is there: asked of the environment, and answered."""

from __future__ import annotations

import http.server
import json
import signal
import threading
import time
from collections.abc import Iterator
from contextlib import closing
from pathlib import Path
from typing import Any

import pytest

from inchworm.core.identifiers import Kind, PartId
from inchworm.targets.http_services import connect_service
from tests.driver import Program
from tests.program.test_run_notebooks import notebook


def verify(program: Program, *lines: str) -> None:
    """What development is asked from now on."""
    file = program.folder / "environments/dev.toml"
    before = file.read_text().partition("[[verify]]")[0]
    file.write_text("\n".join([before.rstrip(), "", *lines, ""]))


QUERY = (
    "[[verify]]",
    'name = "days are there"',
    'query = "SELECT count(*) FROM report.daily_total"',
)


class Service(http.server.ThreadingHTTPServer):
    """Answers what it is told, and remembers what it was asked."""

    answers: list[tuple[int, Any]]
    asked: list[str | None]


@pytest.fixture
def service() -> Iterator[Service]:
    """A server on loopback."""

    class Handler(http.server.BaseHTTPRequestHandler):
        server: Service

        def do_GET(self) -> None:
            """The next answer; the last one again and again."""
            self.server.asked.append(self.headers.get("authorization"))
            answers = self.server.answers
            status, body = answers.pop(0) if len(answers) > 1 else answers[0]
            content = json.dumps(body).encode()
            self.send_response(status)
            self.send_header("content-length", str(len(content)))
            self.end_headers()
            self.wfile.write(content)

        def log_message(self, format: str, *arguments: Any) -> None:
            """Say nothing."""

    made = Service(("127.0.0.1", 0), Handler)
    made.answers, made.asked = [(200, {})], []
    threading.Thread(target=made.serve_forever, daemon=True).start()
    yield made
    made.shutdown()
    made.server_close()


def asked(document: Any) -> dict[str, tuple[str, str]]:
    """How each question ended: state and answer."""
    steps = (s for s in document["steps"] if s["action"] == "ask")
    return {step["item"]: (step["state"], step["message"]) for step in steps}


def test_a_query_is_answered(anywhere: tuple[Program, str]) -> None:
    """As expected, it is part of the record; otherwise the promotion is partly done."""
    program, url = anywhere
    verify(program, *QUERY)
    document = program.promote(program.pack(), "dev").json
    assert asked(document) == {"days are there": ("done", "2")}
    verify(program, *QUERY, 'answer = "> 2"')
    program.edit("models/report/daily_total.sql", "sum(amount) AS", "2 * sum(amount) AS")
    failed = program.promote(program.pack(), "dev", code=5).json
    assert failed["state"] == "partly done"
    assert asked(failed) == {"days are there": ("failed", "2; expected > 2")}
    more = "INSERT INTO ops.measurement VALUES ('west', '2026-02-03', 9)"
    program.ask(url, more, "SELECT 1")
    program("run", "report.daily_total", "--in", "dev", "--yes", code=None)
    assert program("rollback", failed["id"], "--yes", "--build", "--json").json["state"] == "done"


def test_a_service_is_asked(plain: Program, service: Service) -> None:
    """For its status and something in its body, until it is as expected or the time is over."""
    address = f"http://127.0.0.1:{service.server_port}/health"
    plain.write("token", "hush-hush")
    (plain.folder / "token").chmod(0o600)
    parameters = plain.folder / "parameters.toml"
    parameters.write_text(
        parameters.read_text()
        + f'\n[health]\ntype = "text"\ndev = "{address}"\n'
        + '[health_token]\ntype = "secret"\ndev = "file:token"\n'
    )
    question = ("[[verify]]", 'name = "it is up"', 'http = "${health}"', 'waits = "20s"')
    token = 'token = "${health_token}"'
    verify(plain, *question, 'answer = "checks.0.state = open"', token)
    service.answers = [
        (503, {}),
        (200, {"checks": [{"state": "starting"}]}),
        (200, {"checks": [{"state": "open"}]}),
    ]
    document = plain.promote(plain.pack(), "dev").json
    assert asked(document) == {"it is up": ("done", "checks.0.state is open")}
    assert service.asked == ["Bearer hush-hush"] * 3
    verify(plain, "[[verify]]", 'name = "it is up"', 'http = "${health}"', "status = 204")
    service.answers = [(500, {})]
    plain.edit("models/report/daily_total.sql", "sum(amount) AS", "2 * sum(amount) AS")
    failed = plain.promote(plain.pack(), "dev", code=5).json
    assert asked(failed) == {"it is up": ("failed", "status 500; expected status 204")}
    service.answers = [(204, {})]
    assert plain("promote", failed["id"], "--yes", "--json").json["state"] == "done"


def test_a_value_is_what_it_should_be(plain: Program) -> None:
    """A connection points where it should."""
    value = ("[[verify]]", 'name = "recent"', 'value = "oldest_day"')
    verify(plain, *value, 'answer = "contains 2026"')
    document = plain.promote(plain.pack(), "dev").json
    assert asked(document) == {"recent": ("done", "2026-01-01")}
    verify(plain, *value, 'answer = "= 2025-01-01"')
    plain.edit("models/report/daily_total.sql", "sum(amount) AS", "2 * sum(amount) AS")
    failed = plain.promote(plain.pack(), "dev", code=5).json
    assert asked(failed) == {"recent": ("failed", "2026-01-01; expected = 2025-01-01")}


def test_what_cannot_be_asked_is_found_before_anything_runs(anywhere: tuple[Program, str]) -> None:
    """At check where the tree tells; by the database where it does not."""
    program, _ = anywhere
    verify(
        program, "[[verify]]", 'name = "n"', 'query = "SELECT count(nothing) FROM ops.measurement"'
    )
    document = program.promote(program.pack(), "dev", code=1).json
    assert document["state"] == "refused"
    (finding,) = [f for f in document["findings"] if f["severity"] == "error"]
    assert finding["message"].startswith("[[verify]] n: ")


@pytest.mark.parametrize(
    ("lines", "why"),
    [
        (('query = "SELEC 1"',), "[[verify]] n: "),
        (('query = "DELETE FROM ops.measurement"',), "[[verify]] n: "),
        (('query = "SELECT 1 FROM ops.nothing"',), "there is no table ops.nothing"),
        (('value = "oldst_day"', 'answer = "= 1"'), "oldest_day"),
        (('value = "oldest_day"',), "must say what is expected"),
        (('query = "SELECT 1"', 'value = "oldest_day"'), "one of query, http, value and run"),
        (('http = "http://x"', 'answer = "open"'), "is not a key"),
        (('query = "SELECT 1"', 'waits = "long"'), "is not a duration"),
    ],
)
def test_what_is_no_question_is_found_at_check(
    plain: Program, lines: tuple[str, ...], why: str
) -> None:
    """With the file, and what to write instead."""
    verify(plain, "[[verify]]", 'name = "n"', *lines)
    (finding, *_) = plain.findings(code=1)
    assert why in f"{finding['message']} {finding['remedy']}"
    assert finding["file"] == "environments/dev.toml"


RUN = ("[[verify]]", 'name = "the daily run works"', 'run = "daily"')
AFTER_IT = (
    "[[verify]]",
    'name = "it has been counted"',
    'query = "SELECT n FROM mart.counted"',
    'answer = "= 3"',
)


def runs_daily(program: Program, *cells: str) -> None:
    """A pipeline of a model with a check of its data, and a notebook if it has cells."""
    program.write("models/mart/counted.sql", '/*---\nstore = "table"\n---*/\nSELECT 3 AS n\n')
    program.write("checks/enough.sql", "SELECT * FROM mart.counted WHERE n < 3\n")
    steps = '[[steps]]\nname = "count"\nbuild = ["mart.counted"]\n'
    if cells:
        notebook(program, "look", *cells)
        steps += '[[steps]]\nname = "look"\nnotebook = "look"\nafter = ["count"]\n'
    program.write("pipelines/daily.toml", steps)


def runs_of(program: Program) -> list[tuple[str, str, str]]:
    """Each run's id, state, and by what it was started."""
    runs = program("history", "--runs", "--json").json["runs"]
    return [(run["id"], run["state"], run["started"]) for run in reversed(runs)]


def test_a_run_has_to_succeed(anywhere: tuple[Program, str]) -> None:
    """It runs what was just put in place, is recorded, and leaves nothing beside."""
    program, url = anywhere
    runs_daily(program)
    verify(program, *RUN, *AFTER_IT)
    done = program.promote(program.pack(), "dev").json
    asked = [step for step in done["steps"] if step["action"] == "ask"]
    assert asked[0]["reason"] == "a run of daily has to succeed"
    assert [step["message"] for step in asked] == ["R1 of pipeline:daily is done", "3"]
    assert runs_of(program) == [("R1", "done", "P1")]
    assert program.ask(url, "SELECT name FROM inchworm.aside WHERE promotion LIKE '%R1%'") == []
    assert "started by P1" in program("history", "R1").text
    program.edit("models/mart/counted.sql", "3 AS n", "1 + 2 AS n")
    program.promote(program.pack(), "dev")
    assert runs_of(program)[1:] == [("R2", "done", "P2")]
    program("drift", "dev")
    program("rollback", "dev", "--yes")
    assert program.ask(url, "SELECT n FROM mart.counted") == [(3,)]
    program("drift", "dev")
    assert program("promote", "P3", code=2).text.count("P3 is done") == 1


def test_a_run_that_fails_leaves_the_promotion_partly_done(plain: Program) -> None:
    """It goes on with another run, once the cause is mended."""
    program = plain
    runs_daily(program, "import pathlib\npathlib.Path(AT).read_text()")
    at = program.folder.parent / "there"
    program.edit("notebooks/look.ipynb", "AT", repr(str(at)).replace('"', '\\"'))
    verify(program, *RUN)
    ended = program.promote(program.pack(), "dev", code=5)
    assert ended.json["state"] == "partly done"
    assert "R1 of pipeline:daily is partly done (inchworm history R1)" in ended.text
    assert "No such file" in program("history", "R1").text
    at.write_text("now")
    program("promote", "P1", "--yes")
    assert runs_of(program) == [("R1", "partly done", "P1"), ("R2", "done", "P1")]
    assert program("history", "P1", "--json").json["state"] == "done"


@pytest.mark.parametrize("number", [signal.SIGKILL, signal.SIGINT])
def test_a_promotion_that_is_stopped_in_its_run_goes_on(number: int, plain: Program) -> None:
    """By whatever it is stopped: no kernel goes on, and the next one begins a new run."""
    program = plain
    at = program.folder.parent / "there"
    runs_daily(
        program,
        "import os, pathlib, time\n"
        f"there = pathlib.Path({str(at)!r})\n"
        "is_first = not there.exists()\n"
        "there.write_text(str(os.getpid()))\n"
        "time.sleep(600 if is_first else 0)",
    )
    verify(program, *RUN)
    process = program.start("promote", program.pack(), "--to", "dev", "--yes")
    while not (at.exists() and at.read_text()):
        time.sleep(0.05)
    process.send_signal(number)
    _, err = process.communicate(timeout=60)
    assert "Traceback" not in err
    program("promote", "P1", "--yes")
    (first, second) = runs_of(program)
    assert first[1] == ("broken off" if number == signal.SIGKILL else "stopped")
    assert second == ("R2", "done", "P1")
    assert not Path(f"/proc/{int(at.read_text())}").exists()
    program("drift", "dev")


def test_a_run_that_cannot_be_is_found_at_check(plain: Program) -> None:
    """With the nearest name."""
    runs_daily(plain, "print('fine')")
    verify(plain, *RUN[:2], 'run = "dayly"')
    (finding,) = [f for f in plain.findings(code=1) if f["severity"] == "error"]
    assert "there is no pipeline, model, notebook or flow dayly" in finding["message"]
    assert "daily" in finding["remedy"]
    verify(plain, *RUN, 'waits = "2m"')
    assert "of a run, nothing but its success" in plain("check", code=1).text


def test_a_part_asks_where_it_is_put_in_place(plain: Program) -> None:
    """In whatever environment; a promotion that leaves it alone asks nothing."""
    program = plain
    runs_daily(program, "print('fine')")
    file = "pipelines/daily.toml"
    asks = "\n".join([*RUN, *AFTER_IT, ""])
    program.write(file, f"{(program.folder / file).read_text()}\n{asks}")
    done = program.promote(program.pack(), "dev").json
    asked = [step for step in done["steps"] if step["action"] == "ask"]
    assert [(step["part"], step["item"], step["message"]) for step in asked] == [
        ("pipeline:daily", "the daily run works", "R1 of pipeline:daily is done"),
        ("pipeline:daily", "it has been counted", "3"),
    ]
    with closing(connect_service("sim:dev", program.folder, None, None)) as service:
        assert "verify" not in service.document(PartId(Kind.PIPELINE, "daily"))
    program.edit("models/mart/counted.sql", "3 AS n", "1 + 2 AS n")
    done = program.promote(program.pack(), "dev").json
    assert [step for step in done["steps"] if step["action"] == "ask"] == []
    program.edit(file, "FROM mart.counted", "FROM mart.countd")
    (finding,) = [f for f in program.findings(code=1) if f["severity"] == "error"]
    assert finding["file"] == file
    assert "it has been counted: there is no table mart.countd" in finding["message"]
    program.edit(file, 'name = "it has been counted"', 'name = "the daily run works"')
    assert "has two of the name 'the daily run works'" in program("check", code=1).text


def test_what_is_not_where_it_was_put_is_told(anywhere: tuple[Program, str]) -> None:
    """Everything is looked for at the end; whoever took it away meanwhile, nothing is recorded."""
    program, url = anywhere
    program.write("schemas/ops/after/tidy.sql", "DROP TABLE IF EXISTS report.daily_total;")
    document = program.promote(program.pack(), "dev", code=5).json
    assert document["state"] == "partly done"
    (failed,) = [step for step in document["steps"] if step["state"] == "failed"]
    assert failed["message"] == "model:report.daily_total is not in the database"
    assert program.ask(url, "SELECT count(*) FROM inchworm.promotions") == [(0,)]
