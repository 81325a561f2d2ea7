"""``inchworm serve``: schedules run, calls run, and whatever ends it loses nothing."""

from __future__ import annotations

import asyncio
import datetime as dt
import errno
import queue
import shlex
import signal
import socket
import subprocess
import time
from collections import deque
from collections.abc import Iterator, Mapping, Sequence
from contextlib import suppress
from typing import Any
from unittest.mock import Mock

import httpx
import pytest
from msgspec.structs import replace
from openapi_spec_validator import OpenAPIV31SpecValidator

from inchworm.application.schedules import LiveEnvironment, LiveSchedule
from inchworm.application.source_tree import SourceTree
from inchworm.application.workplace import Workplace
from inchworm.cli.commands.serve import _by_environment
from inchworm.core.environments.environment import (
    DatabaseAddress,
    Environment,
    ServiceAddress,
)
from inchworm.core.identifiers import PartId
from inchworm.core.lineage.facts import Scheduled
from inchworm.core.running.copying import ListedFile
from inchworm.core.running.schedules import Missed
from inchworm.host.app import DESCRIPTION, create_app
from inchworm.host.host import Host, NotBegun, Watched
from inchworm.host.metrics import metrics
from inchworm.host.page import page
from inchworm.host.scheduling import Job, jobs_due
from inchworm.host.seen import Open
from inchworm.host.tokens import Tokens
from inchworm.targets.machine import Machine
from tests.driver import COMMAND, PLAIN, SEALER, Program, trusted
from tests.once import SQLITE, Once

NOW = dt.datetime(2026, 5, 1, 12, 0, 30, tzinfo=dt.UTC)
TOKEN = "open sesame"
OTHER_TOKEN = "open poppy"


def watched(cron: str, missed: Missed = Missed.RUN_ONCE, state: str = "on") -> LiveEnvironment:
    schedule = LiveSchedule(
        pipeline=PartId.parse("pipeline:all"),
        scheduled=Scheduled("often", cron, "UTC"),
        missed=missed,
        state=state,
    )
    return LiveEnvironment(
        environment=Environment(
            name="dev",
            database=DatabaseAddress(url="duckdb:///x"),
            workspace=ServiceAddress(url="sim:x"),
            gateway=ServiceAddress(url="sim:x"),
        ),
        last=None,
        schedules=(schedule,),
        due_times={},
    )


def due(live: LiveEnvironment, since: dt.datetime, **considered: dt.datetime) -> list[Any]:
    known = {f"all.{name}": time for name, time in considered.items()}
    return [(time, runs) for _, time, runs in jobs_due(live, since, NOW, known)]


def test_what_is_due_runs_once() -> None:
    noon = NOW.replace(second=0)
    minute = dt.timedelta(minutes=1)
    often = watched("* * * * *")
    assert due(often, NOW) == [], "nothing was due since the host began"
    assert due(often, NOW - minute) == [(noon, True)]
    assert due(often, NOW - minute, often=noon) == []
    taken = replace(often, due_times={"all.often": noon})
    assert due(taken, NOW - minute) == [], "another host has run it"
    assert due(watched("* * * * *", state="paused"), NOW - minute) == []


def test_what_was_missed_runs_once_or_not_at_all() -> None:
    yesterday = NOW - dt.timedelta(days=1)
    at_two = NOW.replace(hour=2, minute=0, second=0)
    once = replace(watched("0 2 * * *"), due_times={"all.often": yesterday})
    assert due(once, NOW) == [(at_two, True)]
    never = replace(watched("0 2 * * *", Missed.SKIP), due_times={"all.often": yesterday})
    assert due(never, NOW) == [(at_two, False)]
    assert due(never, yesterday) == [(at_two, True)], "the host was there, and busy"


