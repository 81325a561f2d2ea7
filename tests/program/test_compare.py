"""``inchworm compare`` and ``inchworm version``."""

from __future__ import annotations

import pytest

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


def test_what_is_no_version(river: Program) -> None:
    """And a suggestion without anything to compare with."""
    assert "Write major, minor, patch or X.Y.Z." in river("version", "1.5", code=2).err
    assert "no release to compare with" in river("version", "--suggest", code=2).err
