"""``inchworm run``: what is live is executed, on all databases."""

from __future__ import annotations

import datetime as dt
import json
import shutil
import signal
import threading
import time
from typing import Any

import pytest

from inchworm.cli import process
from inchworm.engine.locks import Lock
from inchworm.targets.databases import connect
from tests.driver import Answer, Program
from tests.forked import Started
from tests.once import DEV, Once

ENDLESS = (
    "WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n "
    "WHERE i < (SELECT 2000000000 * count(*) FROM raw.reading)) SELECT max(i) AS top FROM n"
)
"""A SELECT that ends soon only while nothing was read."""
SLOW = (
    "SELECT pid FROM pg_stat_activity WHERE query LIKE '%2000000000%' AND state = 'active' "
    "AND pid <> pg_backend_pid() AND datname = current_database()"
)
OURS = (
    "SELECT pid FROM pg_stat_activity WHERE application_name LIKE 'inchworm%' "
    "AND pid <> pg_backend_pid() AND datname = current_database()"
)
APART = 'build = ["mart.apart"]\nretries = '
TABLE = '/*---\nstore = "table"\n---*/\n'


def make_live(program: Program, url: str) -> tuple[Program, str]:
    """Have a pipeline over two tables and a view live, and an outside table that it reads."""
    database = connect(url, root=program.folder)
    database.create_schema("raw")
    database.close()
    execute(
        program,
        url,
        "CREATE TABLE raw.reading (gauge INTEGER, level INTEGER)",
        "INSERT INTO raw.reading VALUES (1, 80), (2, 90)",
    )
    program.write("schemas/raw/schema.toml", 'managed = "outside"\n')
    program.write("schemas/raw/tables.sql", "CREATE TABLE raw.reading (gauge INT, level INT);\n")
    program.write(
        "models/mart/clean.sql",
        '/*---\nstore = "table"\nkey = ["gauge"]\n[columns.level]\nbetween = [0, 500]\n---*/\n'
        "SELECT gauge, level FROM raw.reading\n",
    )
    program.write("models/mart/high.sql", "SELECT gauge FROM mart.clean WHERE level > 85\n")
    program.write("models/mart/total.sql", f"{TABLE}SELECT count(*) AS n FROM mart.high\n")
    program.write("models/mart/apart.sql", f"{TABLE}SELECT max(level) AS top FROM raw.reading\n")
    program.write(
        "pipelines/all.toml",
        '[[steps]]\nname = "first"\nbuild = ["mart.clean", "mart.high"]\n'
        '[[steps]]\nname = "then"\nbuild = ["mart.total"]\nafter = ["first"]\n'
        '[[steps]]\nname = "apart"\nbuild = ["mart.apart"]\n',
    )
    program.promote(program.pack(), "dev")
    return program, url


@pytest.fixture
def live(once: Once, anywhere: tuple[Program, str]) -> tuple[Program, str]:
    """A pipeline that is live in a database of each kind."""
    once(make_live, *anywhere)
    return anywhere


@pytest.fixture
def live_here(once: Once, starter: Program) -> tuple[Program, str]:
    """The same in DuckDB, for what does not depend on the database."""
    once(make_live, starter, DEV)
    return starter, DEV


def execute(program: Program, url: str, *statements: str) -> None:
    database = connect(url, root=program.folder)
    for statement in statements:
        database.execute(statement)
    database.close()


def run(program: Program, name: str, *options: str, code: int | None = 0) -> Answer:
    return program("run", name, "--in", "dev", *options, code=code)


def states(program: Program, run_id: str) -> dict[str, str]:
    recorded = program("history", run_id, "--json").json
    return {f"{s['work']} {s['part']} {s['stage']}": s["state"] for s in recorded["steps"]}


def rows(program: Program, url: str, table: str) -> list[tuple[Any, ...]]:
    return program.ask(url, f"SELECT * FROM mart.{table} ORDER BY 1")