def test_a_pipeline_starts_when_another_has_ended() -> None:
    minute = dt.timedelta(minutes=1)
    base = watched("")
    (schedule,) = base.schedules
    behind = replace(schedule, scheduled=Scheduled("often", "", "UTC", after="first"))
    first = PartId.parse("pipeline:first")
    live = replace(base, schedules=(behind,))
    assert due(live, NOW - minute) == []
    live = replace(live, ended={first: NOW - minute / 2})
    assert due(live, NOW - minute) == [(NOW - minute / 2, True)]
    assert due(live, NOW) == [], "it had ended before the host began, and that was no start"
    assert due(live, NOW - minute, often=NOW - minute / 2) == []


def test_a_pipeline_starts_when_files_have_arrived() -> None:
    base = watched("")
    (schedule,) = base.schedules
    waiting = replace(schedule, scheduled=Scheduled("often", "", "UTC", arrives="loggers"))
    live = replace(base, schedules=(waiting,))
    assert due(live, NOW) == []
    earlier = NOW - dt.timedelta(hours=1)
    old = ListedFile(path="a.csv", size=1, changed_at=earlier.isoformat(), stamp="1 x")
    live = replace(live, arrived={"loggers": [old]})
    assert due(live, NOW) == [(earlier, True)], "files that came while nobody watched wait, too"
    tried = {"all.often": frozenset([old])}
    assert list(jobs_due(live, NOW, NOW, {}, tried)) == [], "a file that is not taken starts once"
    moved_in = replace(old, path="b.csv", changed_at=(earlier - dt.timedelta(days=1)).isoformat())
    live = replace(live, arrived={"loggers": [old, moved_in]}, due_times={"all.often": earlier})
    assert [time for _, time, _ in jobs_due(live, NOW, NOW, {}, tried)] == [NOW]


class Asked:
    """The application of a host that watches, and starts nothing, asked in this process."""

    def __init__(self, opened: Open = Open.EVERYTHING) -> None:
        def refuse(arguments: object) -> subprocess.Popen[str]:
            raise AssertionError("nothing is started here")

        host = Host(["dev"], lambda: None, refuse, print)  # type: ignore[arg-type, return-value]
        not_begun = NotBegun(
            job=Job(environment="dev", name="all", schedule="all.often", due=NOW),
            at=NOW,
            why="<somebody> is at work.",
            is_tried_again=True,
        )
        host._watched["dev"] = Watched(
            name="dev", live=watched("0 2 * * *"), not_begun=(not_begun,)
        )
        host._called["dev"] = deque()
        self._app = create_app(
            *(host, lambda asked: [], lambda: NOW, Tokens.of({"dev": TOKEN, "test": OTHER_TOKEN})),
            opened=opened,
            patience=0.2,
        )

    def __call__(self, method: str, path: str, **options: Any) -> httpx.Response:
        async def ask() -> httpx.Response:
            transport = httpx.ASGITransport(self._app, raise_app_exceptions=False)
            async with httpx.AsyncClient(transport=transport, base_url="http://host") as client:
                return await client.request(method, path, **options)

        return asyncio.run(ask())


@pytest.fixture
def served() -> Asked:
    return Asked()


@pytest.mark.parametrize(
    ("headers", "body", "status"),
    [
        ({}, b"{}", 401),
        ({"authorization": TOKEN}, b"{}", 401),
        ({"authorization": f"Basic {TOKEN}"}, b"{}", 401),
        ({"authorization": "Bearer caf\u00e9".encode("latin-1")}, b"{}", 401),
        ({"authorization": "Bearer wrong"}, b"{}", 401),
        ({"authorization": f"Bearer {TOKEN}"}, b"5", 400),
        ({"authorization": f"Bearer {TOKEN}"}, b"{", 400),
        ({"authorization": f"Bearer {TOKEN}"}, b"[" * 50_000, 400),
        ({"authorization": f"Bearer {TOKEN}"}, b'{"name": {}}', 400),
        ({"authorization": f"Bearer {TOKEN}"}, b'{"environment": "dev", "name": "--yes"}', 400),
        ({"authorization": f"Bearer {TOKEN}"}, b'{"environment": "x", "name": "all"}', 404),
        ({"authorization": f"Bearer {OTHER_TOKEN}"}, b'{"environment": "dev", "name": "a"}', 403),
        ({"authorization": f"Bearer {TOKEN}"}, b" " * 100_000, 413),
        ({"authorization": f"Bearer {TOKEN}"}, b'{"environment": "dev", "name": "all"}', 202),
    ],
)
def test_a_call_is_checked(
    served: Asked, headers: dict[str, Any], body: bytes, status: int
) -> None:
    answer = served("POST", "/v1/runs", content=body, headers=headers)
    assert answer.status_code == status
    if status != 202:
        assert answer.headers["content-type"] == "application/problem+json"
        assert answer.json()["status"] == status


