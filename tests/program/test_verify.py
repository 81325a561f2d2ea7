"""What has to hold once a promotion is there: asked of the environment, and answered."""

from __future__ import annotations

import http.server
import json
import threading
from collections.abc import Iterator
from typing import Any

import pytest

from tests.driver import Program


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
        (('query = "SELECT 1"', 'value = "oldest_day"'), "one of query, http and value"),
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
