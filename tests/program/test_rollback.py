"""Going back: what ran before runs again, with its rows, its structure and its record."""

from __future__ import annotations

import json
from typing import Any

import pytest

from inchworm.core.errors import TargetError
from inchworm.targets.databases import connect
from inchworm.targets.databases.bookkeeping import Bookkeeping
from tests.driver import Program
from tests.once import Once
from tests.program.crash import die

TOTAL = "models/report/daily_total.sql"
ROWS = "SELECT CAST(day AS VARCHAR(10)), total FROM report.daily_total ORDER BY day"
THEN = [("2026-02-01", 8), ("2026-02-02", 4)]
LATER = [("2026-02-01", 80), ("2026-02-02", 40)]
TABLE = '/*---\nstore = "table"\n---*/\n'
ADD_NOTE = "ALTER TABLE ops.measurement ADD COLUMN note TEXT;"
DROP_NOTE = "ALTER TABLE ops.measurement DROP COLUMN note;"


def first(program: Program) -> str:
    """The first version is live in dev; its bundle."""
    bundle = program.pack()
    assert program.promote(bundle, "dev").json["state"] == "done"
    return bundle


def second(program: Program) -> str:
    """The next version, in which each total is ten times as much; its bundle."""
    program.edit(TOTAL, "sum(amount) AS", "10 * sum(amount) AS")
    bundle = program.pack()
    assert program.promote(bundle, "dev").json["state"] == "done"
    return bundle


def second_after_first(program: Program) -> tuple[str, str]:
    """Both versions were live in dev, one after the other; their bundles."""
    return first(program), second(program)


@pytest.fixture
def one(once: Once, anywhere: tuple[Program, str]) -> tuple[Program, str, str]:
    """The first version is live in a database of each kind; with its address, and the bundle."""
    return (*anywhere, once(lambda program, url: first(program), *anywhere))


@pytest.fixture
def two(once: Once, anywhere: tuple[Program, str]) -> tuple[Program, str, str, str]:
    """The next version is live there, too; with both bundles."""
    return (*anywhere, *once(lambda program, url: second_after_first(program), *anywhere))


def rollback(program: Program, *arguments: str, code: int = 0) -> Any:
    """Roll back without being asked; the document."""
    return program("rollback", *arguments, "--yes", "--json", code=code).json


def actions(document: Any) -> list[tuple[str, str]]:
    """What each step does to which part."""
    return [(step["action"], step["part"]) for step in document["steps"]]


def is_there(program: Program, url: str, table: str) -> bool:
    """Whether a table or view can be read."""
    try:
        program.ask(url, f"SELECT count(*) FROM {table}")
    except TargetError:
        return False
    return True


def test_a_replaced_table_comes_back_with_its_rows(two: tuple[Program, str, str, str]) -> None:
    """It is switched back, not built again: what changed upstream meanwhile is not in it."""
    program, url, bundle, _ = two
    assert program.ask(url, ROWS) == LATER
    program.ask(url, "DELETE FROM ops.measurement WHERE place = 'north'", "SELECT 1")
    document = rollback(program, "dev", "--because", "totals are wrong")
    assert (document["state"], document["bundle"]) == ("done", bundle)
    assert ("take back", "model:report.daily_total") in actions(document)
    assert "check" not in {action for action, _ in actions(document)}
    assert program.ask(url, ROWS) == THEN
    status = program("status", "--json").json["environments"][0]
    assert (status["bundle"], status["drifted"]) == (bundle, 0)
    assert program("promote", bundle, "--to", "dev", "--json").json["state"] == "nothing to do"
    told = [(p["id"], p["state"]) for p in program("history", "--json").json["promotions"]]
    assert dict(told) == {"P1": "done", "P2": "undone", "P3": "done"}


def test_a_rollback_that_was_killed_before_it_ran_is_not_what_is_taken_back(
    two: tuple[Program, str, str, str],
) -> None:
    """It had claimed the environment, and no more: asked for again, it takes back the same."""
    program, url, bundle, _ = two
    drafted = program("rollback", "dev", "--because", "x", "--draft", "--json").json["id"]
    database = connect(url, root=program.folder)
    bookkeeping = Bookkeeping(database, "starter")
    (ledger,) = bookkeeping.heads()
    with database.transaction():
        bookkeeping.claim("dev", f"{ledger}:{drafted}")
    database.close()
    document = rollback(program, "dev", "--because", "x")
    assert (document["state"], document["bundle"]) == ("done", bundle)
    assert program.ask(url, ROWS) == THEN