def test_a_token_is_for_an_environment_that_is_served(plain: Program) -> None:
    plain.write("environments/test.toml", (plain.folder / "environments/dev.toml").read_text())
    asked = ("serve", "dev", "test", "--token")
    environ = {"ONE": "1", "TWO": "2"}
    said = plain(*asked, "tst=env:ONE", code=2, environ=environ).text
    assert "A token is for tst, which is not served. next Did you mean test?" in said
    said = plain(*asked, "env:ONE", "--token", "env:TWO", code=2, environ=environ).text
    assert "Write ENV=REFERENCE for each of them" in said
    given = ["env:ALL", "test=file:a=b"]
    assert dict(_by_environment(given, ["dev", "test"])) == {"dev": "env:ALL", "test": "file:a=b"}


def test_it_tells_how_things_stand(served: Asked) -> None:
    page = served("GET", "/").text
    assert "all.often" in page
    assert "2026-05-02 02:00 UTC" in page
    assert "<script" not in page
    assert "&lt;somebody&gt; is at work. It is tried again." in page
    assert served("GET", "/v1/runs").json()["not_begun"] == [
        {
            "environment": "dev",
            "name": "all",
            "started": "all.often",
            "at": "2026-05-01T12:00:30+00:00",
            "why": "<somebody> is at work.",
            "is_tried_again": True,
        }
    ]
    text = served("GET", "/metrics").text
    assert text.endswith("# EOF\n")
    assert 'inchworm_not_begun{environment="dev"} 1' in text
    assert 'inchworm_environment_readable{environment="dev"} 1' in text
    assert 'inchworm_due_timestamp_seconds{environment="dev",schedule="all.often"} 17' in text
    assert served("GET", "/openapi.json").json() == DESCRIPTION
    assert set(served("PUT", "/v1/runs").headers["allow"].split(", ")) == {"GET", "HEAD", "POST"}
    assert list(OpenAPIV31SpecValidator(DESCRIPTION).iter_errors()) == []
    assert served("GET", "/nothing").status_code == 404
    assert served("DELETE", "/v1/runs").headers["content-type"] == "application/problem+json"


class Hosting:
    """A host in this process, whose runs are processes of the test.

    Args:
        program: the project.
        script: by the name of what is run, the shell scripts that its runs are, one after another.
    """

    def __init__(self, program: Program, script: Mapping[str, Sequence[str]]) -> None:
        tree = SourceTree.around(program.folder, SEALER)
        trust = trusted(program.folder)
        machine = Machine(root=program.folder, environ={}, login="lena", trust=trust)
        self.started: queue.Queue[str] = queue.Queue()
        self.said: list[str] = []
        scripts = {name: iter(each) for name, each in script.items()}

        def start(arguments: Sequence[str]) -> subprocess.Popen[str]:
            self.started.put(arguments[1])
            command = ["sh", "-c", next(scripts[arguments[1]])]
            return subprocess.Popen(command, text=True, stderr=subprocess.PIPE)

        workplace = lambda: Workplace.around(tree, machine, lambda: NOW)  # noqa: E731
        self.host = Host(["dev"], workplace, start, self.said.append, patience=0, pause=0)

        self.host.take_calls()

    def __enter__(self) -> Hosting:
        self.host.begin()
        return self

    def __exit__(self, *error: object) -> None:
        self.host.stop()

    def until(self, line: str, times: int = 1) -> None:
        """Wait until the host has said a line so often."""
        while self.said.count(line) < times:
            time.sleep(0.01)


