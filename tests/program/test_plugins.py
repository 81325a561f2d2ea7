"""Database products that come with another package."""

from __future__ import annotations

from pathlib import Path

import duckdb
import pytest

from tests.driver import Program

REPOSITORY = Path(__file__).parents[2]

_PLUGIN = """
from msgspec.structs import replace
from inchworm.targets.databases.duckdb import PRODUCT as DUCKDB

product = replace(DUCKDB, example="archive:///path")
number = 1
"""


class Plugged(Program):
    """The program with a package beside it that brings databases; found when a process starts."""

    @property
    def environ(self) -> dict[str, str]:
        plugins = f"{self.folder.parent / 'plugin'}:{REPOSITORY}"
        return super().environ | {"PYTHONPATH": plugins}

    __call__ = Program.process


@pytest.fixture
def plugged(starter: Program, tmp_path: Path) -> Plugged:
    """A new project, and a package with three entry points of which one is a product."""
    about = tmp_path / "plugin/shelf-1.dist-info"
    about.mkdir(parents=True)
    (about.parent / "shelf.py").write_text(_PLUGIN)
    (about / "METADATA").write_text("Metadata-Version: 2.1\nName: shelf\n")
    (about / "entry_points.txt").write_text(
        "[inchworm.databases]\n"
        "archive = shelf:product\nnumber = shelf:number\nbroken = shelf:nowhere\n"
    )
    return Plugged(starter.folder)


def at(program: Program, url: str) -> None:
    program.edit("environments/dev.toml", "duckdb:///.inchworm/dev.duckdb", url)


def test_a_bundle_goes_into_a_database_of_another_package(plugged: Plugged) -> None:
    """Every command works with it, as with those that come along."""
    at(plugged, "archive:///data/dev.archive")
    bundle = plugged.pack()
    assert plugged.promote(bundle, "dev").json["state"] == "done"
    assert "nothing drifted" in plugged("drift", "dev").text
    (status,) = plugged("status", "--json").json["environments"]
    assert status["bundle"] == bundle
    probes = plugged("doctor", "dev", "--json", code=None).json["probes"]
    states = {probe["what"]: probe["state"] for probe in probes if probe["where"] == "dev"}
    assert states["database"] == "fine", probes
    with duckdb.connect(str(plugged.folder / "data/dev.archive"), read_only=True) as connection:
        assert connection.sql("SELECT count(*) FROM report.daily_total").fetchall() == [(2,)]


@pytest.mark.parametrize(
    ("scheme", "message"),
    [
        ("number", "shelf:number is no database adapter."),
        ("broken", "the database adapter shelf:nowhere cannot be loaded: AttributeError."),
        ("other", "there is no adapter for the database 'other:///x'."),
    ],
)
def test_what_is_no_product_is_refused(plugged: Plugged, scheme: str, message: str) -> None:
    """Naming the entry point, so that whoever wrote the package can be asked."""
    at(plugged, f"{scheme}:///x")
    answer = plugged("promote", plugged.pack(), "--to", "dev", "--draft", code=1)
    assert message in answer.text
