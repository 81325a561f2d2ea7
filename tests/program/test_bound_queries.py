"""The database reads queries of flows and notebooks before a promotion, like those of models."""

from __future__ import annotations

import json
from typing import Any

import pytest

from tests.driver import Program
from tests.once import Once

FLOW = """
direction = "out"
[from]
query = "{query}"
[to]
connection = "post"
address = "desk@example.org"
subject = "Level"
text = "{{place}}"
[fields]
place = "place"
"""
READS = "SELECT place FROM report.shown"
BROKEN = "SELECT no_such_function(place) AS place FROM report.shown"


@pytest.fixture
def live(once: Once, anywhere: tuple[Program, str]) -> tuple[Program, str]:
    """A model that a flow and a notebook read, live in a database of each kind."""
    once(_make_live, *anywhere)
    return anywhere


def _make_live(program: Program, url: str) -> None:
    matrix = (program.folder / "parameters.toml").read_text()
    post = '[post_url]\ntype = "text"\nevery = "maildir:post"\n'
    program.write("parameters.toml", f"{matrix}{post}")
    connection = 'kind = "mail"\nurl = "${post_url}"\nsender = "river@example.org"\n'
    program.write("connections/post.toml", connection)
    shown(program, "amount")
    program.write("flows/letter.toml", FLOW.format(query=READS))
    program.write("notebooks/look.ipynb", notebook(READS))
    program.promote(program.pack(), "dev")


def shown(program: Program, amount: str) -> None:
    """The model that is read."""
    sql = f"/*---\nstore = 'table'\n---*/\nSELECT place, {amount} AS amount FROM ops.measurement"
    program.write("models/report/shown.sql", sql)


def notebook(query: str) -> str:
    """A notebook that asks the database for something."""
    source = f"from inchworm.notebook import env\nenv.query({query!r})"
    cell = {"cell_type": "code", "id": "a", "metadata": {}, "outputs": [], "source": source}
    cell["execution_count"] = None  # type: ignore[assignment]
    return json.dumps({"cells": [cell], "metadata": {}, "nbformat": 4, "nbformat_minor": 5})


def refused(program: Program) -> list[Any]:
    """What the database refuses of the project; nothing may have been changed."""
    before = program("status", "dev", "--json").json["environments"][0]["number"]
    document = program.promote(program.pack(), "dev", code=1).json
    assert program("status", "dev", "--json").json["environments"][0]["number"] == before
    return [f for f in document["findings"] if f["rule"] == "database/does-not-bind"]


def test_a_broken_query_of_a_flow_is_refused(live: tuple[Program, str]) -> None:
    """It would have been active, and would have failed in the first night."""
    program, _ = live
    program.write("flows/letter.toml", FLOW.format(query=BROKEN))
    (finding,) = refused(program)
    assert (finding["part"], finding["file"]) == ("flow:letter", "flows/letter.toml")
    assert "function" in finding["message"].lower()


def test_a_broken_query_of_a_notebook_is_refused(live: tuple[Program, str]) -> None:
    """With its line in the file."""
    program, _ = live
    program.write("notebooks/look.ipynb", notebook(BROKEN))
    (finding,) = refused(program)
    assert (finding["part"], finding["line"]) == ("notebook:look", 3)
    assert "function" in finding["message"].lower()


def test_what_stays_is_read_again_where_a_model_changes(live: tuple[Program, str]) -> None:
    """A flow that nobody touched, over a column that has another type now."""
    program, url = live
    if url.startswith("sqlite"):
        pytest.skip("SQLite takes any value for a number")
    program.write("flows/letter.toml", FLOW.format(query=f"{READS} WHERE amount - 1 > 0"))
    assert program.promote(program.pack(), "dev").json["state"] == "done"
    shown(program, "place")
    (finding,) = refused(program)
    assert finding["part"] == "flow:letter"


def test_a_view_that_a_database_cannot_have_is_refused_before(live: tuple[Program, str]) -> None:
    """In SQLite no view reads another schema; the promotion does not begin."""
    program, url = live
    program.write("models/report/across.sql", "SELECT place FROM ops.measurement")
    if not url.startswith("sqlite"):
        assert program.promote(program.pack(), "dev").json["state"] == "done"
        return
    (finding,) = refused(program)
    assert "cannot reference objects in database ops" in finding["message"].lower()