def test_runs_of_a_shared_database_begin_beside_each_other_before_it_was_looked_at(
    starter: Program,
) -> None:
    """They know of each other by their locks; a host that cannot look now need not know of them."""
    url = f"postgresql://river@127.0.0.1:{free_port()}/nowhere"
    starter.edit("environments/dev.toml", "duckdb:///.inchworm/dev.duckdb", url)
    with Hosting(starter, {"first": ["exec sleep 600"], "second": ["exec sleep 600"]}) as hosting:
        for name in ("first", "second"):
            hosting.host.call("dev", name)
        started = {hosting.started.get(timeout=60), hosting.started.get(timeout=60)}
    assert started == {"first", "second"}


def test_a_call_before_the_host_begins_waits_for_it(plain: Program) -> None:
    """Its server answers first: an environment may have its platform there."""
    hosting = Hosting(plain, {"all": ["exit 0"]})
    hosting.host.call("dev", "all")
    with hosting:
        hosting.until("dev: all ended with 0")


def test_what_cannot_begin_is_told_and_tried_again(plain: Program) -> None:
    """Whoever called for it was told that it would run, and its exit code goes to nobody."""
    busy = "echo somebody is at work >&2; exit 4"
    with Hosting(plain, {"late": [busy, busy, "exit 1", "exit 0"], "lost": ["exit 2"]}) as hosting:
        hosting.host.call("dev", "late")
        hosting.until("dev: late could not begin: somebody is at work; tried again every 0 s")
        hosting.until("dev: late could not begin: exit code 1; tried again every 0 s")
        hosting.until("dev: late ended with 0")
        hosting.host.call("dev", "lost")
        hosting.until("dev: lost could not begin: exit code 2")
    (dev,) = hosting.host.watched()
    assert [(each.job.name, each.is_tried_again) for each in dev.not_begun] == [("lost", False)]
    begins = [f"dev: {name} begins" for name in ("late", "lost")]
    assert [line for line in hosting.said if line.endswith("begins")] == begins
    assert len(hosting.said) == 6, "the same is not said again and again"


AGAIN = "dev: all could not begin: exit code 4; tried again every 0 s"


def test_what_begins_at_its_next_time_has_begun(plain: Program) -> None:
    with Hosting(plain, {"all": ["exit 4", "exit 0"]}) as hosting:
        for due in (NOW, NOW + dt.timedelta(hours=1)):
            job = Job(environment="dev", name="all", schedule="all.often", due=due)
            hosting.host._begin(job, lambda: None)
            hosting.until("dev: all ended with 0" if due > NOW else AGAIN)
    (dev,) = hosting.host.watched()
    assert dev.not_begun == ()


def test_a_ledger_that_cannot_be_read_tells_of_no_run(live: Program) -> None:
    """That there are none in it any more, or again, is no sign that one has begun."""
    live("run", "all", "--in", "dev")
    away = "cd .inchworm && mv ledger.sqlite away && mkdir ledger.sqlite; exit 1"
    back = "cd .inchworm && rmdir ledger.sqlite && mv away ledger.sqlite; exit 1"
    there = f"cd {live.folder} && "
    with Hosting(live, {"all": [there + away, there + back, "exit 0"]}) as hosting:
        hosting.host.call("dev", "all")
        hosting.until("dev: all could not begin: exit code 1; tried again every 0 s")
        hosting.until("dev: all ended with 0")
        assert not any("ended with 1" in line for line in hosting.said)


