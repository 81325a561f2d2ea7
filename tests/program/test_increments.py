"""Models that grow: what stays, what comes, and that nothing comes twice."""

from __future__ import annotations

import pytest

from tests.driver import Program
from tests.program.crash import die

ENTRY = """\
/*---
about = "Every measurement ever seen"
store = "increment"
since = "day"
on_change = "keep"
---*/
SELECT place, day, amount FROM ops.measurement
"""


@pytest.fixture
def place(anywhere: tuple[Program, str]) -> tuple[Program, str]:
    """A new project with a model that grows, and its development database."""
    starter, url = anywhere
    starter.write("models/report/entry.sql", ENTRY)
    return starter, url


LOOK = "SELECT place, amount FROM report.entry ORDER BY day, place"
MORE = (
    "DELETE FROM ops.measurement WHERE day < '2026-02-02'",
    "INSERT INTO ops.measurement VALUES ('west', '2026-02-03', 9)",
)


def test_rows_stay_and_new_ones_come(place: tuple[Program, str]) -> None:
    """What the source does not have any more is still there; each row is there once."""
    program, url = place
    done = program.promote(program.pack(), "dev").json
    (built,) = [s for s in done["steps"] if s["part"] == "model:report.entry"]
    assert (built["rows"], built["message"].partition(",")[0]) == (3, "3 rows")
    assert program.ask(url, *MORE, LOOK) == [("north", 3), ("south", 5), ("north", 4)]
    program.edit("models/report/entry.sql", "amount FROM", "amount + 0 AS amount FROM")
    drafted = program("promote", program.pack(), "--to", "dev", "--draft").text
    assert "content changed; its rows stay, new ones come" in drafted
    assert program.promote(program.pack(), "dev").json["state"] == "done"
    kept = [("north", 3), ("south", 5), ("north", 4), ("west", 9)]
    assert program.ask(url, LOOK) == kept
    program.edit("models/report/entry.sql", "amount + 0 AS amount", "amount, 1 AS checked")
    assert program.promote(program.pack(), "dev").json["state"] == "done"
    assert program.ask(url, LOOK) == kept


def test_what_a_migration_does_to_old_rows_is_said(place: tuple[Program, str]) -> None:
    """And the way that the warning names builds the model anew."""
    program, url = place
    program.write("models/report/taken.sql", "SELECT place, day, amount FROM ops.measurement")
    program.write("models/report/entry.sql", ENTRY.replace("ops.measurement", "report.taken"))
    if url.startswith("sqlite"):  # whose views do not read other schemas
        table = '/*---\nstore = "table"\n---*/\nSELECT place, day, amount FROM ops.measurement'
        program.write("models/report/taken.sql", table)
    program.promote(program.pack(), "dev")
    update = "UPDATE ops.measurement SET amount = amount * 10"
    program.write("schemas/ops/migrations/0002_tenths.sql", update)
    done = program.promote(program.pack(), "dev").json
    (kept,) = [f for f in done["findings"] if f["rule"] == "promotion/keeps-old-rows"]
    assert kept["message"] == (
        "0002_tenths writes to ops.measurement; report.entry keeps the rows that it has from there"
    )
    assert program.ask(url, LOOK)[0] == ("north", 3)
    program.edit("models/report/entry.sql", '"keep"', '"rebuild"')
    assert program.promote(program.pack(), "dev").json["state"] == "done"
    assert program.ask(url, LOOK)[0] == ("north", 30)


def test_with_a_key_a_row_replaces_its_former_self(place: tuple[Program, str]) -> None:
    """Also one with the last value that was seen; earlier ones are not asked for again."""
    program, url = place
    program.edit(
        "models/report/entry.sql", 'since = "day"', 'since = "day"\nkey = ["place", "day"]'
    )
    program.promote(program.pack(), "dev")
    told = "UPDATE ops.measurement SET amount = 40 WHERE day >= '2026-02-02'"
    program.ask(url, *MORE, told, "SELECT 1")
    program.edit("models/report/entry.sql", "amount FROM", "amount + 0 AS amount FROM")
    assert program.promote(program.pack(), "dev").json["state"] == "done"
    assert program.ask(url, LOOK) == [("north", 3), ("south", 5), ("north", 40), ("west", 40)]


def test_built_again_when_its_logic_changed_if_it_says_so(place: tuple[Program, str]) -> None:
    """Then it has what its SELECT gives, and nothing else."""
    program, url = place
    program.edit("models/report/entry.sql", 'on_change = "keep"', 'on_change = "rebuild"')
    program.promote(program.pack(), "dev")
    program.ask(url, *MORE, "SELECT 1")
    program.edit("models/report/entry.sql", "amount FROM", "amount + 0 AS amount FROM")
    assert program.promote(program.pack(), "dev").json["state"] == "done"
    assert program.ask(url, LOOK) == [("north", 4), ("west", 9)]


def test_a_crash_brings_no_row_twice(starter: Program) -> None:
    """Whether it dies before or after the rows are built, or the switch-over took effect."""
    starter.write("models/report/entry.sql", ENTRY)
    url = "duckdb:///.inchworm/dev.duckdb"
    starter.promote(starter.pack(), "dev")
    starter.ask(url, *MORE, "SELECT 1")
    starter.edit("models/report/entry.sql", "amount FROM", "amount + 0 AS amount FROM")
    drafted = starter("promote", starter.pack(), "--to", "dev", "--draft", "--json").json
    for step in drafted["steps"][:3]:
        for moment in ("before", "after"):
            die(starter, drafted["id"], f"{moment}:{step['number']}")
    assert starter("promote", drafted["id"], "--yes", "--json").json["state"] == "done"
    assert [row[1] for row in starter.ask(url, LOOK)] == [3, 5, 4, 9]


@pytest.mark.parametrize(
    ("old", "new", "says"),
    [
        ('since = "day"\n', "", "go together"),
        ('since = "day"', 'since = "hour"', "names the column hour in its settings"),
        ('on_change = "keep"', 'on_change = "forget"', "on_change is 'forget'"),
    ],
)
def test_what_is_wrong_with_its_settings(plain: Program, old: str, new: str, says: str) -> None:
    """Is found at check."""
    plain.write("models/report/entry.sql", ENTRY.replace(old, new))
    assert any(says in finding["message"] for finding in plain.findings())
