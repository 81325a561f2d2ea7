"""What somebody changed by hand in an environment: all of it is seen, and none of it is undone."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import psycopg
import pytest

from inchworm.sim.store import SimStore
from tests.driver import Program
from tests.once import Once

DEV = "duckdb:///.inchworm/dev.duckdb"
MODEL = "models/report/daily_total.sql"


@pytest.fixture
def live(once: Once, anywhere: tuple[Program, str]) -> tuple[Program, str]:
    """A new project that is live in a database of each kind; its schedule is on."""
    once(_make_live, *anywhere)
    return anywhere


def _make_live(program: Program, url: str) -> None:
    program.edit("environments/dev.toml", 'default = "off"', 'default = "on"')
    program.promote(program.pack(), "dev")


@pytest.fixture
def served(once: Once, starter: Program, postgres_url: str) -> tuple[Program, str]:
    """A new project in PostgreSQL's dialect that is live there."""
    once(_serve, starter, postgres_url)
    return starter, postgres_url


def _serve(program: Program, url: str) -> None:
    program.edit("inchworm.toml", '"duckdb"', '"postgres"')
    program.edit("environments/dev.toml", DEV, url)
    program.promote(program.pack(), "dev")


def change(program: Program, factor: int) -> str:
    """A bundle in which the model is another one."""
    sql = f"/*---\nstore = 'table'\n---*/\nSELECT day, {factor} * amount AS total\n"
    program.write(MODEL, f"{sql}FROM ops.measurement WHERE day >= :oldest_day")
    return program.pack()


def drifted(program: Program) -> set[str]:
    """What differs in development, with the word for how."""
    answer = program("drift", "dev", "--json", code=None).json
    return {f"{d['what']} {d['item']}" for each in answer["drifted"] for d in each["differences"]}


# ---- schedules and flows -------------------------------------------------------------------------


def schedule(program: Program) -> str:
    """The state of the schedule in development."""
    document = program("status", "--json", code=None).json
    return str(document["environments"][0]["schedules"]["daily.morning"])


def test_a_schedule_switched_off_in_an_incident_stays_off(live: tuple[Program, str]) -> None:
    """Through promotions that have to do with it, too, until its resumption is asked for."""
    program, _ = live
    workspace = SimStore(program.folder / ".inchworm/sim/dev.sqlite")
    assert schedule(program) == "on"
    workspace.set_schedule("daily", "morning", "off")
    assert drifted(program) == {"changed schedule daily.morning"}
    for factor in (2, 3):
        done = program.promote(change(program, factor), "dev").json
        assert done["state"] == "done"
        assert {s["phase"] for s in done["steps"]}.isdisjoint({"pause", "resume"})
        (finding,) = [f for f in done["findings"] if f["rule"] == "promotion/switched-by-hand"]
        assert "the schedule morning was switched off by hand after 20" in finding["message"]
        assert finding["remedy"] == "If it is to run again: --resume morning."
        assert schedule(program) == "off"
        assert drifted(program) == {"changed schedule daily.morning"}
    bundle = program.pack()
    wrong = program("promote", bundle, "--to", "dev", "--yes", "--resume", "mornin", code=2)
    assert "Did you mean morning?" in wrong.err
    on = program("promote", bundle, "--to", "dev", "--yes", "--resume", "morning", "--json").json
    (step,) = [s for s in on["steps"] if s["phase"] == "resume"]
    assert step["action"] == "switch on"
    assert step["reason"].startswith("was switched off by hand since 20")
    assert (schedule(program), drifted(program)) == ("on", set())
    assert program.promote(change(program, 4), "dev").json["state"] == "done"
    assert schedule(program) == "on"


