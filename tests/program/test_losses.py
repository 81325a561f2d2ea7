"""What a promotion or rollback would take away: counted, named, and refused without a word."""

from __future__ import annotations

from typing import Any

import pytest

from inchworm.core.errors import TargetError
from tests.driver import Program
from tests.once import SQLITE, Once

ONE = "SELECT 1"
NEW = "models/report/by_place.sql"
SQL = "/*---\nstore = 'table'\n---*/\nSELECT place, amount AS total FROM ops.measurement"
MAKES = "CREATE TABLE ops.other (n INTEGER, o TEXT)"
MADE = "schemas/ops/migrations/0002_make.sql"
MIGRATION = "schemas/ops/migrations/0002_more"


@pytest.fixture
def live(once: Once, anywhere: tuple[Program, str]) -> tuple[Program, str]:
    """A new project that is live in a database of each kind, with a row."""
    once(_make_live, *anywhere)
    return anywhere


@pytest.fixture
def live_here(once: Once, plain: Program) -> tuple[Program, str]:
    """The same where it is done soonest, for what scripts are read for."""
    once(_make_live, plain, SQLITE)
    return plain, SQLITE


def _make_live(program: Program, url: str) -> None:
    program.promote(program.pack(), "dev")
    insert = "INSERT INTO ops.measurement VALUES ('east', '2026-03-01', 3)"
    program.ask(url, "DELETE FROM ops.measurement", insert, ONE)


def finding(document: Any, rule: str) -> Any:
    """The only finding of a rule."""
    (one,) = [f for f in document["findings"] if f["rule"] == rule]
    return one


def write(program: Program, sql: str, undo: str = "") -> None:
    """A second migration."""
    program.write(f"{MIGRATION}.sql", sql)
    if undo:
        program.write(f"{MIGRATION}.undo.sql", undo)


def allow(program: Program, *names: str) -> None:
    """List what development may lose."""
    listed = ", ".join(f'"{name}"' for name in names)
    program.edit("environments/dev.toml", "[workspace]", f"may_lose = [{listed}]\n[workspace]")


# ---- names that are taken ------------------------------------------------------------------------


def test_rows_that_come_after_the_draft_stop_it(live: tuple[Program, str]) -> None:
    """A table that was empty, and a table that is made by hand meanwhile: both keep their rows."""
    program, url = live
    write(program, "CREATE TABLE ops.empty (n INTEGER)")
    program.promote(program.pack(), "dev")
    program.write("schemas/ops/migrations/0003_drop.sql", "DROP TABLE ops.empty")
    program.write(NEW, SQL)
    drafted = program("promote", program.pack(), "--to", "dev", "--draft", "--json").json
    program.ask(url, "INSERT INTO ops.empty VALUES (1)", ONE)
    moved = program("promote", drafted["id"], "--yes", code=4).text
    assert "drops ops.empty and loses 1 rows" in moved
    assert "Draft again" in moved
    assert program.ask(url, "SELECT n FROM ops.empty") == [(1,)]
    program.ask(url, "DELETE FROM ops.empty", "CREATE TABLE report.by_place (n INTEGER)", ONE)
    program("promote", drafted["id"], "--yes", code=4)
    program.ask(url, "DROP TABLE report.by_place", ONE)
    assert program("promote", drafted["id"], "--yes", "--json").json["state"] == "done"


def test_a_migration_that_is_undone_keeps_rows_that_came_since(live: tuple[Program, str]) -> None:
    """Where a promotion fails behind it; what the migration itself put in may go."""
    program, url = live
    program.edit("environments/dev.toml", "[workspace]", "undo_migrations = true\n[workspace]")
    makes = "CREATE TABLE ops.{0} (n INTEGER); INSERT INTO ops.{0} VALUES (1)"
    folder = "schemas/ops/migrations"
    for number, name in (("0002", "kept"), ("0003", "gone")):
        program.write(f"{folder}/{number}_{name}.sql", makes.format(name))
        program.write(f"{folder}/{number}_{name}.undo.sql", f"DROP TABLE ops.{name}")
    program.write(f"{folder}/0004_rows.sql", "INSERT INTO ops.kept VALUES (2)")
    program.write(f"{folder}/0004_rows.undo.sql", "DELETE FROM ops.gone WHERE n = 3")
    program.write(NEW, SQL.replace("'table'\n", "'table'\nkey = ['place']\n"))
    program.ask(url, "INSERT INTO ops.measurement SELECT * FROM ops.measurement", ONE)
    failed = program.promote(program.pack(), "dev", code=1).text
    assert "drops ops.kept, where 2 rows have come since" in failed
    assert program.ask(url, "SELECT n FROM ops.kept ORDER BY 1") == [(1,), (2,)]
    with pytest.raises(TargetError):
        program.ask(url, "SELECT n FROM ops.gone")


