"""A run of another day: its values, its rows, and nothing else."""

from __future__ import annotations

import datetime as dt
from typing import Any

import pytest

from inchworm.cli import process
from inchworm.targets.databases import connect
from tests.driver import Program
from tests.once import Once

NOW = dt.datetime(2026, 11, 30, 6, tzinfo=dt.UTC)
DAILY = (
    '/*---\nstore = "increment"\nsince = "taken_on"\n{more}---*/\n'
    "SELECT taken_on, gauge, max(level) AS top FROM raw.reading GROUP BY taken_on, gauge\n"
)
KEEPS = 'on_change = "keep"\n'
OF_TODAY = "SELECT CAST(:as_of AS TEXT) AS day\n"


@pytest.fixture
def live(
    once: Once, anywhere: tuple[Program, str], monkeypatch: pytest.MonkeyPatch
) -> tuple[Program, str]:
    """An increment, a table and a view of the day, live in a database of each kind."""
    monkeypatch.setattr(process, "clock", lambda: NOW)
    once(make_live, *anywhere)
    return anywhere


def make_live(program: Program, url: str) -> None:
    database = connect(url, root=program.folder)
    database.create_schema("raw")
    database.execute("CREATE TABLE raw.reading (gauge INTEGER, level INTEGER, taken_on DATE)")
    for day in (28, 29, 30):
        database.execute(f"INSERT INTO raw.reading VALUES (1, {day}, '2026-11-{day}')")
    database.execute("INSERT INTO raw.reading VALUES (9, 9, NULL)")
    database.close()
    matrix = (program.folder / "parameters.toml").read_text()
    program.write("parameters.toml", f'{matrix}\n[as_of]\ntype = "date"\nevery = "today"\n')
    program.write("schemas/raw/schema.toml", 'managed = "outside"\n')
    table = "CREATE TABLE raw.reading (gauge INT, level INT, taken_on DATE);\n"
    program.write("schemas/raw/tables.sql", table)
    program.write("models/mart/daily.sql", DAILY.format(more=KEEPS + 'day = "taken_on"\n'))
    program.write("models/mart/growing.sql", DAILY.format(more=KEEPS))
    program.write("models/mart/seen.sql", OF_TODAY)
    program.write(
        "models/mart/day.sql", '/*---\nstore = "table"\n---*/\nSELECT day FROM mart.seen\n'
    )
    program.write(
        "pipelines/all.toml",
        '[[steps]]\nname = "all"\n'
        'build = ["mart.daily", "mart.growing", "mart.seen", "mart.day"]\n',
    )
    program.promote(program.pack(), "dev")


def tops(program: Program, url: str, table: str = "mart.daily") -> dict[int, int]:
    """The top level of each gauge's days, by the day of the month."""
    query = f"SELECT CAST(taken_on AS VARCHAR(10)), gauge, top FROM {table}"
    return {int((day or "0")[-2:]): top for day, _, top in program.ask(url, query)}


def correct(program: Program, url: str) -> None:
    """Somebody corrects the levels of all days."""
    program.ask(url, "UPDATE raw.reading SET level = level + 100", "SELECT 1")


def run(program: Program, *words: str, code: int = 0) -> list[dict[str, Any]]:
    program("run", "all", "--in", "dev", "--yes", *words, code=code)
    runs = program("history", "--runs", "--json").json["runs"]
    return [program("history", each["id"], "--json").json for each in runs[::-1]]


def test_the_rows_of_a_day_are_told_anew_and_no_others(live: tuple[Program, str]) -> None:
    program, url = live
    before = {0: 9, 28: 28, 29: 29, 30: 30}
    assert tops(program, url) == before
    correct(program, url)
    run(program)
    assert tops(program, url) == before, "what is old stays, unless its day is asked for"
    *_, recorded = run(program, "--day", "2026-11-28")
    assert tops(program, url) == before | {28: 128}
    assert recorded["day"] == "2026-11-28"
    assert recorded["values"]["as_of"] == "2026-11-28"
    assert tops(program, url, "mart.growing") == before
    (told,) = [
        s for s in recorded["steps"] if (s["part"], s["work"]) == ("model:mart.growing", "build")
    ]
    assert (told["state"], recorded["message"]) == ("warning", "1 warning")
    assert "its rows of 2026-11-28 stay: the model has no day" in told["message"]
    assert program.ask(url, "SELECT day FROM mart.day") == [("2026-11-28",)]
    assert program.ask(url, "SELECT day FROM mart.seen") == [("2026-11-30",)], "a view is of today"
    assert program("drift", "dev").code == 0


def test_each_day_of_some(live: tuple[Program, str]) -> None:
    """The oldest first; what is still to come is refused, and so is going on with another day."""
    program, url = live
    correct(program, url)
    recorded = run(program, "--from", "2026-11-28", "--to", "2026-11-29")
    assert [each["day"] for each in recorded] == ["2026-11-28", "2026-11-29"]
    assert tops(program, url) == {0: 9, 28: 128, 29: 129, 30: 30}
    words = ("run", "all", "--in", "dev", "--yes")
    assert "still to come" in program(*words, "--day", "2026-12-01", code=2).text
    assert (
        "is before --from"
        in program(*words, "--from", "2026-11-29", "--to", "2026-11-28", code=2).text
    )
    assert "is no day" in program(*words, "--day", "yesterday", code=2).text
    refused = program(*words, "--day", "2026-11-28", "--since-failed", code=None)
    assert refused.code != 0
