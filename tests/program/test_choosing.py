"""Parts that go, and parts that stay: by choice, and by holds."""

from __future__ import annotations

import datetime as dt
from pathlib import Path
from typing import Any

import pytest

from inchworm.cli import process
from tests.driver import Program
from tests.once import SQLITE, Once

TABLE = '/*---\nstore = "table"\n---*/\n'
OWNED = '/*---\nstore = "table"\nowner = "Duty desk"\n---*/\n'


@pytest.fixture
def two(once: Once, anywhere: tuple[Program, str]) -> tuple[Program, str]:
    """Two models, of which one reads the other, are live; the next version changes both."""
    once(_make_two, *anywhere)
    return anywhere


@pytest.fixture
def two_here(once: Once, plain: Program) -> tuple[Program, str]:
    """The same where it is done soonest, for what does not depend on the database."""
    once(_make_two, plain, SQLITE)
    return plain, SQLITE


def _make_two(program: Program, url: str) -> None:
    program.write("models/m/a.sql", f"{TABLE}SELECT 1 AS x, 5 AS y")
    program.write("models/m/b.sql", f"{TABLE}SELECT x * 10 AS z FROM m.a")
    program.write("models/m/c.sql", f"{TABLE}SELECT 100 AS w")
    assert program.promote(program.pack(), "dev").json["state"] == "done"
    program.write("models/m/a.sql", f"{TABLE}SELECT 2 AS x, 5 AS y")
    program.write("models/m/b.sql", f"{TABLE}SELECT x * 20 AS z FROM m.a")
    program.write("models/m/c.sql", f"{OWNED}SELECT 200 AS w")


def values(program: Program, url: str) -> tuple[Any, ...]:
    """What the three models have."""
    return tuple(
        program.ask(url, f"SELECT {column} FROM m.{table}")[0][0]
        for table, column in (("a", "x"), ("b", "z"), ("c", "w"))
    )


def promote(program: Program, bundle: str, *more: str, code: int = 0) -> Any:
    """Promote into dev; the document."""
    return program("promote", bundle, "--to", "dev", "--yes", "--json", *more, code=code).json


def status(program: Program) -> Any:
    """The status of dev."""
    return program("status", "dev", "--json").json["environments"][0]


def test_only_some_parts_go(two: tuple[Program, str]) -> None:
    """What reads them is built again as it is; the rest follows when all of it is promoted."""
    program, url = two
    bundle = program.pack()
    document = promote(program, bundle, "--only", "m.a")
    actions = {(s["action"], s["part"]) for s in document["steps"] if s["phase"] == "build"}
    assert actions == {("change", "model:m.a"), ("rebuild", "model:m.b")}
    assert set(document["stays"]) == {"model:m.b", "model:m.c"}
    assert values(program, url) == (2, 20, 100)
    assert set(status(program)["mixture"]) == {"model:m.b", "model:m.c"}
    assert "not chosen dev: model:m.c as in" in program("status").text
    program("run", "m.b", "--in", "dev", "--yes")
    assert values(program, url) == (2, 20, 100)
    promote(program, bundle)
    assert values(program, url) == (2, 40, 200)
    assert status(program)["mixture"] == {}


@pytest.mark.parametrize(
    ("choice", "after"),
    [
        (("--except", "model:m.c"), (2, 40, 100)),
        (("--only", "m.b", "--with-upstream"), (2, 40, 100)),
        (("--only", "m.a", "--with-downstream"), (2, 40, 100)),
        (("--only", "models/m/c.sql"), (1, 10, 200)),
        (("--only", "model:m.*", "--except", "m.b"), (2, 20, 200)),
        (("--only", "@chosen"), (1, 10, 200)),
        (("--only", "owner:duty *"), (1, 10, 200)),
    ],
)
def test_parts_are_chosen_in_many_ways(
    two_here: tuple[Program, str], choice: tuple[str, ...], after: tuple[int, ...]
) -> None:
    """By name, pattern, file, lineage, owner, and list."""
    program, url = two_here
    bundle = program.pack()
    program.write("chosen", "# these\nmodel:m.c   # and no more\n")
    promote(program, bundle, *choice)
    assert values(program, url) == after