def test_built_again_where_that_is_asked_for(two: tuple[Program, str, str, str]) -> None:
    """Then it has what the model of then makes of the data of now."""
    program, url, _, _ = two
    program.ask(url, "DELETE FROM ops.measurement WHERE place = 'north'", "SELECT 1")
    document = rollback(program, "dev", "--build")
    assert ("change", "model:report.daily_total") in actions(document)
    assert program.ask(url, ROWS) == [("2026-02-01", 5)]


def test_a_kept_table_that_somebody_changed_is_not_what_was_live(
    two: tuple[Program, str, str, str],
) -> None:
    """Then it is built; and so it is where somebody dropped it."""
    program, url, _, _ = two
    kept = "report.daily_total__kept"
    program.ask(url, f"ALTER TABLE {kept} ADD COLUMN note TEXT", "SELECT 1")
    document = rollback(program, "dev")
    assert ("change", "model:report.daily_total") in actions(document)
    assert program.ask(url, ROWS) == THEN
    program.ask(url, f"DROP TABLE {kept}", "SELECT 1")
    assert ("change", "model:report.daily_total") in actions(rollback(program, "dev"))
    assert program.ask(url, ROWS) == LATER


def test_a_rollback_can_be_taken_back(two: tuple[Program, str, str, str]) -> None:
    """It is a promotion like others: what it replaced is kept, too."""
    program, url, _, bundle = two
    rollback(program, "dev")
    document = rollback(program, "P3")
    assert (document["bundle"], document["state"]) == (bundle, "done")
    assert ("take back", "model:report.daily_total") in actions(document)
    assert program.ask(url, ROWS) == LATER


def test_what_a_promotion_removed_is_there_again_and_what_it_added_goes(
    anywhere: tuple[Program, str],
) -> None:
    """A removed table was kept aside; a new one is removed."""
    program, url = anywhere
    program.write("models/m/old.sql", f"{TABLE}SELECT 1 AS x")
    program.write("models/m/reader.sql", "SELECT x + 1 AS y FROM m.old")
    first(program)
    for name in ("old", "reader"):
        (program.folder / f"models/m/{name}.sql").unlink()
    program.write("models/m/new.sql", f"{TABLE}SELECT 7 AS z")
    program.promote(program.pack(), "dev")
    assert not is_there(program, url, "m.old")
    document = rollback(program, "dev")
    assert document["state"] == "done"
    assert ("take back", "model:m.old") in actions(document)
    assert program.ask(url, "SELECT y FROM m.reader") == [(2,)]
    assert not is_there(program, url, "m.new")


def test_only_the_state_just_before_was_kept(two: tuple[Program, str, str, str]) -> None:
    """Further back, tables are built: what was kept is of a state in between."""
    program, url, bundle, _ = two
    program.edit(TOTAL, "10 * sum", "100 * sum")
    program.promote(program.pack(), "dev")
    refused = program("rollback", "P2", "--yes", code=2)
    assert "P3 went into dev after P2" in refused.text
    document = rollback(program, "dev", "--to", "P1")
    assert (document["bundle"], document["state"]) == (bundle, "done")
    assert ("change", "model:report.daily_total") in actions(document)
    assert program.ask(url, ROWS) == THEN
    states = {p["id"]: p["state"] for p in program("history", "--json").json["promotions"]}
    assert (states["P2"], states["P3"]) == ("undone", "undone")


def test_migrations_go_back_by_their_undo_scripts(one: tuple[Program, str, str]) -> None:
    """What only takes away runs behind the switch-over, as what is live may read it until then."""
    program, url, _ = one
    program.write("schemas/ops/migrations/0002_note.sql", ADD_NOTE)
    program.write("schemas/ops/migrations/0002_note.undo.sql", DROP_NOTE)
    program.write(TOTAL, f"{TABLE}SELECT day, note FROM ops.measurement")
    program.promote(program.pack(), "dev")
    document = rollback(program, "dev")
    assert document["state"] == "done"
    steps = actions(document)
    assert steps.index(("undo", "schema:ops")) > steps.index(("switch over", "models"))
    assert program.ask(url, ROWS) == THEN
    assert program("status", "--json").json["environments"][0]["drifted"] == 0
    with pytest.raises(TargetError):
        program.ask(url, "SELECT note FROM ops.measurement")
    again = rollback(program, "dev")
    assert ("run", "schema:ops") in actions(again)
    assert is_there(program, url, "report.daily_total")