def test_a_flow_stopped_in_an_incident_stays_stopped(released: Program) -> None:
    """By a promotion that has nothing to do with it."""
    gateway = SimStore(next(released.folder.glob(".inchworm/sim/*dev*")))
    item = gateway.item("flow", "publish_warnings")
    assert item is not None
    gateway.put(item | {"state": "stopped"})
    assert drifted(released) == {"changed state of flow:publish_warnings"}
    released.edit("models/hydro/daily_peak.sql", "SELECT", "SELECT 1 AS one,")
    bundle = released.release("1.4.1")
    done = released.promote(bundle, "dev").json
    assert done["state"] == "done"
    assert "promotion/switched-by-hand" in {f["rule"] for f in done["findings"]}
    stopped = gateway.item("flow", "publish_warnings")
    assert stopped is not None
    assert stopped["state"] == "stopped"
    program = ("promote", bundle, "--to", "dev", "--yes", "--resume", "publish_warnings")
    assert released(*program).code == 0
    running = gateway.item("flow", "publish_warnings")
    assert running is not None
    assert running["state"] == "active"
    assert drifted(released) == set()


# ---- missing tables ------------------------------------------------------------------------------


def test_a_dropped_table_can_be_put_back_empty(live: tuple[Program, str]) -> None:
    """As it was recorded, with its index; only where that was asked for."""
    program, url = live
    program.write(
        "schemas/ops/migrations/0002_note.sql",
        "CREATE TABLE ops.note (id INTEGER PRIMARY KEY, text VARCHAR(20) NOT NULL);\n"
        + ("" if url.startswith("sqlite") else "CREATE INDEX by_text ON ops.note (text);"),
    )
    bundle = program.pack()
    program.promote(bundle, "dev")
    program.ask(url, "INSERT INTO ops.note VALUES (1, 'gone')", "SELECT 1")
    program.ask(url, "DROP TABLE ops.note", "SELECT 1")
    other = change(program, 3)
    refused = program.promote(other, "dev", code=1).json
    assert (
        "--put-back" in next(f for f in refused["findings"] if f["severity"] == "error")["remedy"]
    )
    done = program("promote", other, "--to", "dev", "--yes", "--put-back", "--json").json
    assert done["state"] == "done"
    (step,) = [s for s in done["steps"] if s["phase"] == "put back"]
    assert (step["part"], step["reason"]) == (
        "schema:ops",
        "ops.note is missing; made again, empty",
    )
    assert step["message"].endswith("made again, without rows")
    assert program.ask(url, "SELECT count(*) FROM ops.note") == [(0,)]
    assert drifted(program) == set()


# ---- whatever the database can tell --------------------------------------------------------------

SURROUNDINGS = {
    "unknown routine ops.twice(x integer)": (
        "CREATE FUNCTION ops.twice(x integer) RETURNS integer LANGUAGE sql AS 'SELECT 2 * x'"
    ),
    "unknown trigger ops.measurement.audit": (
        "CREATE TRIGGER audit BEFORE UPDATE ON ops.measurement FOR EACH ROW "
        "EXECUTE FUNCTION suppress_redundant_updates_trigger()"
    ),
    "unknown policy ops.measurement.few": (
        "CREATE POLICY few ON ops.measurement FOR SELECT TO PUBLIC USING (amount < 5)"
    ),
    "unknown options ops.measurement": "ALTER TABLE ops.measurement ENABLE ROW LEVEL SECURITY",
    "unknown rights ops.measurement to reader": "GRANT SELECT ON ops.measurement TO reader",
    "unknown rights ops.measurement.day to reader": (
        "GRANT UPDATE (day) ON ops.measurement TO reader"
    ),
    "unknown rights ops.(schema) to reader": "GRANT USAGE ON SCHEMA ops TO reader",
    "changed owner ops.measurement": "ALTER TABLE ops.measurement OWNER TO reader",
    "unknown index ops.by_day": "CREATE INDEX by_day ON ops.measurement (day)",
    "unknown comment ops.measurement": "COMMENT ON TABLE ops.measurement IS 'by hand'",
    "changed table ops.measurement": (
        'ALTER TABLE ops.measurement ALTER COLUMN place TYPE text COLLATE "C"'
    ),
    "unknown index report.by_total": "CREATE INDEX by_total ON report.daily_total (total)",
    "unknown rights report.daily_total to reader": "GRANT SELECT ON report.daily_total TO reader",
    "unknown trigger report.daily_total.audit": (
        "CREATE TRIGGER audit BEFORE UPDATE ON report.daily_total FOR EACH ROW "
        "EXECUTE FUNCTION suppress_redundant_updates_trigger()"
    ),
    "unknown comment report.daily_total.day": (
        "COMMENT ON COLUMN report.daily_total.day IS 'by hand'"
    ),
}


