"""Corners: everybody has schemas of their own in one environment, and disturbs nobody."""

from __future__ import annotations

import json
from typing import Any

import pytest

from tests.driver import Program

TABLE = '/*---\nstore = "table"\n---*/\n'
MIRA = {"INCHWORM_USER": "Mira Fenné"}


@pytest.fixture
def corners(anywhere: tuple[Program, str]) -> tuple[Program, str]:
    """A project whose development has corners, and its database."""
    program, url = anywhere
    program.edit(
        "environments/dev.toml",
        "[databases.main]",
        '[databases.main]\nschema_pattern = "{schema}__{owner}"',
    )
    file = program.folder / "environments/dev.toml"
    file.write_text(file.read_text().replace("sim:dev", "sim:dev-{owner}"))
    program.write("models/mart/one.sql", f"{TABLE}SELECT 1 AS n")
    program.write("models/mart/two.sql", f"{TABLE}SELECT n + 1 AS n FROM mart.one")
    return program, url


def promote(program: Program, who: dict[str, str]) -> Any:
    bundle = program("pack", "--json", environ=who).json["bundle"]
    answer = program("promote", bundle, "--to", "dev", "--yes", "--json", environ=who)
    return answer.json


def test_two_people_have_an_environment_each(corners: tuple[Program, str]) -> None:
    program, url = corners
    assert promote(program, {})["state"] == "done"
    program.edit("models/mart/one.sql", "SELECT 1", "SELECT 10")
    assert promote(program, MIRA)["state"] == "done"
    assert program.ask(url, "SELECT n FROM mart__lena.two") == [(2,)]
    assert program.ask(url, "SELECT n FROM mart__mira_fenne.two") == [(11,)]
    mine = program("status", "dev").text
    assert "the corner of lena" in mine
    assert program("drift", "dev").code == 0
    program("drift", "dev", environ=MIRA)
    assert promote(program, {})["state"] == "done"
    assert program.ask(url, "SELECT n FROM mart__lena.two") == [(11,)]


def test_drafts_of_others_stay(corners: tuple[Program, str]) -> None:
    program, _ = corners
    bundle = program.pack()
    program("promote", bundle, "--to", "dev", "--draft", environ=MIRA)
    program.promote(bundle, "dev")
    draft = program("history", "P1", "--json").json
    assert (draft["state"], draft["corner"]) == ("drafted", "mira_fenne")
    assert "into dev, the corner of mira_fenne" in program("history", "P1").text
    refused = program("promote", "P1", "--yes", code=4)
    assert "P1 was drafted for the corner of mira_fenne" in refused.text
    program("promote", "P1", "--yes", environ=MIRA)


def test_the_tree_runs_in_ones_own_corner(corners: tuple[Program, str]) -> None:
    program, url = corners
    program.write("models/mart/other.sql", f"{TABLE}SELECT 5 AS n")
    output = program("run", "mart.two", "--here", "--yes").text
    assert "is in dev (not protected, the corner of lena): P1" in output
    assert program.ask(url, "SELECT n FROM mart__lena.two") == [(2,)]
    lines = program("run", "mart.two", "--here", "--yes", "--json").out.splitlines()
    assert json.loads(lines[-1])["state"] == "done"
    (live,) = program("status", "dev", "--json").json["environments"]
    assert live["promotion"] == "P1", "nothing differs, so nothing was promoted"
    assert live["parts"] == 2, "what it does not depend on stays out"
    program.edit("models/mart/one.sql", "SELECT 1", "SELECT 7")
    assert "nothing to do" not in program("run", "mart.two", "--here", "--yes").text
    assert program.ask(url, "SELECT n FROM mart__lena.two") == [(8,)]
    program.edit("models/mart/one.sql", "SELECT 7", "SELECT gone")
    assert "check finds errors" in program("run", "mart.two", "--here", "--yes", code=2).text


def test_without_a_corner_nothing_runs_here(starter: Program) -> None:
    refused = starter("run", "report.daily_total", "--here", code=2)
    assert "You have a corner in no environment" in refused.text
    assert 'schema_pattern = "{schema}__{owner}"' in refused.text
    starter("run", "report.daily_total", code=2)


@pytest.mark.parametrize(
    ("old", "new", "message"),
    [
        ("sim:dev-{owner}", "sim:dev", "the same for everybody"),
        ("{schema}__{owner}", "{schema}__{user}", "must be {schema} with letters"),
        (
            "[databases.main]",
            '[databases.main]\nbookkeeping = "inchworm"',
            "bookkeeping needs {owner}",
        ),
    ],
)
def test_corners_that_are_not_whole_are_findings(
    starter: Program, old: str, new: str, message: str
) -> None:
    starter.edit(
        "environments/dev.toml",
        "[databases.main]",
        '[databases.main]\nschema_pattern = "{schema}__{owner}"',
    )
    file = starter.folder / "environments/dev.toml"
    text = file.read_text().replace("sim:dev", "sim:dev-{owner}")
    file.write_text(text.replace(old, new))
    assert any(message in f["message"] for f in starter.findings()), starter.findings()


def test_a_name_without_letters_names_no_corner(corners: tuple[Program, str]) -> None:
    program, _ = corners
    refused = program("status", code=2, environ={"INCHWORM_USER": "你好"})
    assert "could name a corner" in refused.text