def test_schedules_go_by_a_clock_that_is_moved(plain: Program) -> None:
    """That of a simulated workspace; so somebody can see at noon what the night would bring."""
    promote_schedule(plain, "nightly", "0 2 * * *")
    trust = f"INCHWORM_TRUST={plain.folder}"
    run = f"cd {plain.folder} && {trust} exec {shlex.join([*COMMAND, 'run', 'all'])} --in dev"
    scripts = {"look": ["exit 0"] * 99, "pipeline:all": [f"{run} --started all.nightly"] * 2}
    with Hosting(plain, scripts) as hosting:

        def move(*how: str, ahead: float) -> None:
            plain("sim", "clock", "dev", *how)
            while True:
                looked = hosting.said.count("dev: look ended with 0")
                hosting.host.call("dev", "look")
                hosting.until("dev: look ended with 0", looked + 1)
                (dev,) = hosting.host.watched()
                if dev.live is not None and dev.live.ahead == dt.timedelta(hours=ahead):
                    return

        move(ahead=0)
        for night in (1, 2):
            move("--by", "15h", ahead=15)
            hosting.until("dev: pipeline:all ended with 0", night)
            move("--reset", ahead=0)
        (dev,) = hosting.host.watched()
        assert dev.live is not None
        assert dev.live.due_times == {}, "what the environment remembers has true times"
    runs = plain("history", "--runs", "--json").json["runs"]
    assert [run["started"] for run in runs] == ["all.nightly"] * 2
    plain("sim", "clock", "dev", "--by", "15h")
    shown = plain("status", "dev", "--schedules").text
    assert "moved dev: due by the clock of its workspace, which is 15h ahead" in shown


def test_a_run_that_failed_has_begun(plain: Program) -> None:
    """It is in the ledger, and running it again is for somebody who has looked at it."""
    note = "schemas/ops/migrations/0002_note.sql"
    plain.write(note, "CREATE TABLE ops.note (x BIGINT);")
    plain.write(
        "models/mart/note.sql", '/*---\nstore = "table"\n---*/\nSELECT sum(x) AS x FROM ops.note\n'
    )
    plain.promote(plain.pack(), "dev")
    largest = 2**63 - 1
    plain.ask(SQLITE, f"INSERT INTO ops.note VALUES ({largest}), ({largest})", "SELECT 1")
    trust = f"INCHWORM_TRUST={plain.folder}"
    run = f"cd {plain.folder} && {trust} exec {shlex.join([*COMMAND, 'run', 'mart.note'])} --in dev"
    with Hosting(plain, {"mart.note": [run]}) as hosting:
        hosting.host.call("dev", "mart.note")
        hosting.until("dev: mart.note ended with 1")
    (dev,) = hosting.host.watched()
    assert dev.not_begun == ()
    (failed,) = plain("history", "--runs", "--json").json["runs"]
    assert failed["state"] == "failed"


def test_a_moved_clock_is_told() -> None:
    ahead = dt.timedelta(hours=15)
    dev = Watched(name="dev", live=replace(watched("0 2 * * *"), ahead=ahead))
    text = page([dev], [], NOW)
    assert "by the clock of its workspace, which is 15h ahead" in text
    assert "2026-05-02 02:00" not in text
    due = dt.datetime(2026, 5, 3, 2, tzinfo=dt.UTC) - ahead
    assert f'schedule="all.often"}} {due.timestamp():.0f}' in metrics([dev], [], NOW)


# ---- the process -------------------------------------------------------------------------------


@pytest.fixture
def live(once: Once, plain: Program) -> Program:
    """A pipeline that is due every minute, and live."""
    once(_make_live, plain)
    return plain


def _make_live(plain: Program, url: str) -> None:
    promote_schedule(plain, "often", "* * * * *")