@pytest.fixture
def reader(served: tuple[Program, str]) -> tuple[Program, psycopg.Connection[tuple[object, ...]]]:
    """A project that is live in PostgreSQL, and a connection to that, with a role for tests."""
    program, url = served
    connection = psycopg.connect(url, autocommit=True)
    connection.execute(
        "DO $$ BEGIN CREATE ROLE reader; EXCEPTION WHEN duplicate_object THEN NULL; END $$"
    )
    return program, connection


@pytest.mark.parametrize("what", SURROUNDINGS)
def test_everything_that_the_server_tells_is_seen_and_remembered(
    reader: tuple[Program, psycopg.Connection[tuple[object, ...]]], what: str
) -> None:
    """After unrelated promotions, too; and a promotion of what it hangs on carries it along."""
    program, server = reader
    server.execute(SURROUNDINGS[what].encode())
    assert drifted(program) == {what}
    program.write("models/report/other.sql", "SELECT 1 AS one")
    done = program.promote(program.pack(), "dev").json
    assert done["state"] == "done"
    assert any(what.partition(" ")[2] in f["message"] for f in done["findings"])
    assert drifted(program) == {what}
    if " report." in what:
        for factor in (3, 4):
            assert program.promote(change(program, factor), "dev").json["state"] == "done"
            assert drifted(program) == {what}


def moved(program: Program) -> None:
    """Promote the model under another name."""
    text = (program.folder / MODEL).read_text()
    (program.folder / MODEL).unlink()
    named = text.replace("store =", "moved_from = 'report.daily_total'\nstore =")
    program.write("models/report/per_day.sql", named)
    program.edit("pipelines/daily.toml", "report.daily_total", "report.per_day")
    assert program.promote(program.pack(), "dev").json["state"] == "done"


HANDED_ON = {
    "rights report.{} to reader": (
        "GRANT SELECT ON report.daily_total TO reader",
        "REVOKE SELECT ON report.daily_total FROM reader",
    ),
    "rights report.{}.day to reader": (
        "GRANT UPDATE (day) ON report.daily_total TO reader",
        "REVOKE UPDATE (day) ON report.daily_total FROM reader",
    ),
    "comment report.{}.day": (
        "COMMENT ON COLUMN report.daily_total.day IS 'by hand'",
        "COMMENT ON COLUMN report.daily_total.day IS NULL",
    ),
}


@pytest.mark.parametrize("what", HANDED_ON)
def test_what_a_model_hands_on_to_its_new_name_stays_as_it_was(
    reader: tuple[Program, psycopg.Connection[tuple[object, ...]]], what: str
) -> None:
    """What somebody gave by hand is still theirs, under the new name too."""
    program, server = reader
    server.execute(HANDED_ON[what][0].encode())
    assert drifted(program) == {f"unknown {what.format('daily_total')}"}
    moved(program)
    assert drifted(program) == {f"unknown {what.format('per_day')}"}
    program.write("models/report/other.sql", "SELECT 1 AS one")
    program.promote(program.pack(), "dev")
    assert drifted(program) == {f"unknown {what.format('per_day')}"}


@pytest.mark.parametrize("what", HANDED_ON)
def test_what_was_taken_away_is_missed_under_the_new_name(
    reader: tuple[Program, psycopg.Connection[tuple[object, ...]]], what: str
) -> None:
    """And what was there before the first record is given, under both names."""
    program, server = reader
    server.execute(HANDED_ON[what][0].encode())
    server.execute("UPDATE inchworm.environments SET watches = NULL")
    server.execute("DELETE FROM inchworm.structures WHERE thing NOT IN ('table', 'view')")
    program.promote(change(program, 3), "dev")
    assert drifted(program) == set()
    if "comment" not in what:
        server.execute(HANDED_ON[what][1].encode())
        assert drifted(program) == {f"missing {what.format('daily_total')}"}
    moved(program)
    missed = set() if "comment" in what else {f"missing {what.format('per_day')}"}
    assert drifted(program) == missed