def test_a_pipeline_builds_checks_and_switches_over(live: tuple[Program, str]) -> None:
    program, url = live
    execute(program, url, "INSERT INTO raw.reading VALUES (3, 300)")
    output = run(program, "all").text
    assert "R1 pipeline:all of starter-0.1.0" in output
    assert "live in dev (not protected)" in output
    assert rows(program, url, "clean") == [(1, 80), (2, 90), (3, 300)]
    assert rows(program, url, "total") == [(2,)]
    assert rows(program, url, "apart") == [(300,)]
    assert set(states(program, "R1").values()) == {"done"}
    assert [r["id"] for r in program("history", "--runs", "--json").json["runs"]] == ["R1"]
    assert "pipeline:all" in program("history", "--runs").text
    assert program("drift", "dev").code == 0
    beside = program.ask(url, "SELECT * FROM inchworm.aside WHERE purpose <> 'replaced'")
    assert beside == []


def test_one_model_and_its_neighbours(live_here: tuple[Program, str]) -> None:
    program, url = live_here
    execute(program, url, "INSERT INTO raw.reading VALUES (3, 300)")
    run(program, "mart.total")
    assert rows(program, url, "total") == [(1,)], "upstream was not asked for"
    run(program, "MODEL:mart.total", "--upstream")
    assert rows(program, url, "total") == [(2,)]
    execute(program, url, "INSERT INTO raw.reading VALUES (4, 400)")
    run(program, "mart.clean", "--downstream")
    assert rows(program, url, "total") == [(3,)]
    assert rows(program, url, "apart") == [(90,)]


def test_a_failing_check_leaves_what_is_live_and_holds_back_what_needs_it(
    live: tuple[Program, str],
) -> None:
    program, url = live
    execute(program, url, "INSERT INTO raw.reading VALUES (3, 999)")
    failed = run(program, "all", code=5).text
    assert "partly done R1" in failed
    assert "between 0 and 500: 1 row not" in failed
    assert "3 999" in failed
    assert "rows model:mart.clean --failing --in dev" in failed
    assert rows(program, url, "clean") == [(1, 80), (2, 90)]
    assert rows(program, url, "apart") == [(999,)], "it does not need what failed"
    stood = states(program, "R1")
    assert stood["check model:mart.clean first"] == "failed"
    assert stood["switch over models first"] == "not started"
    assert stood["build model:mart.total then"] == "not started"
    reasons = {s["message"] for s in program("history", "R1", "--json").json["steps"]}
    assert "step 3 (model:mart.clean) failed" in reasons

    execute(program, url, "UPDATE raw.reading SET level = 99 WHERE gauge = 3")
    assert "goes on with R1" in run(program, "all", "--since-failed").text
    assert rows(program, url, "total") == [(2,)]
    assert rows(program, url, "apart") == [(999,)], "its step was done, and is not done again"
    assert "nothing to go on with" in run(program, "all", "--since-failed", code=2).text


def test_lines_of_json_tell_what_happens(live_here: tuple[Program, str]) -> None:
    program, _ = live_here
    lines = [json.loads(line) for line in run(program, "all", "--json").out.splitlines()]
    assert [lines[0]["event"], lines[-1]["event"]] == ["began", "ended"]
    assert lines[-1]["state"] == "done"
    ended = [line for line in lines if line["event"] == "step ended"]
    assert len(ended) == len(lines[0]["steps"]) == 8
    assert next(e for e in ended if e["part"] == "model:mart.clean")["rows"] == 2


def test_what_was_changed_by_hand_is_not_lost(live: tuple[Program, str]) -> None:
    program, url = live
    execute(program, url, "ALTER TABLE mart.apart ADD COLUMN mine INTEGER")
    refused = run(program, "all", code=4).text
    assert "mart.apart" in refused
    assert "inchworm drift dev" in refused
    assert [c.name for c in columns(program, url, "apart")] == ["top", "mine"]
    run(program, "mart.total")
    run(program, "all", "--overwrite")
    assert [c.name for c in columns(program, url, "apart")] == ["top"]


def columns(program: Program, url: str, table: str) -> tuple[Any, ...]:
    database = connect(url, root=program.folder)
    found = database.structure(["mart"])[f"mart.{table}"].columns
    database.close()
    return found


def test_a_run_changes_no_structure(live: tuple[Program, str]) -> None:
    program, url = live
    if "sqlite" in url:
        pytest.skip("columns of SQLite have the type that each value brings along")
    execute(
        program,
        url,
        "DROP TABLE raw.reading",
        "CREATE TABLE raw.reading AS SELECT 1 AS gauge, CAST(7.5 AS DOUBLE PRECISION) AS level",
    )
    refused = run(program, "mart.apart", code=1).text
    assert "mart.apart would have other columns than it has: top is" in refused
    assert rows(program, url, "apart") == [(90,)]