def test_what_changes_rows_is_undone_before_anything_is_built(
    one: tuple[Program, str, str],
) -> None:
    """So that what comes back is built upon it."""
    program, url, _ = one
    times = "UPDATE ops.measurement SET amount = amount * 2"
    program.write("schemas/ops/migrations/0002_double.sql", f"{times};")
    program.write("schemas/ops/migrations/0002_double.undo.sql", f"{times} / 4;")
    second(program)
    assert program.ask(url, ROWS) == [(day, 2 * total) for day, total in LATER]
    document = rollback(program, "dev", "--build")
    steps = actions(document)
    assert steps.index(("undo", "schema:ops")) < steps.index(("switch over", "models"))
    assert program.ask(url, ROWS) == THEN


def test_a_migration_without_an_undo_script_stays(one: tuple[Program, str, str]) -> None:
    """That is said, with all before it; models come back all the same."""
    program, url, _ = one
    program.write("schemas/ops/migrations/0002_note.sql", ADD_NOTE)
    program.write("schemas/ops/migrations/0002_note.undo.sql", DROP_NOTE)
    program.write("schemas/ops/migrations/0003_more.sql", ADD_NOTE.replace("note", "more"))
    second(program)
    document = rollback(program, "dev")
    (stays,) = [f for f in document["findings"] if f["rule"] == "schema/migration-stays"]
    assert stays["message"] == (
        "0003_more stays, because it has no undo script; with it stays 0002_note"
    )
    assert program.ask(url, ROWS) == THEN
    assert program.ask(url, "SELECT count(note), count(more) FROM ops.measurement") == [(0, 0)]
    assert program("status", "--json").json["environments"][0]["drifted"] == 0
    assert rollback(program, "dev")["state"] == "done"


def test_what_would_read_a_column_that_is_gone_does_not_come_back(
    anywhere: tuple[Program, str],
) -> None:
    """Lineage says so in the draft, before anything is changed."""
    program, url = anywhere
    program.write(
        "schemas/ops/migrations/0001_baseline.sql",
        ("CREATE TABLE ops.measurement (day DATE, amount INTEGER, note TEXT);"),
    )
    program.write(TOTAL, f"{TABLE}SELECT day, note FROM ops.measurement")
    first(program)
    program.write(TOTAL, f"{TABLE}SELECT day FROM ops.measurement")
    program.write(
        "schemas/ops/migrations/0002_note.sql",
        f'/*---\nwhen = "after"\n---*/\n{DROP_NOTE}',
    )
    program.promote(program.pack(), "dev")
    document = rollback(program, "dev", code=1)
    (gone,) = [f for f in document["findings"] if f["rule"] == "promotion/newer-structure"]
    assert gone["message"] == (
        "model:report.daily_total reads ops.measurement.note, which is not there any more"
    )
    assert program.ask(url, "SELECT count(day) FROM report.daily_total") == [(0,)]


ENTRY = """\
/*---
store = "increment"
since = "day"
on_change = "keep"
---*/
SELECT place, day, amount FROM ops.measurement
"""
ENTRIES = "SELECT place, amount FROM report.entry ORDER BY day, place"


@pytest.mark.parametrize("is_of_then", [False, True])
def test_rows_that_came_since_stay_or_go_as_asked(
    anywhere: tuple[Program, str], is_of_then: bool
) -> None:
    """They are nowhere else, so they stay unless the rows of then are asked for."""
    program, url = anywhere
    program.write("models/report/entry.sql", ENTRY)
    first(program)
    program.edit("models/report/entry.sql", "amount FROM", "amount + 0 AS amount FROM")
    more = "INSERT INTO ops.measurement VALUES ('west', '2026-02-03', 9)"
    program.ask(url, more, "SELECT 1")
    program.promote(program.pack(), "dev")
    then = [("north", 3), ("south", 5), ("north", 4)]
    assert program.ask(url, ENTRIES) == [*then, ("west", 9)]
    rollback(program, "dev", *(["--rows-of-then"] if is_of_then else []))
    assert program.ask(url, ENTRIES) == (then if is_of_then else [*then, ("west", 9)])


