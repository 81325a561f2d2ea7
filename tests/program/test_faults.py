"""What happens when something breaks: nothing is lost, nothing runs twice, and it can go on."""

from __future__ import annotations

import os
import shutil
import signal
import time
from contextlib import closing
from pathlib import Path
from typing import Any

import duckdb
import pytest

from inchworm.core.identifiers import Kind, PartId
from inchworm.store.ledger import Ledger
from inchworm.store.ledgers.sqlite import SqliteLedger
from inchworm.targets.http_services import connect_service
from tests.driver import Program, interrupt
from tests.program.crash import die

BUNDLE = "riverwatch-1.4.0"
REPOSITORY = Path(__file__).parents[2]


def state_of(program: Program, environment: str) -> dict[str, Any]:
    """Everything that a promotion leaves behind, without times."""
    with duckdb.connect(str(program.folder / f"data/river_{environment}.duckdb")) as database:

        def asked(sql: str) -> list[tuple[Any, ...]]:
            rows: list[tuple[Any, ...]] = database.execute(sql).fetchall()
            return rows

        tables = asked(
            "SELECT table_schema || '.' || table_name FROM information_schema.tables "
            "WHERE table_schema <> 'inchworm' ORDER BY 1"
        )
        rows = {
            name: asked(f"SELECT count(*), sum(hash(t)) FROM {name} AS t") for (name,) in tables
        }
        parts = asked("SELECT part, digest, bundle FROM inchworm.parts ORDER BY 1")
        ran = asked("SELECT name, count(*) FROM inchworm.migrations GROUP BY 1")
    service = connect_service(f"sim:{environment}", program.folder)
    return {
        "rows": rows,
        "parts": parts,
        "migrations": sorted(ran),
        "items": service.items(),
        "schedules": service.schedules(),
    }


@pytest.mark.long
def test_a_promotion_killed_at_every_step_ends_as_an_undisturbed_one(
    released: Program, tmp_path: Path
) -> None:
    """It dies again and again, each time one step further, before or after the step's effect."""
    released.write(
        "schemas/ops/migrations/0004_more.sql",
        "INSERT INTO ops.threshold SELECT gauge_id, 'severe', from_cm * 1.2 FROM ops.threshold "
        "WHERE state = 'flood';",
    )
    released.edit("models/hydro/level_trend.sql", "mean_cm - lag", "1.0 * mean_cm - lag")
    # one at a time: beside each other, a step may be over before it is its turn to be killed
    released.edit("environments/test.toml", "[databases.main]", "[databases.main]\nthreads = 1")
    name = released.release("1.4.1")
    released.promote(name, "dev")
    undisturbed = Program(tmp_path / "undisturbed")
    shutil.copytree(released.folder, undisturbed.folder)
    assert undisturbed.promote(name, "test").json["state"] == "done"
    drafted = released("promote", name, "--to", "test", "--draft", "--json").json
    for step in drafted["steps"]:
        moment = "before" if step["number"] % 2 else "after"
        die(released, drafted["id"], f"{moment}:{step['number']}")
        assert released("history", drafted["id"], "--json").json["state"] == "running"
    assert f"in test. Go on: inchworm promote {drafted['id']}" in released("status").text
    ended = released("promote", drafted["id"], "--yes", "--json").json
    assert ended["state"] == "done"
    assert {step["state"] for step in ended["steps"]} == {"done"}
    assert state_of(released, "test") == state_of(undisturbed, "test")