def test_only_what_is_live_runs(live_here: tuple[Program, str]) -> None:
    program, _ = live_here
    program.write("models/mart/later.sql", f"{TABLE}SELECT 1 AS n\n")
    assert "There is no pipeline, model" in run(program, "mart.later", code=2).text
    assert "Did you mean mart.clean?" in run(program, "mart.cleen", code=2).text
    assert "cannot be run" in run(program, "schema:raw", code=2).text
    program.edit("models/mart/clean.sql", "[0, 500]", "[0, 1]")
    run(program, "mart.clean")


def test_nothing_is_live_where_nothing_was_promoted(starter: Program) -> None:
    output = starter("run", "anything", "--in", "dev", code=2).text
    assert "Nothing is live in dev" in output
    assert "inchworm promote BUNDLE --to dev" in output


def test_values_are_shown_and_nothing_runs(live_here: tuple[Program, str]) -> None:
    program, _ = live_here
    matrix = (program.folder / "parameters.toml").read_text()
    program.write("parameters.toml", f'{matrix}\n[least]\ntype = "integer"\nevery = 85\n')
    program.edit("models/mart/high.sql", "85", ":least")
    program.promote(program.pack(), "dev")
    output = run(program, "all", "--values").text
    assert "least 85" in output
    assert "Nothing ran yet" in program("history", "--runs").text


def test_a_protected_environment_asks(live_here: tuple[Program, str]) -> None:
    program, _ = live_here
    text = (program.folder / "environments/dev.toml").read_text()
    program.write("environments/dev.toml", f"protected = true\n{text}")
    assert "say --yes" in run(program, "all", code=2).text
    assert run(program, "all", "--yes").code == 0


def endless(program: Program, url: str) -> Started:
    """A run at work on a step that does not end by itself."""
    execute(program, url, "DELETE FROM raw.reading")
    program.write("models/mart/apart.sql", f"{TABLE}{ENDLESS}\n")
    program.promote(program.pack(), "dev")
    execute(program, url, "INSERT INTO raw.reading VALUES (1, 80)")
    process = program.start("run", "mart.apart", "--in", "dev", "--json")
    assert process.stdout is not None
    for line in process.stdout:
        if json.loads(line)["event"] == "step began":
            break
    return process


@pytest.mark.parametrize("how", [signal.SIGINT, signal.SIGTERM])
def test_a_run_that_is_stopped_leaves_nothing_half_done(
    live: tuple[Program, str], how: signal.Signals
) -> None:
    program, url = live
    process = endless(program, url)
    process.send_signal(how)
    process.communicate(timeout=60)
    assert process.returncode == 130
    recorded = program("history", "R1", "--json").json
    assert recorded["state"] == "stopped"
    assert [s["state"] for s in recorded["steps"]] == ["failed", "not started"]
    assert rows(program, url, "apart") == [(1,)]
    aside = program.ask(url, "SELECT * FROM inchworm.aside WHERE purpose = 'reserved'")
    assert aside == []


def test_a_run_is_stopped_from_elsewhere(live: tuple[Program, str]) -> None:
    """By whoever has its ledger; the record says who it was, and why."""
    program, url = live
    process = endless(program, url)
    stop = ("run", "--stop", "R1", "--because", "it locks the map out")
    told = program(*stop, environ={"INCHWORM_USER": "mira"}).text
    assert "R1: stopped by mira: it locks the map out" in told
    process.communicate(timeout=60)
    assert process.returncode == 130
    recorded = program("history", "R1", "--json").json
    assert recorded["state"] == "stopped"
    assert [step["state"] for step in recorded["steps"]] == ["failed", "not started"]
    assert rows(program, url, "apart") == [(1,)]
    assert program.ask(url, "SELECT * FROM inchworm.aside WHERE purpose = 'reserved'") == []
    assert "R1 is stopped" in program(*stop, code=2).text