def promote_schedule(plain: Program, name: str, cron: str) -> None:
    """Have a pipeline live whose schedule is on."""
    plain.write("models/mart/one.sql", '/*---\nstore = "table"\n---*/\nSELECT 1 AS n\n')
    plain.write(
        "pipelines/all.toml",
        f'[schedules.{name}]\ncron = "{cron}"\n[[steps]]\nname = "one"\nbuild = ["mart.one"]\n',
    )
    plain.edit("environments/dev.toml", "[schedules]\n", '[schedules]\nall = "on"\n')
    plain.promote(plain.pack(), "dev")


def free_port() -> int:
    """A port on which nobody listens."""
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        return int(free.getsockname()[1])


class Served:
    """A host at work in a process of its own."""

    def __init__(self, program: Program, *more: str, port: int = 0) -> None:
        port = port or free_port()
        self.url = f"http://127.0.0.1:{port}"
        asked = ("--port", str(port), "--token", "env:HOST_TOKEN", "--open", "everything")
        self.process = subprocess.Popen(
            [*COMMAND, "serve", "dev", *asked, *more],
            cwd=program.folder,
            env={**program.environ, "HOST_TOKEN": TOKEN},
            stdout=subprocess.PIPE,
            stderr=subprocess.STDOUT,
            text=True,
        )
        self.until(lambda: httpx.get(f"{self.url}/", verify=PLAIN).status_code == 200)

    def until(self, holds: Any) -> None:
        end = time.monotonic() + 90
        while time.monotonic() < end:
            try:
                if holds():
                    return
            except httpx.HTTPError:
                pass
            time.sleep(0.1)
        raise AssertionError("it never came true")

    def runs(self) -> list[dict[str, Any]]:
        found: list[dict[str, Any]] = httpx.get(f"{self.url}/v1/runs", verify=PLAIN).json()["runs"]
        return found

    def not_begun(self) -> list[tuple[str, str]]:
        """What could not begin, with the reason."""
        told = httpx.get(f"{self.url}/v1/runs", verify=PLAIN).json()["not_begun"]
        return [(each["name"], each["why"]) for each in told]

    def call(self, name: str) -> None:
        answer = httpx.post(
            f"{self.url}/v1/runs",
            json={"environment": "dev", "name": name},
            headers={"authorization": f"Bearer {TOKEN}"},
            verify=PLAIN,
        )
        assert answer.status_code == 202

    def end(self, how: signal.Signals) -> str:
        self.process.send_signal(how)
        out, _ = self.process.communicate(timeout=60)
        return out


@pytest.fixture
def host(live: Program) -> Iterator[Served]:
    served = Served(live)
    yield served
    if served.process.poll() is None:
        served.end(signal.SIGKILL)


def test_a_call_starts_a_run_and_sigterm_lets_it_end(live: Program, host: Served) -> None:
    host.call("pipeline:all")
    host.until(lambda: any(run["started"] == "call" for run in host.runs()))
    output = host.end(signal.SIGTERM)
    assert host.process.returncode == 0
    assert "stopped" in output.splitlines()[-1]
    runs = live("history", "--runs", "--json").json["runs"]
    assert {run["state"] for run in runs} == {"done"}


def test_a_due_time_has_one_run_whoever_comes_for_it(live: Program) -> None:
    """Also where a host was killed, and another one has begun."""
    due = ["--schedule", "all.often", "--due", "2026-05-01T12:00:00+00:00"]
    both = [live.start("run", "all", "--in", "dev", "--wait", "1m", *due) for _ in range(2)]
    for process in both:
        process.communicate(timeout=60)
    assert [process.returncode for process in both] == [0, 0]
    runs = live("history", "--runs", "--json").json["runs"]
    assert [(run["started"], run["state"]) for run in runs] == [("all.often", "done")]
    earlier = [*due[:3], "2026-05-01T11:59:00+00:00"]
    assert "has run before" in live("run", "all", "--in", "dev", *earlier).text


