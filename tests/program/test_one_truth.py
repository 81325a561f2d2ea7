"""An environment's own database says what it is and what runs there, whoever asks from wherever."""

from __future__ import annotations

import datetime as dt
import shutil
import sqlite3
from pathlib import Path

import pytest
from msgspec.structs import replace

from inchworm.cli import process
from inchworm.core.ledger.entries import Row
from tests.driver import Program
from tests.program.crash import die

DEV = "duckdb:///.inchworm/dev.duckdb"
MODEL = "models/report/daily_total.sql"
NEXT = """\
about = "Where it goes after development"
after = ["dev"]
snapshots = true
[databases.main]
url = "{url}"
[workspace]
url = "sim:test"
[gateway]
url = "sim:test"
"""


@pytest.fixture
def two(anywhere: tuple[Program, str]) -> tuple[Program, str]:
    """A project with two environments, dev in a database of each kind, under version control."""
    return in_two(*anywhere)


@pytest.fixture
def two_files(starter: Program) -> tuple[Program, str]:
    """The same in files, for what is no matter of the database."""
    return in_two(starter, DEV)


def in_two(program: Program, url: str) -> tuple[Program, str]:
    """Give a project a second environment, and put it under version control."""
    if not url.startswith("postgresql"):  # one file for all checkouts
        at = url.replace("///", f"///{program.folder}/", 1)
        program.edit("environments/dev.toml", url, at)
        url = at
    program.write(
        "environments/test.toml", NEXT.format(url=f"duckdb:///{program.folder}/test.duckdb")
    )
    program.edit("parameters.toml", 'dev = "2026-01-01"', 'every = "2026-01-01"')
    program.write(".gitignore", ".inchworm/\ndata/\n*.duckdb*\n")
    program.git("init", "--quiet", "--initial-branch", "main")
    return program, url


def clone(program: Program, folder: Path) -> Program:
    """A fresh clone: the same files and commits, and nothing of what the program keeps."""
    ignored = shutil.ignore_patterns(".inchworm", "data", "*.duckdb*")
    shutil.copytree(program.folder, folder, ignore=ignored)
    return Program(folder)


def change(program: Program, factor: int) -> None:
    """Have the model multiply by a factor."""
    text = (program.folder / MODEL).read_text()
    head, _, tail = text.partition("CAST(")
    program.write(MODEL, f"{head}CAST({factor} * sum({tail.partition('sum(')[2]}")


def errors(answer: dict[str, list[dict[str, str]]]) -> dict[str, str]:
    """The errors of a draft, by rule."""
    return {f["rule"]: f["message"] for f in answer["findings"] if f["severity"] == "error"}


# ---- the route -----------------------------------------------------------------------------------


def test_a_fresh_clone_goes_on_where_somebody_else_promoted(
    two: tuple[Program, str], tmp_path: Path
) -> None:
    """Its ledger knows nothing; development's own database says that the bundle passed there."""
    program, _ = two
    bundle = program.release("0.2.0")
    program.promote(bundle, "dev")
    fresh = clone(program, tmp_path / "fresh")
    assert fresh.pack() == bundle
    assert fresh.promote(bundle, "test").json["state"] == "done"
    told = program("status").text
    assert "went in with P1 of" in told
    assert "another ledger" in told
    assert "and the like: promotions of other ledgers" in program("history").text
    (heard,) = program("history", "--json").json["of_other_ledgers"]
    assert (heard["environment"], heard["bundle"], heard["promotion"]) == ("test", bundle, "P1")
    program("status")
    assert len(program("history", "--json").json["of_other_ledgers"]) == 1


def test_the_database_says_what_passed_and_not_the_ledger(two_files: tuple[Program, str]) -> None:
    """A database that was restored from before has nothing behind it, whatever the ledger says."""
    program, url = two_files
    bundle = program.release("0.2.0")
    program.promote(bundle, "dev")
    program.ask(url, "DELETE FROM inchworm.promotions", "SELECT 1")
    answer = program("promote", bundle, "--to", "test", "--yes", code=3)
    assert "the database there knows nothing of it" in answer.text
    assert program("promote", bundle, "--to", "dev", "--yes").code == 0
    assert program.promote(bundle, "test").json["state"] == "done"


def test_where_a_database_cannot_be_asked_the_ledger_is_the_witness(
    two_files: tuple[Program, str], tmp_path: Path
) -> None:
    """And that is said; somebody without that witness has to wait."""
    program, url = two_files
    bundle = program.release("0.2.0")
    program.promote(bundle, "dev")
    fresh = clone(program, tmp_path / "fresh")
    fresh.pack()
    for each in (program, fresh):
        each.edit("environments/dev.toml", url, "postgresql://nobody@127.0.0.1:9/none")
    answer = fresh("promote", bundle, "--to", "test", "--yes", code=3)
    assert "has not passed through dev yet" in answer.text
    assert "It could not be asked: the database cannot be reached" in answer.text
    done = program.promote(bundle, "test").json
    assert done["state"] == "done"
    assert [f["rule"] for f in done["findings"]] == ["promotion/route-not-asked"]