def test_a_run_goes_on_when_nobody_reads_its_lines(live_here: tuple[Program, str]) -> None:
    program, _ = live_here
    process = program.start("run", "all", "--in", "dev", "--json")
    assert process.stdout is not None
    process.stdout.close()
    process.wait(60)
    assert program("history", "R1", "--json").json["state"] == "done"


def test_what_cannot_be_carried_along_is_said_before_anything_is_built(
    starter: Program, postgres_url: str
) -> None:
    starter.edit("environments/dev.toml", "duckdb:///.inchworm/dev.duckdb", postgres_url)
    starter.write("models/mart/one.sql", f"{TABLE}SELECT 1 AS n\n")
    starter.promote(starter.pack(), "dev")
    execute(
        starter,
        postgres_url,
        "CREATE VIEW public.seen AS SELECT * FROM mart.one",
        "CREATE MATERIALIZED VIEW public.hers AS SELECT * FROM public.seen",
    )
    refused = run(starter, "mart.one", code=1).text
    assert "materialized view public.hers of river on mart.one cannot be carried along" in refused
    assert "Nothing was built" in refused


def test_two_at_once_one_behind_the_other(live_here: tuple[Program, str]) -> None:
    """Who waits is told for whom; who does not wait is refused."""
    program, _ = live_here
    lock = Lock(program.folder / ".inchworm/locks", "dev")
    with lock.held({"by": "maya", "run": "pipeline:all", "process": 7}):
        refused = run(program, "all", code=4).text
        assert "maya runs pipeline:all (process 7)" in refused
        waiting = program.start("run", "all", "--in", "dev", "--wait", "1m", "--json")
        assert waiting.stdout is not None
        line = json.loads(waiting.stdout.readline())
        assert line["event"] == "waiting"
        assert "maya" in line["because"]
    waiting.communicate(timeout=60)
    assert waiting.returncode == 0


@pytest.mark.parametrize("steps", [1, 2, 3, 5])
def test_a_run_that_is_killed_leaves_nothing_half_done(
    live: tuple[Program, str], steps: int
) -> None:
    program, url = live
    execute(program, url, "INSERT INTO raw.reading VALUES (3, 300)")
    process = program.start("run", "all", "--in", "dev", "--json")
    assert process.stdout is not None
    ended = 0
    while ended < steps and (line := process.stdout.readline()):
        ended += json.loads(line)["event"] == "step ended"
    process.send_signal(signal.SIGKILL)
    process.communicate(timeout=60)
    first_look = program("history", "R1", "--json").json
    assert first_look["state"] in {"broken off", "done"}
    if first_look["state"] == "broken off":
        assert f"its process ({process.pid} on" in first_look["message"]
        (listed,) = program("history", "--runs", "--state", "broken off", "--json").json["runs"]
        assert listed["id"] == "R1"
    assert rows(program, url, "clean") in ([(1, 80), (2, 90)], [(1, 80), (2, 90), (3, 300)])
    assert rows(program, url, "apart") in ([(90,)], [(300,)])
    run(program, "all")
    assert rows(program, url, "clean") == [(1, 80), (2, 90), (3, 300)]
    assert rows(program, url, "total") == [(2,)]
    beside = program.ask(url, "SELECT * FROM inchworm.aside WHERE purpose <> 'replaced'")
    assert beside == []
    assert program("history", "R1", "--json").json["state"] in {"broken off", "done"}
    assert program("drift", "dev").code == 0


@pytest.mark.parametrize(("retries", "killed"), [(0, SLOW), (1, SLOW), (1, OURS)])
def test_a_connection_that_is_killed_ends_no_run_without_a_word(
    once: Once, starter: Program, postgres_url: str, retries: int, killed: str
) -> None:
    """It counts as a failure that may pass: a step that may be tried again is."""
    program, url = starter, postgres_url
    program.edit("environments/dev.toml", DEV, url)
    once(make_live, program, url)
    program.write("models/mart/apart.sql", f"{TABLE}{ENDLESS}\n")
    program.edit("pipelines/all.toml", 'build = ["mart.apart"]', f"{APART}{retries}")
    execute(program, url, "DELETE FROM raw.reading")
    program.promote(program.pack(), "dev")
    execute(program, url, "INSERT INTO raw.reading VALUES (1, 80)")

    def kill() -> None:
        database = connect(url, root=program.folder)
        while not database.rows(f"SELECT 1 FROM ({SLOW}) AS slow"):
            time.sleep(0.02)
        database.execute("DELETE FROM raw.reading")
        database.rows(f"SELECT pg_terminate_backend(pid) FROM ({killed}) AS slow")
        database.close()

    killer = threading.Thread(target=kill)
    killer.start()
    run(program, "all", "--json", code=None)
    killer.join()
    recorded = program("history", "R1", "--json").json
    (step,) = [
        s for s in recorded["steps"] if (s["part"], s["work"]) == ("model:mart.apart", "build")
    ]
    words = f"{step['message']} {step['log']}"
    assert "does not answer any more: terminating connection" in words
    assert "promotion" not in words
    assert step["state"] == ("done" if retries else "failed")
    assert recorded["state"] in ({"done", "partly done"} if retries else {"partly done"})
    assert program.ask(url, "SELECT * FROM inchworm.aside WHERE purpose <> 'replaced'") == []