@pytest.mark.long
def test_files_that_arrive_start_one_pipeline_and_its_end_another(plain: Program) -> None:
    matrix = (plain.folder / "parameters.toml").read_text()
    plain.write("parameters.toml", f'{matrix}\n[incoming]\ntype = "text"\nevery = "incoming"\n')
    plain.write("connections/loggers.toml", 'kind = "files"\nurl = "${incoming}"\n')
    plain.write(
        "schemas/ops/migrations/0002_level.sql", "CREATE TABLE ops.level (gauge TEXT, cm BIGINT);"
    )
    plain.write(
        "flows/loggers.toml",
        'direction = "copy"\n[from]\nconnection = "loggers"\nfiles = "*.csv"\n'
        '[to]\ntable = "ops.level"\n[fields]\ngauge = "gauge"\ncm = "cm"\n',
    )
    plain.write(
        "models/mart/high.sql",
        '/*---\nstore = "table"\n---*/\nSELECT max(cm) AS cm FROM ops.level\n',
    )
    plain.write(
        "pipelines/take.toml",
        '[schedules.files]\narrives = "loggers"\n[[steps]]\nname = "take"\nflow = "loggers"\n',
    )
    plain.write(
        "pipelines/build.toml",
        '[schedules.behind]\nafter = "take"\n[[steps]]\nname = "high"\nbuild = ["mart.high"]\n',
    )
    plain.edit("environments/dev.toml", "[schedules]\n", '[schedules]\ntake = "on"\nbuild = "on"\n')
    (plain.folder / "incoming").mkdir()
    plain.promote(plain.pack(), "dev")
    shown = plain("status", "dev", "--schedules").text
    assert "when loggers has files" in shown
    assert "after take" in shown
    served = Served(plain)
    (plain.folder / "incoming/a.csv").write_text("gauge,cm\nweir,12\n")
    served.until(lambda: "pipeline:build" in {run["name"] for run in served.runs()})
    served.until(lambda: all(run["state"] == "done" for run in served.runs()))
    served.end(signal.SIGTERM)
    runs = plain("history", "--runs", "--json").json["runs"]
    assert [(run["subject"], run["started"]) for run in reversed(runs)] == [
        ("pipeline:take", "take.files"),
        ("pipeline:build", "build.behind"),
    ]
    assert plain.ask(SQLITE, "SELECT cm FROM mart.high") == [(12,)]


def test_a_host_that_was_killed_begins_where_it_was(live: Program, host: Served) -> None:
    host.end(signal.SIGKILL)
    again = Served(live)
    again.call("pipeline:all")
    again.until(lambda: any(run["state"] == "done" for run in again.runs()))
    again.call("pipeline:al")
    again.until(lambda: again.not_begun() != [])
    ((name, why),) = again.not_begun()
    assert (name, why.split(".")[0]) == (
        "pipeline:al",
        "There is no pipeline, model, notebook or flow pipeline:al",
    )
    again.end(signal.SIGTERM)
    assert again.process.returncode == 0