# ---- one artifact per version --------------------------------------------------------------------


def test_one_version_is_one_content_everywhere(
    two_files: tuple[Program, str], tmp_path: Path
) -> None:
    """Refused where it is packed after the other went somewhere, and where it would go in."""
    program, _ = two_files
    early, late = clone(program, tmp_path / "early"), clone(program, tmp_path / "late")
    change(early, 3)
    assert early.release("0.2.0") == "starter-0.2.0"
    program.promote(program.release("0.2.0"), "dev")
    refused = early.promote("starter-0.2.0", "dev", code=1).json
    assert "went into dev with other content" in errors(refused)["bundle/other-content"]
    answer = early("promote", "starter-0.2.0", "--to", "test", "--yes", code=1)
    assert "went into dev with other content" in answer.text
    change(late, 4)
    late.git("add", "--all")
    late.edit("inchworm.toml", '"0.1.0"', '"0.2.0"')
    late.git("add", "--all")
    late.git("commit", "--quiet", "--message", "Another 0.2.0")
    late.git("tag", "v0.2.0")
    answer = late("pack", code=1)
    assert "starter-0.2.0 went into dev with other content" in answer.text
    assert "Raise the version" in answer.text
    assert late("bundles").text.startswith("There are no bundles yet")


# ---- backwards -----------------------------------------------------------------------------------


def test_going_back_is_said_and_has_to_be_asked_for(two_files: tuple[Program, str]) -> None:
    """By version; and what ran here, and is not in the older bundle, is listed."""
    program, _ = two_files
    program.promote(program.release("0.2.0"), "dev")
    program.write("schemas/ops/migrations/0002_more.sql", "CREATE TABLE ops.more (x INTEGER);")
    program.promote(program.release("0.3.0"), "dev")
    refused = program.promote("starter-0.2.0", "dev", code=1).json
    assert (refused["state"], refused["direction"]) == ("refused", "back")
    assert "goes back behind starter-0.3.0" in errors(refused)["promotion/goes-back"]
    ran = {f["rule"]: f["message"] for f in refused["findings"] if f["severity"] == "warning"}
    assert ran["schema/ran-but-not-in-bundle"].startswith("0002_more ran here")
    shown = program("promote", "starter-0.2.0", "--to", "dev", "--yes", code=1).out
    assert "starter-0.3.0 runs here, since" in shown.splitlines()[2]
    assert shown.splitlines()[2].endswith("by lena; this goes back behind it")
    done = program("promote", "starter-0.2.0", "--to", "dev", "--yes", "--back", "--json").json
    assert done["state"] == "done"
    on = program.promote("starter-0.3.0", "dev").json
    assert (on["state"], on["direction"], on["runs_there"]["bundle"]) == (
        "done",
        "on",
        "starter-0.2.0",
    )


def test_a_stale_checkout_does_not_undo_a_colleagues_snapshot(
    two_files: tuple[Program, str], tmp_path: Path
) -> None:
    """Both have the same version; what was there before the one that runs there is older."""
    program, _ = two_files
    stale = clone(program, tmp_path / "stale")
    old = stale.pack()
    stale.promote(old, "dev")
    change(program, 5)
    program.promote(program.pack(), "dev")
    assert "promotion/goes-back" in errors(stale.promote(old, "dev", code=1).json)


# ---- clocks and numbers --------------------------------------------------------------------------


@pytest.mark.parametrize("days", [-400, 2], ids=["behind", "ahead"])
def test_no_clock_says_what_came_later(
    two: tuple[Program, str], monkeypatch: pytest.MonkeyPatch, days: int
) -> None:
    """An operator's clock is wrong for one promotion; the number of the database decides."""
    program, url = two
    first = program.release("0.2.0")
    program.promote(first, "dev")
    change(program, 3)
    right = process.clock
    monkeypatch.setattr(process, "clock", lambda: right() + dt.timedelta(days=days))
    second = program.release("0.3.0")
    done = program.promote(second, "dev").json
    assert done["state"] == "done"
    is_told = days < 0 or url.startswith("postgresql")
    told = [f["rule"] for f in done["findings"] if f["rule"] != "environment/superuser"]
    assert told == ["environment/clock-wrong"] * is_told
    monkeypatch.setattr(process, "clock", right)
    (dev, _) = program("status", "--json").json["environments"]
    assert (dev["bundle"], dev["number"]) == (second, 2)
    if url.startswith("postgresql"):
        assert dev["since"][:10] == right().date().isoformat()
    again = program.promote(second, "dev").json
    assert again["state"] == "nothing to do"


# ---- the fence -----------------------------------------------------------------------------------


def test_of_two_drafts_of_one_state_only_one_is_carried_out(
    two: tuple[Program, str], tmp_path: Path
) -> None:
    """Also where what the first one did is not to be seen in any table that the second touches."""
    program, _ = two
    program.promote(program.pack(), "dev")
    other = clone(program, tmp_path / "other")
    other.write("checks/other.sql", "SELECT day FROM report.daily_total WHERE total < 0")
    change(program, 3)
    mine = program("promote", program.pack(), "--to", "dev", "--draft", "--json").json["id"]
    assert other.promote(other.pack(), "dev").json["state"] == "done"
    answer = program("promote", mine, "--yes", code=4)
    assert "dev moved since P2 was drafted" in answer.text
    assert "promoted" in answer.text.partition("moved since")[2]