def test_a_clone_without_the_bundle_is_told_how_to_get_it(river: Program) -> None:
    river.pack()
    river.promote("riverwatch-1.4.0", "dev")
    shutil.rmtree(river.folder / ".inchworm/bundles")
    output = river("run", "nightly", "--in", "dev", code=1).text
    assert "riverwatch-1.4.0 is live in dev, and is not in the bundle store here" in output
    commit = output.partition("git checkout ")[2].split()[0]
    river.git("checkout", "--quiet", commit)
    river("pack")
    assert river("run", "hydro.gauge", "--in", "dev").code == 0


def test_a_promotion_that_stopped_builds_again_what_a_run_has_refreshed(
    live: tuple[Program, str],
) -> None:
    """Otherwise it would put back rows from before the run, and lose those that came."""
    program, url = live
    program.edit("models/mart/clean.sql", "SELECT gauge, level", "SELECT gauge, level, 1 AS more")
    program.edit("models/mart/high.sql", "> 85", "> 86")
    slow = "(WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < "
    program.edit(
        "models/mart/total.sql",
        "count(*) AS n",
        f"count(*) + {slow}(SELECT 500000000 * sum(level) FROM raw.reading WHERE gauge = 9)) "
        "SELECT 0 * max(i) FROM n) AS n",
    )
    bundle = program.pack()
    execute(program, url, "INSERT INTO raw.reading VALUES (9, 400)")
    process = program.start("promote", bundle, "--to", "dev", "--yes")
    assert process.stdout is not None
    for line in process.stdout:
        if "model:mart.high" in line and "done" in line:
            break
    process.send_signal(signal.SIGINT)
    process.communicate(timeout=60)
    execute(program, url, "DELETE FROM raw.reading WHERE gauge = 9")
    run(program, "all")
    assert rows(program, url, "clean") == [(1, 80), (2, 90)]
    program("promote", "P2", "--yes")
    assert rows(program, url, "clean") == [(1, 80, 1), (2, 90, 1)]
    assert rows(program, url, "total") == [(1,)]
    assert program("drift", "dev").code == 0


@pytest.mark.parametrize("limited", ["step", "run"])
def test_what_takes_too_long_is_ended(live: tuple[Program, str], limited: str) -> None:
    program, url = live
    execute(program, url, "DELETE FROM raw.reading")
    program.write("models/mart/apart.sql", f"{TABLE}{ENDLESS}\n")
    program.write("models/mart/later.sql", f"{TABLE}SELECT top FROM mart.apart\n")
    whole, step = ('timeout = "2s"\n', "") if limited == "run" else ("", 'timeout = "1s"\n')
    program.write(
        "pipelines/all.toml",
        f'{whole}[[steps]]\nname = "slow"\nbuild = ["mart.apart"]\n{step}'
        '[[steps]]\nname = "after"\nbuild = ["mart.later"]\nafter = ["slow"]\n'
        '[[steps]]\nname = "clean"\nbuild = ["mart.clean"]\n',
    )
    program.promote(program.pack(), "dev")
    execute(program, url, "INSERT INTO raw.reading VALUES (1, 80)")
    answer = run(program, "all", code=None)
    assert answer.code in {1, 5}
    output = answer.text
    assert "than 1 s, and was ended" in output or "than 2 s, and was ended" in output
    stood = states(program, "R1")
    assert stood["build model:mart.apart slow"] == "failed"
    assert stood["build model:mart.later after"] == "not started"
    assert rows(program, url, "apart") == [(1,)]
    if limited == "step" or "sqlite" not in url:  # which does one thing after the other
        assert rows(program, url, "clean") == [(1, 80)]