@pytest.mark.parametrize("store", ["table", "increment"])
def test_a_table_made_by_hand_is_not_replaced(live: tuple[Program, str], store: str) -> None:
    """Where a model is new: its rows are counted, and stay; the model takes over none of them."""
    program, url = live
    made = "CREATE TABLE report.by_place (place TEXT, total INTEGER)"
    program.ask(url, made, "INSERT INTO report.by_place VALUES ('hand', 1)", ONE)
    settings = {"increment": "since = 'total'\nkey = ['place']\non_change = 'keep'"}.get(store, "")
    program.write(NEW, SQL.replace("'table'", f"'{store}'\n{settings}"))
    bundle = program.pack()
    refused = program.promote(bundle, "dev", code=1).json
    taken = finding(refused, "promotion/name-taken")
    assert taken["severity"] == "error"
    assert "with 1 rows has its name: report.by_place" in taken["message"]
    assert "--overwrite" in taken["remedy"]
    assert program.ask(url, "SELECT place, total FROM report.by_place") == [("hand", 1)]
    done = program("promote", bundle, "--to", "dev", "--yes", "--json", "--overwrite").json
    assert done["state"] == "done"
    assert finding(done, "promotion/name-taken")["severity"] == "note"
    assert program.ask(url, "SELECT place, total FROM report.by_place") == [("east", 3)]


def test_it_can_be_taken_up_in_place_of_the_model(live: tuple[Program, str]) -> None:
    """With its rows, beside the models of that schema; elsewhere it is made, empty."""
    program, url = live
    made = "CREATE TABLE report.by_place (place TEXT, total INTEGER)"
    program.ask(url, made, "INSERT INTO report.by_place VALUES ('hand', 1)", ONE)
    assert "1 table," in program("adopt", "dev", "report").text
    assert (
        "daily_total"
        not in (program.folder / "schemas/report/migrations/0001_baseline.sql").read_text()
    )
    assert program.promote(program.pack(), "dev").json["state"] == "done"
    assert program.ask(url, "SELECT place, total FROM report.by_place") == [("hand", 1)]
    assert program("drift", "dev", "--json").json["drifted"] == []


def test_a_model_that_moves_does_not_take_the_name_of_anothers_table(
    live: tuple[Program, str],
) -> None:
    """Not even where it says which model it was."""
    program, url = live
    program.ask(url, "CREATE TABLE report.per_day (x INTEGER)", ONE)
    old = program.folder / "models/report/daily_total.sql"
    moved = '/*---\nmoved_from = "report.daily_total"'
    program.write("models/report/per_day.sql", old.read_text().replace("/*---", moved))
    old.unlink()
    program.edit("pipelines/daily.toml", "report.daily_total", "report.per_day")
    refused = program.promote(program.pack(), "dev", code=1).json
    assert "report.per_day" in finding(refused, "promotion/name-taken")["message"]
    assert program.ask(url, "SELECT * FROM report.per_day") == []


# ---- scripts that lose ---------------------------------------------------------------------------

ADDS = "ALTER TABLE ops.measurement ADD COLUMN note TEXT"
TAKES = "ALTER TABLE ops.measurement DROP COLUMN note"


def test_a_rollback_names_the_values_that_came_since(live: tuple[Program, str]) -> None:
    """And does not run before they are listed."""
    program, url = live
    write(program, ADDS, TAKES)
    program.promote(program.pack(), "dev")
    program.ask(url, "UPDATE ops.measurement SET note = 'dry'", ONE)
    refused = program("rollback", "dev", "--yes", "--json", code=1).json
    lost = finding(refused, "schema/loses-data")
    assert "drops ops.measurement.note and loses 1 values" in lost["message"]
    assert (lost["file"], lost["severity"]) == (f"{MIGRATION}.undo.sql", "error")
    assert program.ask(url, "SELECT note FROM ops.measurement") == [("dry",)]
    allow(program, "ops.measurement.note")
    done = program("rollback", "dev", "--yes", "--json").json
    assert done["state"] == "done"
    assert finding(done, "schema/loses-data")["severity"] == "note"


def test_a_rollback_without_anything_to_lose_runs(live: tuple[Program, str]) -> None:
    """Where no value came since."""
    program, _ = live
    write(program, ADDS, TAKES)
    program.promote(program.pack(), "dev")
    done = program("rollback", "dev", "--yes", "--json").json
    assert done["state"] == "done"
    assert "schema/loses-data" not in {f["rule"] for f in done["findings"]}


def with_rows(program: Program, url: str) -> tuple[Program, str]:
    """Another table, with two rows."""
    write(program, MAKES)
    program.promote(program.pack(), "dev")
    program.ask(url, "INSERT INTO ops.other VALUES (1, 'a'), (2, 'b')", ONE)
    return program, url