def test_what_surrounds_a_schema_is_taken_into_the_source(
    reader: tuple[Program, psycopg.Connection[tuple[object, ...]]],
) -> None:
    """Code and triggers as statements, rights as they are in this environment."""
    program, server = reader
    for what in SURROUNDINGS:
        if " ops." in what and not what.startswith("changed owner"):
            server.execute(SURROUNDINGS[what].encode())
    program("adopt", "dev", "ops")
    (file,) = (program.folder / "schemas/ops/migrations").glob("0002*")
    text = file.read_text()
    for expected in ("CREATE OR REPLACE FUNCTION ops.twice", "CREATE TRIGGER audit", "POLICY few"):
        assert expected in text
    assert "-- rights ops.measurement to reader: as it is in dev" in text
    assert program.promote(program.pack(), "dev").json["state"] == "done"
    assert drifted(program) == set()


def test_what_is_left_as_somebody_changed_it_is_not_said_to_be_as_it_was_put(
    live: tuple[Program, str],
) -> None:
    """A promotion that has nothing to do with it goes on, and says so at its end."""
    program, url = live
    again = ("promote", program.pack(), "--to", "dev", "--yes")
    assert "and nothing differs." in program(*again).text
    program.ask(url, "ALTER TABLE ops.measurement ADD COLUMN by_hand INTEGER", "SELECT 1")
    but = "and nothing differs but for 1 part that was changed by hand: inchworm drift dev"
    assert but in program(*again).text
    program.write("models/report/extra.sql", "SELECT 1 AS x")
    answer = program.promote(program.pack(), "dev").json
    said = [step["message"] for step in answer["steps"] if step["action"] == "verify"]
    by_hand = "1 was changed by hand before: inchworm drift dev"
    assert said == [f"3 parts are as they were put; {by_hand}"]
    assert drifted(program) == {"changed table ops.measurement"}


def test_triggers_and_macros_of_files_are_seen(starter: Program) -> None:
    """SQLite has triggers, DuckDB has macros."""
    for kind, statement, what in (
        (
            "sqlite",
            "CREATE TRIGGER ops.audit AFTER DELETE ON measurement BEGIN SELECT 1; END",
            "unknown trigger ops.measurement.audit",
        ),
        ("duckdb", "CREATE MACRO ops.twice(x) AS 2 * x", "unknown routine ops.twice"),
    ):
        url = f"{kind}:///data/dev.{kind}"
        text = (starter.folder / "environments/dev.toml").read_text()
        line = next(x for x in text.splitlines() if x.startswith("url = ") and "sim:" not in x)
        starter.edit("environments/dev.toml", line, f'url = "{url}"')
        starter.promote(starter.pack(), "dev")
        starter.ask(url, statement, "SELECT 1")
        assert drifted(starter) == {what}


def test_an_upgraded_bookkeeping_takes_what_is_there_as_given(
    reader: tuple[Program, psycopg.Connection[tuple[object, ...]]],
) -> None:
    """Former versions recorded no rights; what is given after the next promotion is drift."""
    program, server = reader
    server.execute("UPDATE inchworm.environments SET watches = NULL")
    surroundings = "('routine', 'trigger', 'policy', 'options', 'owner', 'rights')"
    server.execute(f"DELETE FROM inchworm.structures WHERE thing IN {surroundings}".encode())
    server.execute(b"GRANT SELECT ON ops.measurement TO reader")
    assert drifted(program) == set()
    program.promote(change(program, 3), "dev")
    assert drifted(program) == set()
    server.execute(b"GRANT SELECT ON report.daily_total TO reader")
    assert drifted(program) == {"unknown rights report.daily_total to reader"}


# ---- who is downstream ---------------------------------------------------------------------------