def test_ctrl_c_says_where_it_stopped_and_goes_on(released: Program) -> None:
    """In the middle of a build; going on carries out that step and the rest."""
    many = "(SELECT 2000000000 * count(*) FROM raw.reading WHERE quality = 'slow')"
    slow = f"WHERE (SELECT count(sin(i)) FROM range({many}) AS r(i)) IS NOT NULL AND"
    released.query("dev", "INSERT INTO raw.reading VALUES (1, '2026-11-01 00:10', 100, 'slow')")
    released.edit("models/hydro/hourly_level.sql", "GROUP BY 1, 2", f"{slow} true GROUP BY 1, 2")
    name = released.release("1.4.1")
    process = released.start("promote", name, "--to", "dev", "--yes")
    ledger = Ledger(SqliteLedger(released.folder / ".inchworm/ledger.sqlite"), now=str, by="test")
    while not [*ledger.entries(kind="step", about="P3")]:
        assert process.poll() is None, process.communicate()
        time.sleep(0.05)
    assert "model:hydro.hourly_level running" in released("history", "P3").text
    status = released("status", code=None).text
    assert f"in dev: lena promotes P3 (process {process.pid}) just now" in status
    assert "Go on" not in status
    (unfinished,) = released("status", "--json", code=None).json["unfinished"]
    assert unfinished["at_work"] == f"lena promotes P3 (process {process.pid})"
    code, printed = interrupt(process)
    promotion = released("history", "--json").json["promotions"][0]
    assert code == 130, printed
    assert promotion["state"] == "failed"
    assert "stopped by lena at step" in promotion["message"]
    assert "inchworm promote P3" in printed
    assert "Go on: inchworm promote P3" in released("status").text
    (unfinished,) = released("status", "--json").json["unfinished"]
    assert (unfinished["state"], unfinished["at_work"]) == ("failed", None)
    released.query("dev", "DELETE FROM raw.reading WHERE quality = 'slow'")
    assert released("promote", "P3", "--yes", "--json").json["state"] == "done"


def test_a_refused_flow_makes_the_promotion_partly_done(river: Program) -> None:
    """Exit code 1, which and why; everything else is in place, and going on does the rest."""
    river.pack()
    river("sim", "refuse", "dev", "publish_warnings", "--because", "The board is closed.")
    document = river.promote(BUNDLE, "dev", code=5).json
    states = {s["part"]: s["state"] for s in document["steps"] if s["phase"] == "deliver"}
    assert document["state"] == "partly done"
    assert states.pop("flow:publish_warnings") == "failed"
    assert set(states.values()) == {"done"}
    status = river("status", "dev").text
    assert "partly done P1" in status
    assert "refused The board is closed." in status
    text = river("promote", "P1", "--yes", code=5).text
    assert "failed flow:publish_warnings: the gateway refuses to activate it: The board" in text
    assert river("promote", BUNDLE, "--to", "test", "--yes", code=3).err
    river("sim", "refuse", "dev", "publish_warnings", "--no-more")
    assert river("promote", "P1", "--yes", "--json").json["state"] == "done"
    assert river.promote(BUNDLE, "dev").json["state"] == "nothing to do"


@pytest.mark.long
def test_a_schedule_that_cannot_run_again_is_said(released: Program) -> None:
    """The promotion ends *failed* all the same, and says which schedule is still paused."""
    released.promote(BUNDLE, "prod")
    service = connect_service("sim:prod", released.folder)
    assert service.schedules()["nightly.nightly"] == "on"
    service.set_fault("set nightly.nightly on", "Down for the night.")
    released.edit("models/hydro/reading_clean.sql", "'hand' AS source", "lower('hand') AS source")
    name = released.release("1.4.1")
    for environment in ("dev", "test"):
        released.promote(name, environment)
    released.query("prod", "INSERT INTO raw.reading VALUES (1, '2026-11-01 00:10', -500, 'good')")
    failed = released.promote(name, "prod", code=1).json
    assert failed["state"] == "failed"
    assert "still paused: pipeline:nightly nightly, because the service" in failed["message"]
    assert service.schedules()["nightly.nightly"] == "paused"
    service.set_fault("set nightly.nightly on", None)
    service.close()


def test_a_closed_output_pipe_stops_no_promotion(released: Program) -> None:
    """Whoever read the output has seen enough; what was promised is done all the same."""
    process = released.start("promote", BUNDLE, "--to", "prod", "--yes")
    assert process.stdout is not None
    process.stdout.readline()
    process.stdout.close()
    process.wait(timeout=120)
    promotion = released("history", "--json").json["promotions"][0]
    assert (promotion["environment"], promotion["state"]) == ("prod", "done")
    service = connect_service("sim:prod", released.folder)
    assert "paused" not in service.schedules().values()
    service.close()