LOSING = [
    pytest.param("DROP TABLE ops.other", "drops ops.other and loses 2 rows", id="drop"),
    pytest.param("DELETE FROM ops.other", "empties ops.other and loses 2 rows", id="delete all"),
    pytest.param(
        "DELETE FROM ops.other WHERE n > 1", "deletes rows of ops.other and loses 1 rows", id="some"
    ),
    pytest.param(
        "ALTER TABLE ops.other RENAME TO another; DROP TABLE ops.another",
        "drops ops.other and loses 2 rows",
        id="renamed, then dropped",
    ),
    pytest.param(
        "ALTER TABLE ops.other RENAME COLUMN n TO m; ALTER TABLE ops.other DROP COLUMN m",
        "drops ops.other.n and loses 2 values",
        id="column renamed, then dropped",
    ),
    pytest.param(
        "ALTER TABLE ops.other DROP n", "drops ops.other.n and loses 2 values", id="without COLUMN"
    ),
]


@pytest.mark.parametrize(("sql", "message"), LOSING)
def test_a_migration_names_what_it_loses(
    live_here: tuple[Program, str], sql: str, message: str
) -> None:
    """Rows and values, also of what got another name before; nothing runs without the word."""
    program, url = with_rows(*live_here)
    program.write("schemas/ops/migrations/0003_lose.sql", sql)
    refused = program.promote(program.pack(), "dev", code=1).json
    assert message in finding(refused, "schema/loses-data")["message"]
    assert program.ask(url, "SELECT count(*) FROM ops.other") == [(2,)]
    allow(program, "ops.other")
    assert program.promote(program.pack(), "dev").json["state"] == "done"


def test_what_nobody_reads_is_pointed_out(served: tuple[Program, str]) -> None:
    """A block of code, and rows that a CTE deletes."""
    program, _ = with_rows(*served)
    folder = "schemas/ops/migrations"
    program.write(
        f"{folder}/0003_block.sql", "SELECT 1;\nDO $$ BEGIN DELETE FROM ops.other; END $$"
    )
    drafted = program("promote", program.pack(), "--to", "dev", "--draft", "--json").json
    told = finding(drafted, "schema/not-followed")
    assert (told["message"], told["line"]) == ("DO is not followed", 2)
    deletes = "WITH d AS (DELETE FROM ops.other WHERE n = 1 RETURNING n) SELECT n FROM d"
    program.write(f"{folder}/0003_block.sql", deletes)
    refused = program.promote(program.pack(), "dev", code=1).json
    assert "loses 1 rows" in finding(refused, "schema/loses-data")["message"]


KEEPING = [
    pytest.param(
        "CREATE TABLE ops.new (n INTEGER, o TEXT); INSERT INTO ops.new SELECT n, o FROM ops.other; "
        "DROP TABLE ops.other; ALTER TABLE ops.new RENAME TO other",
        id="made anew from its rows",
    ),
    pytest.param(
        "ALTER TABLE ops.other ADD COLUMN m INTEGER; UPDATE ops.other SET m = n; "
        "ALTER TABLE ops.other DROP COLUMN n",
        id="values moved",
    ),
    pytest.param("DELETE FROM ops.other WHERE n > 9", id="nothing to delete"),
]


@pytest.mark.parametrize("sql", KEEPING)
def test_a_migration_that_keeps_the_values_is_not_refused(
    live_here: tuple[Program, str], sql: str
) -> None:
    """Because the script has copied them, or there are none."""
    program, url = with_rows(*live_here)
    program.write("schemas/ops/migrations/0003_move.sql", sql)
    assert program.promote(program.pack(), "dev").json["state"] == "done"
    assert program.ask(url, "SELECT count(*) FROM ops.other") == [(2,)]


def test_a_type_that_cannot_hold_the_values_is_named(served: tuple[Program, str]) -> None:
    """A number that is rounded is lost; one that fits is not."""
    program, url = served
    program.write(
        "schemas/ops/migrations/0002_make.sql",
        "CREATE TABLE ops.level (a numeric(8, 2), b numeric(8, 2))",
    )
    program.promote(program.pack(), "dev")
    program.ask(url, "INSERT INTO ops.level VALUES (1.25, 2.00), (2.00, 3.00)", ONE)
    program.write(
        "schemas/ops/migrations/0003_round.sql",
        "ALTER TABLE ops.level ALTER COLUMN a TYPE integer, ALTER COLUMN b TYPE integer",
    )
    refused = program.promote(program.pack(), "dev", code=1).json
    lost = finding(refused, "schema/loses-data")
    assert "changes the type of ops.level.a and loses 1 values" in lost["message"]


@pytest.fixture
def served(starter: Program, postgres_url: str) -> tuple[Program, str]:
    """A new project in PostgreSQL's dialect that is live there."""
    program = starter
    program.edit("inchworm.toml", '"duckdb"', '"postgres"')
    program.edit("environments/dev.toml", "duckdb:///.inchworm/dev.duckdb", postgres_url)
    program.promote(program.pack(), "dev")
    return program, postgres_url
