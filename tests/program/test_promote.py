"""``inchworm promote``, ``status`` and ``history``: the whole route."""

from __future__ import annotations

import os
import pty
import shutil
from pathlib import Path

from inchworm.application.starting import start_project
from inchworm.core.identifiers import Kind, PartId
from inchworm.targets.http_services import connect_service
from tests.driver import Program
from tests.forked import Started

BUNDLE = "riverwatch-1.4.0"


def actions(document: dict[str, list[dict[str, str]]]) -> dict[str, str]:
    """What a promotion did to each part."""
    return {s["part"]: s["action"] for s in document["steps"] if s["phase"] in ("build", "deliver")}


def test_a_bundle_goes_through_all_environments(released: Program) -> None:
    """With each environment's own values, and only in the order of the route."""
    answer = released.promote(BUNDLE, "prod")
    assert answer.json["state"] == "done"
    assert {step["state"] for step in answer.json["steps"]} == {"done"}
    counts = [
        released.query(e, "SELECT count(*), min(taken_at) FROM hydro.reading_clean")[0]
        for e in ("dev", "test", "prod")
    ]
    assert [str(oldest)[:10] for _, oldest in counts] == ["2026-10-24", "2026-08-01", "2025-01-01"]
    assert counts[0][0] < counts[1][0] < counts[2][0]
    assert len(released.query("prod", "SELECT * FROM alert.public_board")) > 0
    connections = {
        e: connect_service(f"sim:{e}", released.folder).document(
            PartId(Kind.CONNECTION, "notice_service")
        )["url"]
        for e in ("dev", "test", "prod")
    }
    assert connections == {
        "dev": "sim:board_dev",
        "test": "sim:board_test",
        "prod": "sim:board",
    }


def test_the_database_itself_says_what_is_live(released: Program) -> None:
    """For people without Inchworm, too: parts, migrations and the promotion."""
    (part,) = released.query(
        "test",
        "SELECT bundle, commit_id, promotion FROM inchworm.parts "
        "WHERE part = 'model:hydro.hourly_level'",
    )
    assert part[:2] == (BUNDLE, released.git("rev-parse", "HEAD"))
    assert part[2].endswith(":P2")
    ran = released.query("test", "SELECT name, outcome FROM inchworm.migrations ORDER BY name")
    assert ran == [
        ("0001_baseline", "ran"),
        ("0002_subscribers", "ran"),
        ("0003_first_thresholds", "ran"),
    ]


def test_a_second_promotion_finds_nothing_to_do(released: Program) -> None:
    """It says so, records nothing and changes nothing."""
    before = released("history", "--json").json
    answer = released.promote(BUNDLE, "test")
    assert (answer.json["state"], answer.json["id"], answer.json["steps"]) == (
        "nothing to do",
        None,
        [],
    )
    assert "nothing to do" in released("promote", BUNDLE, "--to", "test").out
    assert released("history", "--json").json == before


def test_an_environment_takes_only_what_passed_before_it(river: Program) -> None:
    """Exit code 3, and the promotion that is missing."""
    river.pack()
    answer = river("promote", BUNDLE, "--to", "prod", "--yes", code=3)
    assert "has not passed through test" in answer.err
    assert f"inchworm promote {BUNDLE} --to test" in answer.err


def test_one_changed_model_rebuilds_it_and_what_depends_on_it(released: Program) -> None:
    """And nothing else; each step has its reason."""
    kept = released.query("dev", "SELECT rowid, * FROM hydro.daily_peak LIMIT 5")
    released.edit("models/hydro/level_trend.sql", "mean_cm - lag", "1.0 * mean_cm - lag")
    document = released.promote(released.release("1.4.1"), "dev").json
    assert actions(document) == {
        "model:hydro.level_trend": "change",
        "model:alert.flood_state": "rebuild",
        "model:alert.current_warning": "rebuild",
        "model:alert.public_board": "rebuild",
        "model:alert.subscriber_notice": "rebuild",
    }
    reasons = {s["part"]: s["reason"] for s in document["steps"] if s["phase"] == "build"}
    assert reasons["model:hydro.level_trend"] == "content changed"
    assert reasons["model:alert.flood_state"] == "depends on hydro.level_trend"
    assert released.query("dev", "SELECT rowid, * FROM hydro.daily_peak LIMIT 5") == kept


def test_a_comment_is_no_change(released: Program) -> None:
    """Only the record says which bundle is there now."""
    released.edit("models/hydro/gauge.sql", "SELECT gauge_id", "-- the gauges\nSELECT gauge_id")
    document = released.promote(released.release("1.4.1"), "dev").json
    assert [step["action"] for step in document["steps"]] == ["record"]
    assert released("status", "dev", "--json").json["environments"][0]["bundle"].endswith("1.4.1")


