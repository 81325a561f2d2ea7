"""The record: by environment, person, time and outcome; of a part; and what ran at a time."""

from __future__ import annotations

from pathlib import Path

import pytest

from tests.driver import Program
from tests.once import SQLITE, Once


@pytest.fixture
def past(once: Once, released: Program) -> Program:
    """Riverwatch in dev and test, changed in dev by somebody else, and taken back there."""
    once(_take_back, released)
    return released


def _take_back(program: Program, url: str) -> None:
    program.edit("models/hydro/level_trend.sql", "mean_cm - lag", "1.0 * mean_cm - lag")
    bundle = program.release("1.4.1")
    program("promote", bundle, "--to", "dev", "--yes", environ={"INCHWORM_USER": "Ole"})
    program("rollback", "dev", "--because", "too soon", "--yes")


def files_of(database: Path) -> dict[Path, bytes]:
    """The files of a SQLite database, one for each schema."""
    return {file: file.read_bytes() for file in database.parent.glob(f"{database.stem}*.sqlite")}


def restore(database: Path, files: dict[Path, bytes]) -> None:
    """Put its files of another time in place."""
    for file in files_of(database):
        file.unlink()
    for file, content in files.items():
        file.write_bytes(content)


def ids(program: Program, *arguments: str) -> list[str]:
    """The promotions that are listed."""
    document = program("history", "--json", *arguments).json
    return [promotion["id"] for promotion in document["promotions"]]


def test_promotions_are_found_by_what_they_are(past: Program) -> None:
    """Each filter by itself, and together."""
    assert ids(past, "--to", "dev") == ["P4", "P3", "P1"]
    assert ids(past, "--state", "undone") == ["P3"]
    assert ids(past, "--by", "ole") == []
    assert ids(past, "--by", "lena", "--state", "done", "--to", "dev") == ["P4", "P1"]
    assert ids(past, "--since", "2100-01-01") == []
    assert len(ids(past, "--since", "2020-01-01", "--until", "2100-01-01")) == 4
    assert ids(past, "--until", "2020-01-01") == []
    assert "done" in past("history", "--state", "dne", code=2).text
    assert "2026-12-31" in past("history", "--since", "yesterday", code=2).text


def test_a_part_has_a_life_through_all_environments(past: Program) -> None:
    """What each promotion did to it, and why."""
    events = past("history", "hydro.level_trend", "--json").json["events"]
    told = [(e["promotion"], e["environment"], e["action"]) for e in events]
    assert told == [
        ("P4", "dev", "take back"),
        ("P3", "dev", "change"),
        ("P2", "test", "add"),
        ("P1", "dev", "add"),
    ]
    assert "content changed" in past("history", "model:hydro.level_trend").text
    taken_back = events[1]
    assert taken_back["by"] == "Ole", "who brought it, and not who took it back"
    assert taken_back["taken_back"].endswith("by lena")
    assert [e["taken_back"] for e in events if e is not taken_back] == [None, None, None]
    near = past("history", "hydro.level_trnd", code=2).text
    assert "hydro.level_trend" in near


def test_what_was_taken_back_and_comes_again_is_told(past: Program) -> None:
    """Who took it back, and when; the environment that it never was in has nothing to tell."""
    drafted = past("promote", "riverwatch-1.4.1", "--to", "dev", "--draft", "--json").json
    (finding,) = [f for f in drafted["findings"] if f["rule"] == "promotion/taken-back-before"]
    assert finding["message"].startswith("riverwatch-1.4.1 was taken back in dev on 20")
    assert finding["message"].endswith("by lena")


def test_a_database_from_an_older_backup_is_told(plain: Program) -> None:
    """By status, drift and drafts, until a promotion went in again."""
    plain.promote(plain.pack(), "dev")
    backup = {f: f.read_bytes() for f in (plain.folder / ".inchworm").glob("dev*.sqlite")}
    plain.write("models/report/more.sql", "/*---\nstore = 'table'\n---*/\nSELECT 1 AS one")
    bundle = plain.pack()
    plain.promote(bundle, "dev")
    assert plain("status", "--json").json["environments"][0]["unknown_there"] is None
    for file, content in backup.items():
        file.write_bytes(content)
    known = plain("status", "--json").json["environments"][0]["unknown_there"]
    assert (known["promotion"], known["bundle"], known["by"]) == ("P2", bundle, "lena")
    for command in (("status",), ("drift", "dev")):
        told = plain(*command).text
        assert f"P2 ({bundle}) was completed in dev by" in told
        assert "restored from an older backup" in told
    done = plain.promote(bundle, "dev").json
    assert "promotion/older-database" in {f["rule"] for f in done["findings"]}
    assert plain("status", "--json").json["environments"][0]["unknown_there"] is None


def test_a_promotion_that_is_not_there(past: Program) -> None:
    """Another number is not a near miss."""
    missing = past("history", "P11", code=2).text
    assert "There is no promotion P11." in missing
    assert "The latest is P4." in missing
    assert "Did you mean" not in missing


def test_one_promotion_tells_its_story(past: Program) -> None:
    """What it took back and why, and who said yes."""
    story = past("history", "P4").text
    assert "a rollback of P3, because too soon" in story
    past("promote", "riverwatch-1.4.1", "--to", "dev", "--draft")
    past("approve", "P5", "--because", "now", environ={"INCHWORM_USER": "Mira"})
    story = past("history", "P5").text
    assert "by Mira (as git says): now" in story