def test_a_choice_that_lacks_something_is_refused(plain: Program) -> None:
    """By lineage: what stays is not what the chosen part needs."""
    plain.write("models/m/a.sql", f"{TABLE}SELECT 1 AS x")
    plain.write("models/m/b.sql", f"{TABLE}SELECT x FROM m.a")
    promote(plain, plain.pack())
    plain.write("models/m/a.sql", f"{TABLE}SELECT 1 AS x, 2 AS more")
    plain.write("models/m/b.sql", f"{TABLE}SELECT x, more FROM m.a")
    bundle = plain.pack()
    document = promote(plain, bundle, "--only", "m.b", code=1)
    (finding,) = [f for f in document["findings"] if f["severity"] == "error"]
    assert "more" in finding["message"]
    assert "--with-upstream" in finding["remedy"]
    assert promote(plain, bundle, "--only", "m.b", "--with-upstream")["state"] == "done"
    assert (
        "means no part"
        in plain("promote", bundle, "--to", "dev", "--only", "m.nothing", code=2).text
    )


def test_what_a_part_left_out_keeps_from_going_is_named(two_here: tuple[Program, str]) -> None:
    """Whoever needs it is left out as well; whoever stays and needs what goes is promoted."""
    program, _ = two_here
    program.write("models/m/new.sql", f"{TABLE}SELECT 1 AS one")
    program.write("models/m/reads.sql", f"{TABLE}SELECT one FROM m.new")
    bundle = program.pack()
    refused = promote(program, bundle, "--except", "m.new", code=1)
    (error,) = [f for f in refused["findings"] if f["severity"] == "error"]
    assert "--except model:m.reads." in error["remedy"]
    words = ("--except", "m.new", "--except", "model:m.reads")
    assert promote(program, bundle, *words)["state"] == "done"
    promote(program, bundle)
    (program.folder / "models/m/new.sql").unlink()
    (program.folder / "models/m/reads.sql").unlink()
    refused = promote(program, program.pack(), "--only", "m.new", code=1)
    (error,) = [f for f in refused["findings"] if f["severity"] == "error"]
    assert error["remedy"].startswith("model:m.reads stays as it is: promote it as well")
    promote(program, program.pack(), "--only", "m.new", "--only", "m.reads")


def test_parts_that_are_new_or_gone_stay_so(two: tuple[Program, str]) -> None:
    """What is not chosen is neither added nor removed."""
    program, url = two
    (program.folder / "models/m/c.sql").unlink()
    program.write("models/m/d.sql", f"{TABLE}SELECT 7 AS v")
    bundle = program.pack()
    document = promote(program, bundle, "--only", "m.a")
    assert document["stays"]["model:m.d"] is None
    assert values(program, url) == (2, 20, 100)
    promote(program, bundle)
    assert program.ask(url, "SELECT v FROM m.d") == [(7,)]


def test_what_was_chosen_has_not_passed_as_a_whole(released: Program) -> None:
    """Production takes what test has had, and not a part of it."""
    program = released
    program.edit("models/hydro/level_trend.sql", "mean_cm - lag", "1.0 * mean_cm - lag")
    program.edit("models/hydro/season.sql", "SELECT", "SELECT DISTINCT")
    bundle = program.release("1.4.1")
    program.promote(bundle, "dev")
    program("promote", bundle, "--to", "test", "--only", "hydro.level_trend", "--yes")
    assert (
        "only some parts of riverwatch-1.4.1 went into test (P4)"
        in program.promote(bundle, "prod", code=3).text
    )
    program.promote(bundle, "test")
    program.promote("riverwatch-1.4.0", "prod", code=None)
    assert program.promote(bundle, "prod").json["state"] == "done"