def test_a_host_is_the_platform_of_an_environment(
    plain: Program, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Everybody who promotes there reaches one workspace and gateway, which simulates nothing."""
    monkeypatch.setenv("PLATFORM_TOKEN", OTHER_TOKEN)
    port = free_port()
    matrix = (plain.folder / "parameters.toml").read_text()
    plain.write(
        "parameters.toml", f'{matrix}\n[platform]\ntype = "secret"\nevery = "env:PLATFORM_TOKEN"\n'
    )
    text = (plain.folder / "environments/dev.toml").read_text()
    service = f'url = "http://127.0.0.1:{port}/platform/team"\ntoken = "${{platform}}"'
    plain.write("environments/dev.toml", text.replace('url = "sim:dev"', service))
    plain.write("models/mart/one.sql", '/*---\nstore = "table"\n---*/\nSELECT 1 AS n\n')
    plain.write("pipelines/all.toml", '[[steps]]\nname = "one"\nbuild = ["mart.one"]\n')
    refused = plain("promote", plain.pack(), "--to", "dev", "--yes", code=1).text
    assert "platform/team cannot be reached" in refused
    host = Served(plain, "--platform", "team=env:PLATFORM_TOKEN", port=port)
    try:
        assert plain.promote(plain.pack(), "dev").json["state"] == "done"
        assert plain("status", "dev", "--json").json["environments"][0]["drifted"] == 0
        host.call("pipeline:all")
        host.until(lambda: [run["state"] for run in host.runs()] == ["done"])
        at = f"{host.url}/platform/team"
        known = {"authorization": f"Bearer {OTHER_TOKEN}"}
        listed = httpx.get(f"{at}/v1/items", headers=known, verify=PLAIN)
        assert "pipeline" in {item["kind"] for item in listed.json()["items"]}
        assert httpx.get(f"{at}/v1/items", verify=PLAIN).status_code == 401
        for path in ("faults", "received", "secrets/x"):
            gone = httpx.put(f"{at}/v1/{path}", headers=known, json={}, verify=PLAIN)
            assert gone.status_code == 404
        described = httpx.get(f"{at}/openapi.json", verify=PLAIN).json()
        assert OpenAPIV31SpecValidator(described).is_valid()
        assert not any("secrets" in path for path in described["paths"])
        host.end(signal.SIGTERM)
        assert host.process.returncode == 0
    finally:
        host.process.kill()
        host.process.wait()


@pytest.mark.parametrize("command", [("serve", "dev"), ("sim", "serve", "dev")])
def test_where_nobody_can_listen_nothing_is_served(
    plain: Program, command: Sequence[str], monkeypatch: pytest.MonkeyPatch
) -> None:
    with socket.create_server(("127.0.0.1", 0)) as taken:
        port = str(taken.getsockname()[1])
        refused = plain(*command, "--port", port, code=2)
    assert f"Another process listens at 127.0.0.1:{port} already. next Stop it" in refused.text
    assert " at http" not in refused.out
    assert "not in the range" in plain(*command, "--port", "65536", code=2).text
    refuse = OSError(errno.EACCES, "Permission denied")
    monkeypatch.setattr(socket, "create_server", Mock(side_effect=refuse))
    refused = plain(*command, "--port", "80", code=2)
    assert "Only an administrator may listen at 127.0.0.1:80. next Give a --port" in refused.text


@pytest.mark.parametrize("address", ["203.0.113.9", "nowhere.invalid"])
def test_a_host_listens_at_an_address_of_its_machine(plain: Program, address: str) -> None:
    refused = plain("serve", "dev", "--address", address, "--port", "0", code=2).text
    assert f"{address} is no address of this machine. next Give 127.0.0.1" in refused


def loopback() -> str:
    """The address of this machine for itself, by IPv6 where it has that."""
    with (
        suppress(OSError),
        socket.create_server(("::1", 0), family=socket.AF_INET6),
    ):
        return "::1"
    return "127.0.0.1"


def test_any_port_is_told(plain: Program) -> None:
    host = plain.start("serve", "dev", "--address", loopback(), "--port", "0")
    try:
        assert host.stdout is not None
        url = host.stdout.readline().split()[-1]
        assert not url.endswith(":0")
        deadline = time.monotonic() + 60
        while time.monotonic() < deadline:
            with suppress(httpx.HTTPError):
                assert httpx.get(f"{url}/openapi.json", verify=PLAIN).status_code == 200
                break
        else:
            raise AssertionError("it never answered")
    finally:
        host.send_signal(signal.SIGTERM)
        host.communicate(timeout=60)
    assert host.returncode == 0


def test_a_platform_needs_a_name_and_a_token(plain: Program) -> None:
    for given in ("env:TOKEN", "A=env:TOKEN", "a/b=env:TOKEN"):
        refused = plain("serve", "dev", "--platform", given, code=2).text
        assert "is not NAME=REFERENCE" in refused