def test_what_ran_at_a_time(past: Program) -> None:
    """Also what was taken back since."""
    promotions = past("history", "--json").json["promotions"]
    done = {p["id"]: p["changed_at"] for p in promotions}
    read = past("status", "--at", done["P1"], "--json").json["environments"]
    assert [(each["name"], each["bundle"]) for each in read] == [
        ("dev", "riverwatch-1.4.0"),
        ("test", read[1]["bundle"]),
        ("prod", None),
    ]
    now = past("status", "dev", "--at", "2100-01-01", "--json").json["environments"]
    assert [(each["promotion"], each["bundle"]) for each in now] == [("P4", "riverwatch-1.4.0")]
    shown = past("status", "--at", "2020-01-01 12:00").text
    assert shown.count("nothing yet") == 3
    assert "is not a time" in past("status", "--at", "noon", code=2).text


def test_a_ledger_that_was_lost_is_begun_again(released: Program) -> None:
    """With the bundles, and what the databases know; then life goes on."""
    refused = released("ledger", "rebuild", code=1)
    assert "there is a ledger with" in refused.text
    for file in (released.folder / ".inchworm").glob("ledger.sqlite*"):
        file.unlink()
    rebuilt = released("ledger", "rebuild", "--json").json
    assert rebuilt["promotions"] == {"dev": 1, "test": 1, "prod": 0}
    assert rebuilt["bundles"] == 1
    (bundle,) = released("bundles", "--json").json["bundles"]
    assert bundle["promoted_to"] == ["dev", "test"]
    history = released("history", "--json").json
    assert history["promotions"] == []
    assert [each["environment"] for each in history["of_other_ledgers"]] == ["test", "dev"]
    assert released("ledger", "verify").code == 0
    assert released.promote("riverwatch-1.4.0", "prod").json["state"] == "done"
    (entry,) = released("history", "--json").json["promotions"]
    assert entry["id"] == "P1"


def test_the_sql_of_every_step_is_recorded(released: Program) -> None:
    """As it was about to run, before the first of them; of a draft it is the review that tells."""
    steps = released("history", "P1", "--json").json["steps"]
    (added,) = [s for s in steps if (s["action"], s["part"]) == ("add", "model:hydro.gauge")]
    (built,) = added["sql"]
    assert built.startswith('CREATE VIEW "hydro"."gauge__beside" AS SELECT')
    script = released("history", "P1", "--sql").out
    assert "-- 1. run schema:ops 0001_baseline\nCREATE TABLE" in script
    assert f"{built};" in script
    told = released("history", "P1").text
    assert "inchworm history P1 --sql" in told
    drafted = released("promote", "riverwatch-1.4.0", "--to", "prod", "--draft", "--json").json
    refused = released("history", drafted["id"], "--sql", code=2).text
    assert f"inchworm review {drafted['id']} --sql" in refused
    assert released("history", "--sql", code=2).code == 2


def test_of_very_many_steps_those_that_matter_are_listed(plain: Program) -> None:
    """What failed is among them, wherever it comes; and all with --all."""
    for number in range(120):
        plain.write(f"models/m/v{number}.sql", f"SELECT {number} AS x")
    plain.write("checks/never.sql", "SELECT x FROM m.v1")
    plain.promote(plain.pack(), "dev", code=1)
    steps = len(plain("history", "P1", "--json").json["steps"])
    some, everything = plain("history", "P1").text, plain("history", "P1", "--all").text
    assert f"... and {steps - 100} more steps: --all" in some
    assert "more steps" not in everything
    assert some.count("model:m.v") < everything.count("model:m.v") == 120
    for text in (some, everything):
        assert " check check:never failed " in text


def test_a_run_of_very_many_steps_is_listed_so_too(plain: Program) -> None:
    """And so is one of a pipeline."""
    for number in range(120):
        plain.write(f"models/m/v{number}.sql", f"SELECT {number} AS x")
    steps = "[[steps]]\nname = 'all'\nbuild = " + str([f"m.v{n}" for n in range(120)])
    plain.write("pipelines/all.toml", steps)
    plain.promote(plain.pack(), "dev")
    plain("run", "all", "--in", "dev")
    steps_of_run = len(plain("history", "R1", "--json").json["steps"])
    assert f"... and {steps_of_run - 100} more steps: --all" in plain("history", "R1").text
    assert "more steps" not in plain("history", "R1", "--all").text


def test_an_environment_that_got_another_name_keeps_its_past(plain: Program) -> None:
    """Its promotions are found by either name, and it can go back behind the change."""
    plain.promote(plain.pack(), "dev")
    database = plain.folder / SQLITE.removeprefix("sqlite:///")
    backup = files_of(database)
    plain.write("models/report/more.sql", "/*---\nstore = 'table'\n---*/\nSELECT 1 AS one")
    plain.promote(plain.pack(), "dev")
    later = files_of(database)
    text = (plain.folder / "environments/dev.toml").read_text()
    (plain.folder / "environments/dev.toml").unlink()
    plain.write("environments/desk.toml", text)
    plain.edit("parameters.toml", "dev =", "desk =")
    refused = plain("status", "desk", code=None).text
    assert 'formerly = "dev"' in refused
    plain.write("environments/desk.toml", f'formerly = "dev"\n{text}')
    restore(database, backup)
    assert plain("drift", "desk", "--json", code=None).json["unknown_there"]["promotion"] == "P2"
    restore(database, later)
    plain.promote(plain.pack(), "desk")
    assert ids(plain, "--to", "dev") == ["P2", "P1"]
    assert ids(plain, "--to", "desk") == ["P3", "P2", "P1"]
    plain.write("environments/desk.toml", text)
    missing = plain("rollback", "desk", "--yes", code=1).text
    assert "has no value for an environment desk" in missing
    assert 'write formerly = "THAT NAME"' in missing
    plain.write("environments/desk.toml", f'formerly = "dev"\n{text}')
    assert plain("rollback", "desk", "--yes", "--json").json["state"] == "done"