def test_one_that_is_partly_done_can_be_taken_back(one: tuple[Program, str, str]) -> None:
    """The failed promotion names that way, and it leads to the state before."""
    program, url, bundle = one
    program.edit(TOTAL, "sum(amount) AS", "10 * sum(amount) AS")
    program.write("schemas/ops/after/wrong.sql", "SELECT * FROM ops.nowhere;")
    failed = program("promote", program.pack(), "--to", "dev", "--yes", code=5)
    assert "inchworm rollback P2" in failed.text
    assert program.ask(url, ROWS) == LATER
    document = rollback(program, "P2")
    assert (document["state"], document["bundle"]) == ("done", bundle)
    assert program.ask(url, ROWS) == THEN
    states = {p["id"]: p["state"] for p in program("history", "--json").json["promotions"]}
    assert states["P2"] == "undone"
    assert "undone" in program("promote", "P2", "--yes", code=2).text


def test_migrations_of_one_that_failed_can_be_taken_back(one: tuple[Program, str, str]) -> None:
    """It failed before the switch-over, and its migration stayed."""
    program, url, _ = one
    program.write("schemas/ops/migrations/0002_note.sql", ADD_NOTE)
    program.write("schemas/ops/migrations/0002_note.undo.sql", DROP_NOTE)
    program.edit(TOTAL, "between = [0, 1000000]", "between = [0, 5]")
    failed = program("promote", program.pack(), "--to", "dev", "--yes", code=1)
    assert "inchworm rollback P2" in failed.text
    assert program.ask(url, "SELECT count(note) FROM ops.measurement") == [(0,)]
    assert rollback(program, "dev")["state"] == "done"
    with pytest.raises(TargetError):
        program.ask(url, "SELECT note FROM ops.measurement")
    assert program("status", "--json").json["environments"][0]["drifted"] == 0


def test_there_may_be_nothing_to_go_back_to(starter: Program) -> None:
    """Each says why, and what helps."""
    bundle = first(starter)
    assert f"only {bundle} was ever there" in starter("rollback", "dev", code=2).text
    assert "There is no promotion P7" in starter("rollback", "P7", code=2).text
    assert "P12" in starter("rollback", "dev", "--to", "yesterday", code=2).text
    second(starter)
    drafted = starter("promote", bundle, "--to", "dev", "--back", "--draft", "--json").json
    assert "there is nothing of it in dev" in starter("rollback", drafted["id"], code=2).text


@pytest.mark.long
def test_what_was_taken_back_in_test_does_not_go_on(released: Program) -> None:
    """It passed there, and was found wrong there."""
    program = released
    program.edit("models/hydro/level_trend.sql", "mean_cm - lag", "1.0 * mean_cm - lag")
    bundle = program.release("1.4.1")
    for environment in ("dev", "test"):
        program.promote(bundle, environment)
    rollback(program, "test")
    refused = program.promote(bundle, "prod", code=3)
    assert f"{bundle} was taken back in test by P5" in refused.text
    program.promote(bundle, "test")
    assert program.promote(bundle, "prod").json["state"] == "done"


@pytest.mark.long
def test_a_rollback_that_is_killed_goes_on(released: Program) -> None:
    """At every step, before and after its effect, it ends as an undisturbed one."""
    program = released
    rows = "SELECT count(*), sum(rise_cm) FROM hydro.level_trend"
    before = program.query("test", rows)
    program.edit("models/hydro/level_trend.sql", "mean_cm - lag", "2.0 * mean_cm - lag")
    program.write(
        "schemas/ops/migrations/0004_note.sql", "ALTER TABLE ops.threshold ADD note TEXT;"
    )
    program.write(
        "schemas/ops/migrations/0004_note.undo.sql", "ALTER TABLE ops.threshold DROP COLUMN note;"
    )
    bundle = program.release("1.4.1")
    for environment in ("dev", "test"):
        assert program.promote(bundle, environment).json["state"] == "done"
    assert program.query("test", rows) != before
    drafted = program("rollback", "test", "--draft", "--json").json
    for step in drafted["steps"]:
        instant = "before" if step["number"] % 3 else "after"
        die(program, drafted["id"], f"{instant}:{step['number']}")
    assert program("promote", drafted["id"], "--yes", "--json").json["state"] == "done"
    assert program.query("test", rows) == before
    status = program("status", "test", "--json").json["environments"][0]
    assert (status["bundle"], status["drifted"]) == ("riverwatch-1.4.0", 0)
    asides = "SELECT count(*) FROM inchworm.aside WHERE purpose <> 'replaced'"
    assert program.query("test", asides) == [(0,)]


