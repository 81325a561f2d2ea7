"""``inchworm compare`` and ``inchworm version``."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import pytest

from tests import postgres
from tests.driver import Program

BUNDLE = "riverwatch-1.4.0"
HOURLY, GAUGE = "models/hydro/hourly_level.sql", "models/hydro/gauge.sql"


def test_nothing_changed(released: Program) -> None:
    """Between a bundle and the tree that it was packed from."""
    assert released("compare", BUNDLE).out.startswith("nothing to do")
    assert released("version").out == "1.4.0\n"
    assert "Nothing changed since riverwatch-1.4.0" in released("version", "--suggest").text


CHANGES = {
    "a comment": (HOURLY, "GROUP BY", "-- why\nGROUP BY", "patch", "changed", "", "1.4.1"),
    "a column more": (
        GAUGE,
        "SELECT",
        "SELECT 1 AS one,",
        "minor",
        "added",
        "hydro.gauge.one",
        "1.5.0",
    ),
    "a column less": (
        GAUGE,
        "northing_m, ",
        "",
        "major",
        "gone",
        "hydro.gauge.northing_m",
        "2.0.0",
    ),
    "another type": (
        HOURLY,
        "count(*) AS readings",
        "CAST(count(*) AS INTEGER) AS readings",
        "major",
        "retyped",
        "hydro.hourly_level.readings",
        "2.0.0",
    ),
}


@pytest.mark.parametrize(
    ("path", "old", "new", "weight", "what", "item", "following"),
    CHANGES.values(),
    ids=CHANGES.keys(),
)
def test_a_change_has_its_weight(
    released: Program,
    path: str,
    old: str,
    new: str,
    weight: str,
    what: str,
    item: str,
    following: str,
) -> None:
    """By what those who rely on it can see; the next version follows from it."""
    released.edit(path, old, new)
    document = released("compare", BUNDLE, ".", "--json").json
    assert (document["format"], document["weight"]) == ("inchworm/comparison/1", weight)
    assert (what, item) in {(c["what"], c["item"]) for c in document["changes"]}
    assert f"inchworm version {following}" in released("version", "--suggest").text


def test_who_feels_it_is_named(released: Program) -> None:
    """However far down, in the version before."""
    released.edit(HOURLY, "  max(level_cm) AS peak_cm,\n", "")
    changes = released("compare", BUNDLE, "--json").json["changes"]
    (gone,) = [c for c in changes if c["item"] == "hydro.hourly_level.peak_cm"]
    assert {"consumer:county_report", "consumer:flood_map", "flow:publish_warnings"} <= set(
        gone["affected"]
    )
    assert (
        "gone model:hydro.hourly_level hydro.hourly_level.peak_cm major"
        in released("compare", BUNDLE).text
    )


def test_parts_come_and_go(released: Program) -> None:
    """Seen from either side."""
    released.write("models/hydro/extra.sql", "SELECT 1 AS one")
    (released.folder / "consumers/flood_map.toml").unlink()
    name = released.release("1.5.0")
    there = {
        (c["what"], c["part"]) for c in released("compare", BUNDLE, name, "--json").json["changes"]
    }
    assert there == {("added", "model:hydro.extra"), ("gone", "consumer:flood_map")}
    back = {
        (c["what"], c["part"]) for c in released("compare", name, BUNDLE, "--json").json["changes"]
    }
    assert back == {("gone", "model:hydro.extra"), ("added", "consumer:flood_map")}


@pytest.mark.parametrize(
    ("to", "version"),
    [("patch", "1.4.1"), ("minor", "1.5.0"), ("major", "2.0.0"), ("3.0.1", "3.0.1")],
)
def test_a_version_is_written_everywhere_it_belongs(river: Program, to: str, version: str) -> None:
    """And nowhere else: one line of each file changes."""
    said = river("version", to).text
    assert (
        said
        == f"done 1.4.0 is {version} now, in inchworm.toml, apis/notices.yaml, apis/observers.yaml."
    )
    assert river("version").out == f"{version}\n"
    changed = river.git("diff", "--numstat").splitlines()
    assert changed == [
        "1\t1\tapis/notices.yaml",
        "1\t1\tapis/observers.yaml",
        "1\t1\tinchworm.toml",
    ]
    assert river.findings(code=0) == []


def test_what_cannot_be_read_has_no_weight(released: Program) -> None:
    flow = "flows/publish_warnings.toml"
    released.write(flow, "direction = \n")
    refused = released("version", "--suggest", code=1).text
    assert f"{flow}: flow:publish_warnings cannot be read, so nobody can say" in refused
    release = released("bundles", "--json").json["bundles"][0]["bundle"]
    compared = released("compare", release, ".", "--json").json
    assert "flow:publish_warnings" in json.dumps(compared)


def test_what_is_no_version(river: Program) -> None:
    """And a suggestion without anything to compare with."""
    assert "Write major, minor, patch or X.Y.Z." in river("version", "1.5", code=2).err
    assert "no release to compare with" in river("version", "--suggest", code=2).err


def changes(released: Program) -> set[tuple[str | None, str, str, str]]:
    """Part, what, item with detail, and weight of all changes since the release."""
    found = released("compare", BUNDLE, "--json").json["changes"]
    return {
        (c["part"], c["what"], f"{c['item']} {c['detail']}".strip(), c["weight"]) for c in found
    }


NOTICES, WARNINGS = "apis/notices.yaml", "flows/publish_warnings.toml"
FLOW = "flow:publish_warnings"
SEEN = {
    "a value of one environment": (
        ("parameters.toml", "dev = 20", "dev = 21"),
        (None, "changed", "rise_warning_cm dev: 20 is 21 now", "patch"),
    ),
    "a field of a flow": (
        (WARNINGS, 'expected_cm = "expected_cm"\n', ""),
        (FLOW, "gone", "field expected_cm", "major"),
    ),
    "a field of a request": (
        (NOTICES, "        expected_cm:\n          type: number\n          nullable: true\n", ""),
        (FLOW, "gone", "POST /notices expected_cm of the request", "major"),
    ),
    "a field that is required": (
        (NOTICES, "[gauge, state, level_cm]", "[gauge, state, level_cm, river]"),
        (FLOW, "required", "POST /notices river of the request is required now", "major"),
    ),
    "a check on rows": (
        ("models/alert/flood_state.sql", 'one_of = ["normal", "watch", "warning", "flood"]\n', ""),
        (
            "model:alert.flood_state",
            "loosened",
            "state one of normal, watch, warning, flood is not checked any more",
            "major",
        ),
    ),
    "a class": (
        ("schemas/ops/schema.toml", '"subscriber.phone" = "personal"\n', ""),
        ("schema:ops", "loosened", "ops.subscriber.phone was personal", "major"),
    ),
    "a view that becomes a table": (
        ("models/hydro/season.sql", 'store = "view"', 'store = "table"'),
        ("model:hydro.season", "changed", "is a table now", "minor"),
    ),
    "a schedule": (
        ("pipelines/nightly.toml", 'cron = "15 2 * * *"', 'cron = "15 3 * * *"'),
        (
            "pipeline:nightly",
            "changed",
            "schedule nightly 15 2 * * * Europe/Dublin is 15 3 * * * Europe/Dublin now",
            "minor",
        ),
    ),
}


@pytest.mark.parametrize(("edit", "change"), SEEN.values(), ids=SEEN.keys())
def test_what_others_rely_on_beside_columns(
    released: Program, edit: tuple[str, str, str], change: tuple[str | None, str, str, str]
) -> None:
    """It is seen, with its weight for the version."""
    released.edit(*edit)
    assert change in changes(released)


def test_a_check_file_that_is_gone_and_a_parameter_more(released: Program) -> None:
    """A promise less is major."""
    (released.folder / "checks/no_gauge_is_silent.sql").unlink()
    text = (released.folder / "parameters.toml").read_text()
    released.write("parameters.toml", text + '\n[more]\ntype = "integer"\nevery = 5\n')
    assert changes(released) == {
        ("check:no_gauge_is_silent", "gone", "", "major"),
        (None, "added", "more", "patch"),
    }


def test_another_logic_says_which_columns_may_differ(released: Program) -> None:
    """Further down, to the consumer."""
    released.edit(HOURLY, "avg(", "1 + avg(")
    (change,) = released("compare", BUNDLE, "--json").json["changes"]
    assert change["weight"] == "patch"
    assert {"hydro.season.usual_cm", "model:hydro.season"} <= set(change["affected"])


def parts(document: dict[str, Any]) -> dict[str, str]:
    """The state of each part that is not the same on both sides."""
    return {p["part"]: p["state"] for p in document["parts"] if p["state"] != "same"}


def test_environments_are_compared_part_by_part(released: Program) -> None:
    """What differs, what only its values, what is held, and what somebody changed by hand."""
    program = released
    same = program("compare", "dev", "test", "--json").json
    assert set(parts(same).values()) == {"values only"}
    assert "readings_from: 2026-10-24 | 2026-08-01" in str(same["parts"])
    program("hold", "hydro.season", "--in", "test", "--because", "not yet", "--yes")
    program.edit("models/hydro/level_trend.sql", "mean_cm - lag", "1.0 * mean_cm - lag")
    program.edit("models/hydro/season.sql", "SELECT", "SELECT DISTINCT")
    program.write("models/hydro/more.sql", "SELECT 1 AS x")
    bundle = program.release("1.4.1")
    program.promote(bundle, "dev")
    database = program.folder / "data/river_test.duckdb"
    program.ask(f"duckdb:///{database}", "DROP VIEW alert.public_board", "SELECT 1")
    told = program("compare", "dev", "test", "--json").json
    states = parts(told)
    assert states["model:hydro.level_trend"] == "differs"
    assert states["model:hydro.season"] == "held"
    assert states["model:hydro.more"] == "only in A"
    assert states["model:alert.public_board"] == "drifted"
    assert told["counts"]["differs"] == 1
    shown = program("compare", "dev", "test").text
    assert "A is dev (riverwatch-1.4.1), B is test (riverwatch-1.4.0)" in shown
    assert "held model:hydro.season test: not yet" in shown
    assert "nightly.nightly" in {each["schedule"] for each in told["schedules"]}


def test_a_part_is_compared_with_its_parameters_in_it(released: Program, tmp_path: Path) -> None:
    """Values of environments are no difference of a text."""
    program = released
    same = program("compare", "dev", "test", "--part", "hydro.reading_clean").text
    assert same == "model:hydro.reading_clean values only"
    program.edit("models/hydro/level_trend.sql", "mean_cm - lag", "1.0 * mean_cm - lag")
    program.promote(program.release("1.4.1"), "dev")
    differs = program("compare", "test", "dev", "--part", "model:hydro.level_trend").out
    assert "+  1.0 * mean_cm - lag" in differs
    near = program("compare", "test", "dev", "--part", "hydro.level_trnd", code=2).text
    assert "hydro.level_trend" in near
    file = tmp_path / "page.html"
    program("compare", "dev", "test", "--html", str(file))
    text = file.read_text()
    assert "<script" not in text
    assert "1.0 * mean_cm - lag" in text


def test_commits_bundles_and_the_tree_are_sides_too(released: Program) -> None:
    """Each against each."""
    program = released
    program.edit("models/hydro/level_trend.sql", "mean_cm - lag", "1.0 * mean_cm - lag")
    assert parts(program("compare", "test", "--json").json) == {
        "model:hydro.level_trend": "differs"
    }
    program.release("1.4.1")
    assert parts(program("compare", "test", "v1.4.0", "--json").json) == {}
    assert parts(program("compare", "v1.4.1", "test", "--json").json) == {
        "model:hydro.level_trend": "differs"
    }
    (change,) = program("compare", "v1.4.0", "v1.4.1", "--json").json["changes"]
    assert change["part"] == "model:hydro.level_trend"
    assert "There is no bundle" in program("compare", "tset", "prod", code=2).text


def test_rights_of_environments_are_compared(starter: Program, postgres_server: str) -> None:
    """By logical names, on tables of schemas and of models, whatever schemas are called there."""
    with postgres.database(postgres_server) as dev, postgres.database(postgres_server) as test:
        text = (starter.folder / "environments/dev.toml").read_text()
        starter.edit("environments/dev.toml", "duckdb:///.inchworm/dev.duckdb", dev)
        text = text.replace("duckdb:///.inchworm/dev.duckdb", test).replace("sim:dev", "sim:test")
        pattern = '[databases.main]\nschema_pattern = "t_{schema}"'
        starter.write("environments/test.toml", text.replace("[databases.main]", pattern))
        starter.edit("parameters.toml", 'dev = "2026-01-01"', 'every = "2026-01-01"')
        bundle = starter.pack()
        for environment in ("dev", "test"):
            starter.promote(bundle, environment)
        for url, schema in ((dev, ""), (test, "t_")):
            rights = "SELECT" if url == dev else "SELECT, INSERT"
            starter.ask(
                url,
                "DO $$ BEGIN CREATE ROLE looks; EXCEPTION WHEN duplicate_object THEN NULL; END $$",
                f"GRANT {rights} ON {schema}ops.measurement TO looks",
                f"GRANT SELECT ON {schema}report.daily_total TO looks",
                "SELECT 1",
            )
        compared = starter("compare", "dev", "test", "--json").json
        assert compared["rights"] == [
            {"right": "ops.measurement to looks", "a": "SELECT", "b": "INSERT, SELECT"}
        ]
        assert "INSERT, SELECT" in starter("compare", "dev", "test").text
        starter("compare", "dev", "test", "--html", "sides.html")
        assert "ops.measurement to looks" in (starter.folder / "sides.html").read_text()
        starter.ask(test, "DROP OWNED BY looks", "SELECT 1")
        starter.ask(dev, "DROP OWNED BY looks", "DROP ROLE looks", "SELECT 1")