def test_a_failed_check_can_be_mended_and_gone_on_from(released: Program) -> None:
    """The same promotion builds again what it had thrown away, and nothing that was done before."""
    released.query("dev", "INSERT INTO raw.reading VALUES (1, '2026-11-01 00:10', -500, 'good')")
    released.write(
        "schemas/ops/migrations/0004_more.sql", "INSERT INTO ops.threshold VALUES (1, 'x', 1);"
    )
    released.edit("models/hydro/reading_clean.sql", "'hand' AS source", "lower('hand') AS source")
    document = released.promote(released.release("1.4.1"), "dev", code=1).json
    assert document["state"] == "failed"
    assert "these migrations ran and stay: 0004_more" in document["message"]
    assert "failed P3" in released("status", "dev").text
    assert released.query("dev", "SELECT count(*) FROM hydro.reading_clean WHERE level_cm < 0") == [
        (0,)
    ]
    released.query("dev", "DELETE FROM raw.reading WHERE level_cm = -500")
    assert released("promote", "P3", "--yes", "--json").json["state"] == "done"
    assert released.query("dev", "SELECT count(*) FROM ops.threshold WHERE state = 'x'") == [(1,)]


def test_a_service_that_fails_does_not_stop_the_others(river: Program) -> None:
    """Each item is told by itself; going on does only what is left."""
    river.pack()
    service = connect_service("sim:dev", river.folder)
    service.set_fault("put notebook:level_forecast", "The disk is full.")
    document = river.promote(BUNDLE, "dev", code=5).json
    failed = {s["part"]: s["message"] for s in document["steps"] if s["state"] == "failed"}
    assert document["state"] == "partly done"
    assert list(failed) == ["notebook:level_forecast"]
    assert "503: The disk is full." in failed["notebook:level_forecast"]
    assert PartId(Kind.PIPELINE, "nightly") in service.items()
    service.set_fault("put notebook:level_forecast", None)
    assert river("promote", "P1", "--yes", "--json").json["state"] == "done"
    assert river("status", "dev", "--json").json["environments"][0]["drifted"] == 0


def test_a_locked_database_is_named_and_left_alone(released: Program) -> None:
    """Exit code 4, and by whom; status says it of that environment only."""
    with duckdb.connect(str(released.folder / "data/river_prod.duckdb")):
        answer = released.process("promote", BUNDLE, "--to", "prod", "--yes", code=4)
        assert f"locked by another process (process {os.getpid()})" in answer.err
        status = released.process("status", code=1).text
    assert "prod: the database river_prod.duckdb is locked" in status
    assert "test not protected riverwatch-1.4.0" in status


def test_only_one_promotion_at_a_time_goes_into_an_environment(released: Program) -> None:
    """The second one is told who is at work; the first one ends well."""
    released("promote", BUNDLE, "--to", "prod", "--draft")
    process = released.start("promote", "P3", "--yes")
    holder = released.folder / ".inchworm/locks/prod.holder.json"
    while not (holder.exists() and holder.read_text()):
        assert process.poll() is None, process.communicate()
        time.sleep(0.01)
    process.send_signal(signal.SIGSTOP)
    answer = released("promote", "P3", "--yes", code=4)
    process.send_signal(signal.SIGCONT)
    out, _ = process.communicate(timeout=60)
    assert "prod is locked: lena promotes P3" in answer.err
    assert "done  P3" in out


def test_a_stopped_promotion_does_not_go_on_over_a_later_one(released: Program) -> None:
    """Somebody else went there in the meantime."""
    released.edit("models/hydro/level_trend.sql", "mean_cm - lag", "1.0 * mean_cm - lag")
    name = released.release("1.4.1")
    released("promote", name, "--to", "dev", "--draft")
    die(released, "P3", "before:3")
    released.promote(BUNDLE, "dev")
    released.promote(name, "dev")
    answer = released("promote", "P3", "--yes", code=4)
    assert "went into dev after P3 stopped" in answer.err


@pytest.mark.parametrize(
    ("old", "new", "says"),
    [
        ("duckdb:///data/river_dev.duckdb", "duckdb:///inchworm.toml", "inchworm.toml"),
        ("duckdb:///data/river_dev.duckdb", "oracle://x", "no adapter"),
        ('[gateway]\nurl = "sim:dev"', '[gateway]\nurl = "http://127.0.0.1:9"', "127.0.0.1:9"),
        ('[gateway]\nurl = "sim:dev"', '[gateway]\nurl = "somewhere"', "no service at"),
    ],
    ids=["no database", "no adapter", "nobody listens", "no address"],
)
def test_a_target_that_cannot_be_reached(river: Program, old: str, new: str, says: str) -> None:
    """Nothing is drafted, and the message says which and what to do."""
    river.edit("environments/dev.toml", old, new)
    answer = river.promote(river.pack(), "dev", code=1)
    assert says in answer.err
    assert "next" in answer.err