def test_what_another_project_did_meanwhile_moves_the_environment(
    two: tuple[Program, str], tmp_path: Path
) -> None:
    """Its parts were looked at in the draft."""
    program, _ = two
    program.promote(program.pack(), "dev")
    other = clone(program, tmp_path / "other")
    other.edit("inchworm.toml", 'name = "starter"', 'name = "board"')
    shutil.rmtree(other.folder / "schemas/ops")
    shutil.rmtree(other.folder / "pipelines")
    (other.folder / MODEL).unlink()
    other.write("models/board/shown.sql", "SELECT 1 AS one")
    change(program, 3)
    mine = program("promote", program.pack(), "--to", "dev", "--draft", "--json").json["id"]
    assert other.promote(other.pack(), "dev").json["state"] == "done"
    assert "dev moved since" in program("promote", mine, "--yes", code=4).text


def test_a_view_changed_by_hand_after_a_stop_is_not_overwritten(two: tuple[Program, str]) -> None:
    """What the draft had not seen would be lost without a word."""
    program, url = two
    program.write("models/report/seen.sql", "SELECT day, total FROM report.daily_total")
    program.promote(program.pack(), "dev")
    program.write(
        "models/report/seen.sql", "SELECT day, total + 1 AS total FROM report.daily_total"
    )
    drafted = program("promote", program.pack(), "--to", "dev", "--draft", "--json").json
    switch = next(s["number"] for s in drafted["steps"] if s["phase"] == "switch")
    die(program, drafted["id"], f"before:{switch}")
    by_hand = "SELECT day, total * 7 AS total FROM report.daily_total"
    program.ask(url, "DROP VIEW report.seen", f"CREATE VIEW report.seen AS {by_hand}", "SELECT 1")
    answer = program("promote", drafted["id"], "--yes", code=4)
    assert (
        "dev was changed by hand since P2 was drafted: view report.seen is changed" in answer.text
    )
    assert program.ask(url, "SELECT max(total) % 7 FROM report.seen") == [(0,)]


# ---- the ledger ----------------------------------------------------------------------------------


def ledger_file(program: Program) -> sqlite3.Connection:
    """The ledger, behind the program's back."""
    return sqlite3.connect(program.folder / ".inchworm/ledger.sqlite")


def forge(program: Program, number: int, old: str, new: str) -> None:
    """Alter an entry's text, and recompute the chain from there as the program would."""
    with ledger_file(program) as connection:
        query = "SELECT number, at, by, kind, about, body, before, hash FROM entries ORDER BY 1"
        rows = [Row(*row) for row in connection.execute(query)]
        before = rows[number - 2].hash
        for row in rows[number - 1 :]:
            text = row.text.replace(old, new) if row.number == number else row.text
            entry = replace(row._replace(text=text).entry, before=before)
            before = entry.hash
            connection.execute(
                "UPDATE entries SET body = ?, before = ?, hash = ? WHERE number = ?",
                [entry.text, entry.before, entry.hash, entry.number],
            )


def cut(program: Program) -> None:
    """Take the last entries of the ledger away, and what the index knows of them."""
    with ledger_file(program) as connection:
        connection.execute("DELETE FROM entries WHERE number > 5")
        connection.execute("DELETE FROM promotions")


@pytest.mark.parametrize("how", ["forged", "cut", "altered"])
def test_a_ledger_that_is_not_what_it_was_is_believed_nothing(
    two_files: tuple[Program, str], how: str
) -> None:
    """Status and promote name it, and nothing is appended to it."""
    program, _ = two_files
    bundle = program.release("0.2.0")
    program.promote(bundle, "dev")
    change(program, 3)
    failing = program.release("0.3.0")
    if how == "forged":
        forge(program, 4, "running", "failed")
    elif how == "cut":
        cut(program)
    else:
        with ledger_file(program) as connection:
            connection.execute(
                "UPDATE entries SET body = replace(body, '0.3.0', '0.3.1'), about = 'x' "
                "WHERE number = (SELECT max(number) FROM entries)"
            )
    with ledger_file(program) as connection:
        (before,) = connection.execute("SELECT count(*) FROM entries").fetchone()
    for command in (
        ("status",),
        ("promote", failing, "--to", "dev", "--yes"),
        ("promote", bundle, "--to", "dev", "--yes", "--back"),
    ):
        answer = program(*command, code=1)
        assert "ledger.sqlite" in answer.err
        assert "altered" in answer.err
    with ledger_file(program) as connection:
        assert connection.execute("SELECT count(*) FROM entries").fetchone() == (before,)
    (program.folder / ".inchworm/ledger.sqlite").unlink()
    assert program.promote(failing, "dev").json["state"] == "done"