def test_objects_of_others_go_along(starter: Program, postgres_url: str) -> None:
    """Triggers, policies, indexes and rights as they are now, not as they were then."""
    starter.edit("environments/dev.toml", "duckdb:///.inchworm/dev.duckdb", postgres_url)
    first(starter)
    starter.ask(
        postgres_url,
        "CREATE INDEX by_day ON report.daily_total (day)",
        "CREATE FUNCTION report.nothing() RETURNS trigger LANGUAGE plpgsql AS "
        "'BEGIN RETURN NEW; END'",
        "CREATE TRIGGER watch BEFORE INSERT ON report.daily_total "
        "FOR EACH ROW EXECUTE FUNCTION report.nothing()",
        "ALTER TABLE report.daily_total ENABLE ROW LEVEL SECURITY",
        "CREATE POLICY everybody ON report.daily_total USING (true)",
        "SELECT 1",
    )
    second(starter)
    starter.ask(
        postgres_url,
        "DROP POLICY everybody ON report.daily_total",
        "CREATE POLICY positive ON report.daily_total USING (total > 0)",
        "GRANT SELECT ON report.daily_total TO PUBLIC",
        "SELECT 1",
    )
    document = rollback(starter, "dev")
    assert ("take back", "model:report.daily_total") in actions(document)
    has = starter.ask(
        postgres_url,
        "SELECT (SELECT string_agg(polname, ' ') FROM pg_policy WHERE polrelid = c.oid), "
        "(SELECT string_agg(tgname, ' ') FROM pg_trigger WHERE tgrelid = c.oid), "
        "(SELECT string_agg(indexrelid::regclass::text, ' ') FROM pg_index "
        "WHERE indrelid = c.oid), c.relrowsecurity, c.relacl::text LIKE '%=r/%' "
        "FROM pg_class c WHERE c.oid = 'report.daily_total'::regclass",
    )
    assert has == [("positive", "watch", "report.by_day", True, True)]


def test_the_record_tells_what_a_switch_over_ran(anywhere: tuple[Program, str]) -> None:
    """Which table was renamed to what, and which was dropped, is nowhere else afterwards."""
    program, _ = anywhere
    program.edit(TOTAL, "SELECT", TABLE + "SELECT")
    first(program)
    second(program)
    program.edit(TOTAL, "10 * sum(amount)", "20 * sum(amount)")
    promoted = program.promote(program.pack(), "dev").json
    recorded = program("history", promoted["id"], "--json").json["steps"]
    (switched,) = [step["sql"] for step in recorded if step["phase"] == "switch"]
    text = "\n".join(switched)
    assert 'DROP TABLE "report"."daily_total__kept"' in text
    there = switched.index('ALTER TABLE "report"."daily_total" RENAME TO "daily_total__kept"')
    assert 'ALTER TABLE "report"."daily_total__beside" RENAME TO "daily_total"' in switched[there:]
    assert "INSERT" not in text  # the bookkeeping's own
    assert switched[-1] in program("history", promoted["id"], "--sql").out


def test_from_another_ledger_it_brings_back_what_was(starter: Program) -> None:
    """The holds and the day of then are in the environment's own record."""
    day = '[oldest_day]\ntype = "date"\nevery = "today - 1d"\n'
    starter.write("parameters.toml", day)
    starter.promote(starter.pack(), "dev")
    (then,) = starter.query("dev", "SELECT circumstances FROM inchworm.promotions")[0]
    earlier = then.replace(json.loads(then)["today"], "2026-01-02")
    starter.query("dev", f"UPDATE inchworm.promotions SET circumstances = '{earlier}'")
    words = ("hold", "model:report.daily_total", "--in", "dev", "--because", "to see", "--yes")
    starter(*words)
    own = '[storage]\nledger = "own.sqlite"\n'
    starter.write("inchworm.toml", (starter.folder / "inchworm.toml").read_text() + own)
    back = starter("rollback", "dev", "--yes", "--json").json
    assert back["state"] == "done"
    assert ("model:report.daily_total", "lift") in {(s["part"], s["action"]) for s in back["steps"]}
    assert "2026-01-01" in str(back["values"])
    assert starter.query("dev", "SELECT * FROM inchworm.holds") == []