def test_a_changed_value_promotes_just_the_parts_that_use_it(released: Program) -> None:
    """The reason names the parameter; parts of the other environments stay."""
    released.edit("parameters.toml", 'dev = "1GB"', 'dev = "3GB"')
    name = released.release("1.4.1")
    document = released.promote(name, "dev").json
    assert actions(document) == {"pipeline:nightly": "change"}
    assert "parameter forecast_memory changed" in {s["reason"] for s in document["steps"]}
    assert {v["name"]: v["here"] for v in document["values"]}["forecast_memory"] == "3GB"
    assert actions(released.promote(name, "test").json) == {}


def test_only_touched_schedules_pause_and_get_their_declared_state(released: Program) -> None:
    """The nightly pipeline is on in test, the other one is off."""
    workspace = connect_service("sim:test", released.folder)
    assert workspace.schedules() == {"intake.office_hours": "off", "nightly.nightly": "on"}
    released.edit("models/hydro/level_trend.sql", "mean_cm - lag", "1.0 * mean_cm - lag")
    name = released.release("1.4.1")
    released.promote(name, "dev")
    steps = released.promote(name, "test").json["steps"]
    schedule = [(s["action"], s["item"]) for s in steps if s["phase"] in ("pause", "resume")]
    assert schedule == [("pause", "nightly"), ("resume", "nightly")]
    assert workspace.schedules() == {"intake.office_hours": "off", "nightly.nightly": "on"}


def test_what_left_the_bundle_leaves_the_environment(released: Program) -> None:
    """Models and service items go; tables under migrations stay, and that is said."""
    for path in ("flows/take_hand_readings.toml", "models/hydro/season.sql"):
        (released.folder / path).unlink()
    for path in ("connections/observer_portal.toml", "pipelines/intake.toml"):
        (released.folder / path).unlink()
    document = released.promote(released.release("1.5.0"), "dev").json
    removed = {step["part"] for step in document["steps"] if step["action"] == "remove"}
    assert removed == {
        "flow:take_hand_readings",
        "connection:observer_portal",
        "pipeline:intake",
        "model:hydro.season",
    }
    assert "hydro.season" not in {
        f"{s}.{n}"
        for s, n in released.query("dev", "SELECT schema_name, view_name FROM duckdb_views()")
    }
    items = connect_service("sim:dev", released.folder).items()
    assert not removed & set(items)
    assert released.promote(document["bundle"], "dev").json["state"] == "nothing to do"


def test_new_migrations_run_once_and_rebuild_their_readers(released: Program) -> None:
    """Data that a migration changes reaches the models that read it."""
    released.write(
        "schemas/ops/migrations/0004_lower.sql",
        "UPDATE ops.threshold SET from_cm = from_cm - 1 WHERE state = 'watch';",
    )
    document = released.promote(released.release("1.4.1"), "dev").json
    first, *_ = document["steps"]
    assert (first["action"], first["item"]) == ("run", "0004_lower")
    reasons = {s["part"]: s["reason"] for s in document["steps"] if s["phase"] == "build"}
    assert reasons["model:alert.flood_state"] == "a migration changes ops.threshold"
    assert "model:hydro.hourly_level" not in reasons


def test_a_migration_edited_after_it_ran_is_refused(released: Program) -> None:
    """Before anything changes, with the file and what to do instead."""
    path = "schemas/ops/migrations/0002_subscribers.sql"
    released.edit(path, "phone VARCHAR", "phone TEXT")
    document = released.promote(released.release("1.4.1"), "dev", code=1).json
    assert document["state"] == "refused"
    (finding,) = document["findings"]
    assert (finding["rule"], finding["file"]) == ("schema/migration-edited", path)


def test_a_baseline_is_assumed_only_where_it_is_true(river: Program) -> None:
    """What is there is compared with what the baseline makes; what differs stops the draft."""
    river.pack()
    river.query("dev", "CREATE SCHEMA ops")
    river.query("dev", "CREATE TABLE ops.threshold (gauge_id INT NOT NULL, state TEXT NOT NULL)")
    refused = river.promote(BUNDLE, "dev", code=1).json
    said = {f["message"] for f in refused["findings"]}
    assert "the schema has tables, but ops.threshold lacks from_cm" in said
    assert "the schema has tables, but ops.hand_reading is not there" in said
    river.query("dev", "DROP TABLE ops.threshold")
    baseline = (river.folder / "schemas/ops/migrations/0001_baseline.sql").read_text()
    river.query("dev", baseline)
    steps = river.promote(BUNDLE, "dev").json["steps"]
    assert [s["action"] for s in steps if s["phase"] == "migrate"] == ["assume", "run", "run"]