def test_a_secret_is_asked_for_where_it_is_used(river: Program) -> None:
    """By the gateway, which refuses what it cannot run; the machine that drafts may lack it."""
    river.pack()
    secret = river.folder / ".secrets/notice_token.dev"
    secret.chmod(0o644)
    partly = river.promote(BUNDLE, "dev", code=5).json
    assert partly["state"] == "partly done"
    (failed,) = [s for s in partly["steps"] if s["state"] == "failed"]
    assert failed["part"] == "flow:publish_warnings"
    assert "others may use the file" in failed["message"]
    assert "others may use the file" in river("doctor", "dev", code=1).text
    secret.chmod(0o600)
    assert river("promote", partly["id"], "--yes").code == 0


def test_a_secret_of_the_environment_itself_stops_the_draft(river: Program) -> None:
    """Before any step: without it the environment cannot be reached."""
    token = '[workspace]\ntoken = "${notice_token}"'
    river.edit("environments/dev.toml", "[workspace]", token)
    bundle = river.pack()
    (river.folder / ".secrets/notice_token.dev").unlink()
    assert "notice_token.dev cannot be read" in river.promote(bundle, "dev", code=1).err
    assert river("history", "--json").json["promotions"] == []


def test_no_secret_is_written_anywhere_but_where_it_is_kept(released: Program) -> None:
    """Not into bundles, ledger, services, databases or output."""
    printed = released.promote(BUNDLE, "prod")
    secret = b"made-up-token-of-"
    found = [
        path
        for path in released.folder.rglob("*")
        if path.is_file() and secret in path.read_bytes() and ".secrets" not in path.parts
    ]
    assert found == []
    assert secret.decode() not in printed.out + printed.err


def test_an_altered_ledger_does_not_go_unnoticed(released: Program) -> None:
    """The entry is named."""
    import sqlite3

    with sqlite3.connect(released.folder / ".inchworm/ledger.sqlite") as connection:
        connection.execute("UPDATE entries SET by = 'nobody' WHERE number = 5")
    assert "entry 5 was altered" in released("history", code=1).err


@pytest.mark.parametrize(("given", "meant"), [("tset", "test"), ("prd", "prod")])
def test_an_unknown_environment(released: Program, given: str, meant: str) -> None:
    """The nearest one is offered; case does not count."""
    answer = released("promote", BUNDLE, "--to", given, code=2)
    assert f"There is no environment {given}" in answer.err
    assert f"Did you mean {meant}?" in answer.err
    assert released.promote(BUNDLE, "TEST").json["state"] == "nothing to do"


def test_errors_are_machine_readable_too(released: Program) -> None:
    """With --json standard output is JSON, whatever happens."""
    error = released("promote", BUNDLE, "--to", "nowhere", "--json", code=2).json
    assert error["format"] == "inchworm/error/1"
    assert set(error["error"]) == {"what", "where", "next"}


def fault(program: Program, environment: str, target: str, reason: str | None) -> None:
    """Have a simulated service behave otherwise."""
    with closing(connect_service(f"sim:{environment}", program.folder, None, None)) as service:
        service.set_fault(target, reason)


def test_a_flow_that_starts_is_waited_for(river: Program) -> None:
    """Its own state decides: an answer that it was accepted is not enough."""
    river.pack()
    fault(river, "dev", "starting flow:publish_warnings", "2")
    document = river.promote(BUNDLE, "dev").json
    (step,) = [s for s in document["steps"] if s["part"] == "flow:publish_warnings"]
    assert (step["state"], step["message"]) == ("done", "active")
    status = river("status", "dev").text
    assert "flow:publish_warnings active" in status


@pytest.mark.parametrize(
    ("looks", "message"),
    [("1 it broke", "it is failed: it broke"), ("99", "it is starting: still, after 1s")],
)
def test_a_flow_that_does_not_start_is_not_active(river: Program, looks: str, message: str) -> None:
    """It failed, or the time is over."""
    river.pack()
    river.edit("environments/dev.toml", "[gateway]", '[gateway]\nwaits = "1s"')
    fault(river, "dev", "starting flow:publish_warnings", looks)
    document = river.promote(BUNDLE, "dev", code=5).json
    (step,) = [s for s in document["steps"] if s["part"] == "flow:publish_warnings"]
    assert (step["state"], step["message"]) == ("failed", message)
    fault(river, "dev", "starting flow:publish_warnings", None)
    assert river("promote", document["id"], "--yes", "--json").json["state"] == "done"