def test_a_part_on_hold_stays_as_it_is(two: tuple[Program, str]) -> None:
    """Promotions leave it alone, runs use it as it is; lifted, it follows."""
    program, url = two
    hold = ("hold", "m.b", "--in", "dev", "--yes", "--json")
    assert "needs a reason" in program(*hold, code=2).text
    held = program(*hold, "--because", "only for readers", "--until", "2099-12-31").json
    assert (held["steps"][0]["action"], held["steps"][0]["part"]) == ("hold", "model:m.b")
    assert status(program)["held"] == 1
    assert (
        "held dev: model:m.b, only for readers, until 2099-12-31 (lena)" in program("status").text
    )
    bundle = program.pack()
    document = promote(program, bundle)
    assert document["stays"].keys() == {"model:m.b"}
    assert values(program, url) == (2, 20, 200)
    assert promote(program, bundle)["state"] == "nothing to do"
    assert status(program)["drifted"] == 0
    program("run", "m.b", "--in", "dev", "--yes")
    assert values(program, url) == (2, 20, 200)
    lifted = program("hold", "m.b", "--in", "dev", "--lift", "--yes", "--json").json
    assert ("lift", "model:m.b") in {(s["action"], s["part"]) for s in lifted["steps"]}
    assert values(program, url) == (2, 40, 200)
    assert status(program)["held"] == 0


def test_a_hold_and_its_end_concern_that_part_alone(two: tuple[Program, str]) -> None:
    """What nobody had chosen before stays unchosen, whichever way the hold went."""
    program, url = two
    bundle = program.pack()
    promote(program, bundle, "--only", "m.a")
    assert values(program, url) == (2, 20, 100)
    hold = ("hold", "m.c", "--in", "dev", "--yes", "--json")
    held = program(*hold, "--because", "to see").json
    assert {step["part"] for step in held["steps"] if step["phase"] == "build"} == set()
    assert values(program, url) == (2, 20, 100)
    lifted = program(*hold, "--lift").json
    assert [step["part"] for step in lifted["steps"] if step["phase"] == "build"] == ["model:m.c"]
    assert values(program, url) == (2, 20, 200)
    assert promote(program, bundle)["state"] == "done"
    assert values(program, url) == (2, 40, 200)


def test_what_is_not_chosen_keeps_its_values(
    plain: Program, monkeypatch: pytest.MonkeyPatch
) -> None:
    """A model that uses the day stays that of its day, and is still known to be."""
    parameters = (plain.folder / "parameters.toml").read_text()
    plain.write("parameters.toml", f'{parameters}[day]\ntype = "date"\nevery = "today"\n')
    plain.write("models/m/a.sql", f"{TABLE}SELECT 1 AS x")
    plain.write("models/m/dated.sql", f"{TABLE}SELECT CAST(:day AS TEXT) AS day")
    promote(plain, plain.pack())
    before = plain.ask(SQLITE, "SELECT day FROM m.dated")
    now = process.clock() + dt.timedelta(days=1)
    monkeypatch.setattr(process, "clock", lambda: now)
    plain.write("models/m/a.sql", f"{TABLE}SELECT 2 AS x")
    bundle = plain.pack()
    done = promote(plain, bundle, "--only", "m.a")
    assert [step["part"] for step in done["steps"] if step["phase"] == "build"] == ["model:m.a"]
    assert plain.ask(SQLITE, "SELECT day FROM m.dated") == before
    promote(plain, bundle)
    assert plain.ask(SQLITE, "SELECT day FROM m.dated") == [(now.date().isoformat(),)]


def test_a_part_can_be_kept_out(two: tuple[Program, str]) -> None:
    """One that is not there yet does not come."""
    program, url = two
    program.write("models/m/d.sql", f"{TABLE}SELECT 7 AS v")
    program("hold", "m.d", "--in", "dev", "--because", "not yet", "--yes")
    document = promote(program, program.pack())
    assert document["stays"] == {"model:m.d": None}
    assert values(program, url) == (2, 40, 200)
    program("hold", "m.d", "--in", "dev", "--lift", "--yes")
    assert program.ask(url, "SELECT v FROM m.d") == [(7,)]