@pytest.mark.long
def test_a_step_may_take_only_so_much_memory(live_here: tuple[Program, str]) -> None:
    """The database keeps to it: the step fails, and others have what they need."""
    program, url = live_here
    hungry = "SELECT max(h) AS top FROM (SELECT list(hash(a.i) ORDER BY hash(b.i)) AS h FROM "
    hungry += "range(1000) a(i), range(4000) b(i) WHERE EXISTS (SELECT 1 FROM raw.reading))"
    execute(program, url, "DELETE FROM raw.reading")
    program.write("models/mart/apart.sql", f"{TABLE}{hungry}\n")
    matrix = (program.folder / "parameters.toml").read_text()
    program.write("parameters.toml", f'{matrix}\n[little]\ntype = "text"\nevery = "20 MB"\n')
    program.write(
        "pipelines/all.toml",
        '[[steps]]\nname = "hungry"\nbuild = ["mart.apart"]\nmemory = "${little}"\n'
        '[[steps]]\nname = "then"\nbuild = ["mart.clean"]\n',
    )
    program.edit("environments/dev.toml", "[workspace]", "threads = 1\n\n[workspace]")
    program.promote(program.pack(), "dev")
    execute(program, url, "INSERT INTO raw.reading VALUES (1, 80)")
    assert "Out of Memory" in run(program, "all", code=5).text
    assert states(program, "R1")["build model:mart.apart hungry"] == "failed"
    assert rows(program, url, "clean") == [(1, 80)]
    program.edit("parameters.toml", "20 MB", "2 GB")
    program.promote(program.pack(), "dev")
    run(program, "all")


# ---- views ---------------------------------------------------------------------------------------


def test_a_view_with_the_day_in_it_is_renewed_by_runs(
    anywhere: tuple[Program, str], monkeypatch: pytest.MonkeyPatch
) -> None:
    """Of what reads it, too; nobody takes that for a change made by hand."""
    program, url = anywhere
    parameters = (program.folder / "parameters.toml").read_text()
    program.write("parameters.toml", f'{parameters}[day]\ntype = "date"\nevery = "today"\n')
    program.write("models/report/day.sql", "SELECT CAST(:day AS TEXT) AS day")
    program.write("models/report/shown.sql", "SELECT day FROM report.day")
    program.write("models/report/reader.sql", f"{TABLE}SELECT day FROM report.shown")
    program.promote(program.pack(), "dev")
    drafted = program("hold", "report.reader", "--in", "dev", "--because", "b", "--draft", "--json")
    tomorrow = process.clock() + dt.timedelta(days=1)
    monkeypatch.setattr(process, "clock", lambda: tomorrow)
    for _ in range(2):
        program("run", "report.reader", "--in", "dev", "--yes")
        for name in ("day", "shown", "reader"):
            shown = program.ask(url, f"SELECT day FROM report.{name}")
            assert shown == [(tomorrow.date().isoformat(),)], name
    assert program("drift", "dev", "--json").json["drifted"] == []
    assert program("promote", drafted.json["id"], "--yes", "--json").json["state"] == "done"


def test_a_checked_view_is_checked_whenever_a_run_depends_on_it(
    anywhere: tuple[Program, str],
) -> None:
    """A key that does not hold any more keeps the tables below it from going live."""
    program, url = anywhere
    big = f"{TABLE}SELECT place, amount FROM ops.measurement WHERE amount > 3"
    program.write("models/report/big.sql", big)
    key = "/*---\nkey = ['place']\n---*/\nSELECT place, amount FROM report.big"
    program.write("models/report/one.sql", key)
    program.promote(program.pack(), "dev")
    program.ask(url, "INSERT INTO ops.measurement VALUES ('south', '2026-03-01', 8)", "SELECT 1")
    failed = program("run", "report.big", "--in", "dev", "--yes", code=1)
    assert "report.one" in failed.text
    assert len(program.ask(url, "SELECT * FROM report.big")) == 2