def test_a_draft_is_carried_out_as_it_was_shown_or_not_at_all(released: Program) -> None:
    """If the environment moved in between, the draft is refused with exit code 4."""
    drafted = released("promote", BUNDLE, "--to", "prod", "--draft", "--json").json
    assert (drafted["id"], drafted["state"]) == ("P3", "drafted")
    released.query("prod", "CREATE TABLE raw.extra (x INT)")
    answer = released("promote", "p3", "--yes", code=4)
    assert "prod moved since P3 was drafted" in answer.err
    released.query("prod", "DROP TABLE raw.extra")
    assert released("promote", "p3", "--yes", "--json").json["state"] == "done"
    assert "P3 is done" in released("promote", "P3", "--yes", code=2).err


def test_nobody_there_to_ask(released: Program) -> None:
    """Without --yes and without a terminal nothing happens."""
    answer = released("promote", BUNDLE, "--to", "prod", code=2)
    assert "waits for a yes" in answer.err
    assert released("status", "prod", "--json").json["environments"][0]["bundle"] is None


def test_a_protected_environment_wants_its_name_typed(released: Program) -> None:
    """A yes is not enough; anything else changes nothing."""
    for typed, code in (("y\n", 1), ("test\n", 1), ("prod\n", 0)):
        main, terminal = pty.openpty()
        arguments = ("promote", BUNDLE, "--to", "prod")
        process = Started(released.folder, released.environ, arguments, keyboard=terminal)
        with open(main, "w", closefd=True) as keyboard:
            keyboard.write(typed)
            keyboard.flush()
            out, err = process.communicate(timeout=60)
        os.close(terminal)
        assert process.wait() == code, out
        assert "prod is protected" in out + err
        live = released("status", "prod", "--json").json["environments"][0]["bundle"]
        assert live == (BUNDLE if code == 0 else None)


def test_bad_data_is_never_switched_over(released: Program) -> None:
    """The check fails beside; readers go on seeing what was there, schedules run again."""
    before = released.query("test", "SELECT count(*), sum(peak_cm) FROM hydro.hourly_level")
    released.edit("models/hydro/hourly_level.sql", "max(level_cm)", "max(level_cm) + 9000")
    name = released.release("1.4.1")
    document = released.promote(name, "dev", code=1).json
    assert document["state"] == "failed"
    (failed,) = [s for s in document["steps"] if s["state"] == "failed"]
    assert failed["part"] == "model:hydro.hourly_level"
    assert "peak_cm is between -100 and 2000" in failed["message"]
    assert "before the switch-over" in document["message"]
    assert released.query("test", "SELECT count(*), sum(peak_cm) FROM hydro.hourly_level") == before
    names = {n for (n,) in released.query("dev", "SELECT table_name FROM duckdb_tables()")}
    assert not [name for name in names if name.endswith("__beside")]
    assert released.promote(BUNDLE, "dev").json["state"] == "nothing to do"


def test_empty_data_says_that_nothing_was_checked(released: Program) -> None:
    """A check that met no rows is not a green one."""
    released.edit(
        "models/hydro/daily_peak.sql",
        "FROM hydro.hourly_level",
        "FROM hydro.hourly_level\nWHERE 1 = 0",
    )
    document = released.promote(released.release("1.4.1"), "dev").json
    states = {s["part"]: s["state"] for s in document["steps"] if s["phase"] == "check"}
    assert states["model:hydro.daily_peak"] == "nothing checked"
    assert document["state"] == "done"


def test_status_is_read_from_the_targets(released: Program) -> None:
    """What somebody changed by hand shows, and a promotion that is told to mends it."""
    connect_service("sim:test", released.folder).put(
        PartId(Kind.FLOW, "publish_warnings"), "sha256:0", {}
    )
    released.query("test", "DROP TABLE hydro.daily_peak")
    document = released("status", "--json").json
    assert document["format"] == "inchworm/status/1"
    by_name = {e["name"]: e for e in document["environments"]}
    assert list(by_name) == ["dev", "test", "prod"]
    assert by_name["prod"]["protected"]
    assert by_name["prod"]["bundle"] is None
    dev = by_name["dev"]
    assert (dev["bundle"], dev["by"], dev["drifted"], dev["parts"]) == (BUNDLE, "lena", 0, 23)
    assert dev["commit"] == released.git("rev-parse", "HEAD")
    assert by_name["test"]["drifted_parts"] == ["flow:publish_warnings", "model:hydro.daily_peak"]
    assert released.promote(BUNDLE, "test", code=1).json["state"] == "refused"
    overwriting = ("promote", BUNDLE, "--to", "test", "--yes", "--json", "--overwrite")
    mended = actions(released(*overwriting).json)
    assert mended == {"model:hydro.daily_peak": "rebuild", "flow:publish_warnings": "change"}
    assert released("status", "test", "--json").json["environments"][0]["drifted"] == 0