def test_a_hold_that_is_over_ends_with_the_next_promotion(starter: Program) -> None:
    """And one that never was cannot be lifted."""
    promote(starter, starter.pack())
    held = ("hold", "report.daily_total", "--in", "dev", "--because", "x", "--yes")
    assert "is over" in starter(*held, "--until", "2020-01-01", code=2).text
    assert "is not a date" in starter(*held, "--until", "soon", code=2).text
    starter(*held, "--until", "2099-01-01")
    database = starter.folder / ".inchworm/dev.duckdb"
    assert database.exists()
    starter.ask(
        "duckdb:///.inchworm/dev.duckdb",
        "UPDATE inchworm.holds SET until = '2020-01-01'",
        "SELECT 1",
    )
    starter.edit("models/report/daily_total.sql", "sum(amount) AS", "2 * sum(amount) AS")
    document = promote(starter, starter.pack())
    assert ("lift", "it was held until 2020-01-01") in {
        (s["action"], s["reason"]) for s in document["steps"]
    }
    assert status(starter)["held"] == 0


def test_a_hold_needs_what_a_promotion_needs(plain: Program) -> None:
    """Approvals of the environment."""
    promote(plain, plain.pack())
    file: Path = plain.folder / "environments/dev.toml"
    file.write_text(file.read_text() + "\n[entry]\napprovals = 1\nauthors_may_approve = true\n")
    held = plain("hold", "report.daily_total", "--in", "dev", "--because", "x", "--yes", code=3)
    assert "1 approval" in held.text
    plain("approve", "P2")
    assert plain("promote", "P2", "--yes", "--json").json["state"] == "done"
    assert status(plain)["held"] == 1


def test_a_rollback_takes_holds_back_that_came_since(two: tuple[Program, str]) -> None:
    """And brings those of then; what was held follows, or stays, accordingly."""
    program, url = two
    program("hold", "m.b", "--in", "dev", "--because", "not yet", "--yes")
    promote(program, program.pack())
    assert (values(program, url), status(program)["held"]) == ((2, 20, 200), 1)
    program("rollback", "dev", "--yes")
    assert (values(program, url), status(program)["held"]) == ((1, 10, 100), 1)
    document = program("rollback", "dev", "--to", "P1", "--yes", "--json").json
    assert ("lift", "model:m.b") in {(s["action"], s["part"]) for s in document["steps"]}
    assert (values(program, url), status(program)["held"]) == ((1, 10, 100), 0)


def test_a_rollback_brings_back_the_mixture_of_then(two: tuple[Program, str]) -> None:
    """What was left out then is left out again."""
    program, url = two
    bundle = program.pack()
    promote(program, bundle, "--only", "m.a")
    promote(program, bundle)
    assert values(program, url) == (2, 40, 200)
    program("rollback", "dev", "--yes")
    assert values(program, url) == (2, 20, 100)
    assert set(status(program)["mixture"]) == {"model:m.b", "model:m.c"}


def test_other_values_keep_nothing_from_the_next_environment(
    plain: Program, monkeypatch: pytest.MonkeyPatch
) -> None:
    """A hold on another day leaves dated models alone; that is no hold of theirs further on."""
    parameters = (plain.folder / "parameters.toml").read_text()
    day = '[day]\ntype = "date"\nevery = "today"\n'
    plain.write("parameters.toml", parameters.replace("dev =", 'test = "2026-01-01"\ndev =') + day)
    text = (plain.folder / "environments/dev.toml").read_text()
    test = text.replace(SQLITE, "sqlite:///.inchworm/test.sqlite").replace("sim:dev", "sim:test")
    plain.write("environments/test.toml", f'after = ["dev"]\n{test}')
    plain.write("models/m/a.sql", f"{TABLE}SELECT 1 AS x")
    plain.write("models/m/dated.sql", f"{TABLE}SELECT CAST(:day AS TEXT) AS day")
    bundle = plain.pack()
    promote(plain, bundle)
    now = process.clock() + dt.timedelta(days=1)
    monkeypatch.setattr(process, "clock", lambda: now)
    plain("hold", "m.a", "--in", "dev", "--because", "to see", "--yes")
    done = plain.promote(bundle, "test").json
    assert "promotion/held-before" not in {f["rule"] for f in done["findings"]}
    assert plain.ask("sqlite:///.inchworm/test.sqlite", "SELECT day FROM m.dated") != []