def test_downstream_is_told_by_what_runs_there(released: Program, tmp_path: Path) -> None:
    """The source tree has moved on, and knows nothing of what reads the table there."""
    for path in ("models/alert/subscriber_notice.sql", "consumers/flood_map.toml"):
        (released.folder / path).unlink()
    released.query("dev", "ALTER TABLE ops.threshold ADD COLUMN by_hand INTEGER")
    (found,) = released("drift", "dev", "--json", code=1).json["drifted"]
    assert {"model:alert.subscriber_notice", "consumer:flood_map"} <= set(found["affected"])


def test_tables_of_others_that_change_are_seen(released: Program) -> None:
    """Those that are managed outside, until the next promotion has looked at them."""
    released.query("dev", "ALTER TABLE raw.reading ADD COLUMN by_owner INTEGER")
    released.query("dev", "CREATE TABLE raw.nobody_declared_it (x INTEGER)")
    (found,) = released("drift", "dev", "--json", code=1).json["drifted"]
    assert found["part"] == "schema:raw"
    assert [d["item"] for d in found["differences"]] == ["table raw.reading"]
    assert "model:hydro.reading_clean" in found["affected"]
    assert found["remedy"].startswith("its owner changed it")
    released.edit("models/hydro/daily_peak.sql", "SELECT", "SELECT 1 AS one,")
    assert released.promote(released.release("1.4.1"), "dev").json["state"] == "done"
    assert drifted(released) == set()


# ---- types ---------------------------------------------------------------------------------------

SHARED = "CREATE TABLE given.rate (place TEXT, factor INTEGER)"


@pytest.fixture
def widened(anywhere: tuple[Program, str]) -> tuple[Program, str]:
    """A column of ours, and one of others, that models read and somebody is going to widen."""
    program, url = anywhere
    if url.startswith("sqlite"):
        pytest.skip("SQLite changes no types")
    program.ask(url, "CREATE SCHEMA given", SHARED, "SELECT 1")
    program.write("schemas/given/schema.toml", 'managed = "outside"\n')
    program.write("schemas/given/tables.sql", f"{SHARED};\n")
    table = "/*---\nstore = 'table'\n---*/\nSELECT place,"
    program.write("models/report/largest.sql", f"{table} amount FROM ops.measurement")
    program.write("models/report/rates.sql", f"{table} factor FROM given.rate")
    program.write("models/report/below.sql", f"{table} amount FROM report.largest")
    program.promote(program.pack(), "dev")
    return program, url


def built(document: Any) -> dict[str, str]:
    """Why each model was built."""
    return {s["part"]: s["reason"] for s in document["steps"] if s["phase"] == "build"}


@pytest.mark.parametrize("is_taken_up", [True, False])
def test_models_are_built_again_whose_columns_have_another_type(
    widened: tuple[Program, str], *, is_taken_up: bool
) -> None:
    """Whether that is taken into the source or not; once, and whatever reads them, too."""
    program, url = widened
    program.ask(url, "ALTER TABLE ops.measurement ALTER COLUMN amount TYPE BIGINT", "SELECT 1")
    if is_taken_up:
        program("adopt", "dev", "ops")
    done = program.promote(program.pack(), "dev").json
    assert done["state"] == "done"
    reasons = built(done)
    assert reasons["model:report.largest"].startswith("ops.measurement.amount is BIGINT now")
    assert reasons["model:report.below"] == "depends on report.largest"
    assert "model:report.rates" not in reasons
    program("run", "report.largest", "--in", "dev", "--yes")
    assert program.promote(program.pack(), "dev").json["state"] == "nothing to do"


def test_a_type_that_others_change_is_seen(widened: tuple[Program, str]) -> None:
    """In a schema that we only know; the run that fails says how to go on, and that helps."""
    program, url = widened
    program.ask(url, "ALTER TABLE given.rate ALTER COLUMN factor TYPE BIGINT", "SELECT 1")
    failed = program("run", "report.rates", "--in", "dev", "--yes", code=1)
    bundle = program.pack()
    assert f"inchworm promote {bundle} --to dev" in failed.text
    done = program.promote(bundle, "dev").json
    assert [*built(done)] == ["model:report.rates"]
    program("run", "report.rates", "--in", "dev", "--yes")