def test_every_output_names_environment_protection_identity_and_time(released: Program) -> None:
    """In the draft, at the end, and in the status."""
    text = released("promote", BUNDLE, "--to", "prod", "--draft").text
    assert f"{BUNDLE} into prod (protected) as " in text
    assert "at river_prod.duckdb, read 20" in text
    done = released("promote", "P3", "--yes").text
    assert "done P3: riverwatch-1.4.0 in prod (protected)" in done
    status = released("status").text
    for said in ("not protected", "protected", "UTC", "at river_dev.duckdb"):
        assert said in status


def test_history_tells_each_promotion_step_by_step(released: Program) -> None:
    """The list, one promotion, and one environment."""
    document = released("history", "--json").json
    assert document["format"] == "inchworm/history/1"
    assert [(p["id"], p["environment"], p["state"]) for p in document["promotions"]] == [
        ("P2", "test", "done"),
        ("P1", "dev", "done"),
    ]
    assert "P2" not in released("history", "--to", "DEV").out
    text = released("history", "p1").text
    assert "0003_first_thresholds done" in text
    assert "The latest is P2." in released("history", "P22", code=2).err


def test_two_projects_share_an_environment(released: Program, tmp_path: Path) -> None:
    """Neither touches the other's parts, and neither takes a column away that the other reads."""
    maps = Program(tmp_path / "maps")
    start_project(maps.folder, "maps", "duckdb")
    for folder in ("schemas/ops", "models/report", "pipelines"):
        shutil.rmtree(maps.folder / folder)
    maps.write("schemas/hydro/schema.toml", 'managed = "outside"\n')
    maps.write(
        "schemas/hydro/tables.sql",
        "CREATE TABLE hydro.season (gauge_id INT, river TEXT, month BIGINT, usual_cm DOUBLE);",
    )
    maps.write(
        "models/map/river.sql", "SELECT river, avg(usual_cm) AS cm FROM hydro.season GROUP BY 1"
    )
    database = released.folder / "data/river_dev.duckdb"
    maps.edit("environments/dev.toml", "duckdb:///.inchworm/dev.duckdb", f"duckdb:///{database}")
    maps.promote(maps.pack(), "dev")
    assert len(released.query("dev", "SELECT * FROM map.river")) > 1
    assert released.promote(BUNDLE, "dev").json["state"] == "nothing to do"
    counts = [
        p("status", "dev", "--json").json["environments"][0]["parts"] for p in (released, maps)
    ]
    assert counts == [23, 2]
    released.edit("models/hydro/season.sql", "  gauge.river,\n", "")
    refused = released.promote(released.release("1.4.1"), "dev", code=1).json
    assert [f["message"] for f in refused["findings"]] == [
        "hydro.season.river is read by model:map.river of maps"
    ]
    assert len(released.query("dev", "SELECT river FROM hydro.season LIMIT 1")) == 1


def test_what_was_replaced_is_kept_until_the_next_promotion(starter: Program) -> None:
    """And not at all where the environment says so."""

    def kept() -> list[str]:
        asked = (
            "SELECT table_name FROM duckdb_tables() WHERE table_name LIKE '%!_!_kept' ESCAPE '!'"
        )
        return [row[0] for row in starter.query("dev", asked)]

    other = '/*---\nstore = "table"\n---*/\nSELECT 1 AS x'
    starter.write("models/report/other.sql", other)
    starter.promote(starter.pack(), "dev")
    assert kept() == []
    starter.edit("models/report/daily_total.sql", "sum(amount)", "sum(amount + 0)")
    starter.promote(starter.pack(), "dev")
    assert kept() == ["daily_total__kept"]
    starter.write("models/report/other.sql", other.replace("1 AS x", "2 AS x"))
    starter.promote(starter.pack(), "dev")
    assert kept() == ["other__kept"]
    starter.edit(
        "environments/dev.toml", "[databases.main]", "[databases.main]\nkeep_replaced = false"
    )
    starter.write("models/report/other.sql", other.replace("1 AS x", "3 AS x"))
    starter.promote(starter.pack(), "dev")
    assert kept() == []
