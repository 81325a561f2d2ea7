"""A model that goes away goes in the transaction that puts the others in place."""

from __future__ import annotations

from typing import Any

from inchworm.core.errors import TargetError
from tests.driver import Program
from tests.program.crash import die

READS = "SELECT x + 1 AS y FROM m.a"
READS_NO_MORE = "SELECT 5 AS y"


def promoted(program: Program) -> None:
    """A table, and a view that reads it, are live."""
    program.write("models/m/a.sql", '/*---\nstore = "table"\n---*/\nSELECT 1 AS x')
    program.write("models/m/b.sql", READS)
    assert program.promote(program.pack(), "dev").json["state"] == "done"


def without_the_table(program: Program) -> str:
    """The next version, in which the view reads something else; the bundle's name."""
    program.write("models/m/b.sql", READS_NO_MORE)
    (program.folder / "models/m/a.sql").unlink()
    return program.pack()


def values(program: Program, url: str, table: str) -> list[Any] | None:
    """The rows of a table with one column; None if it is not there."""
    try:
        return [value for (value,) in program.ask(url, f"SELECT * FROM {table}")]
    except TargetError:
        return None


def test_what_a_replaced_view_reads_can_go(anywhere: tuple[Program, str]) -> None:
    """The view is told anew and the table goes, in one step of the database."""
    program, url = anywhere
    promoted(program)
    document = program.promote(without_the_table(program), "dev").json
    assert document["state"] == "done"
    steps = {step["part"]: step for step in document["steps"]}
    assert (steps["model:m.a"]["action"], steps["model:m.a"]["state"]) == ("remove", "done")
    assert steps["model:m.a"]["seconds"] == steps["models"]["seconds"]
    assert values(program, url, "m.a") is None
    assert values(program, url, "m.b") == [5]
    status = program("status", "--json").json["environments"][0]
    assert (status["drifted"], status["parts"]) == (0, 4)


def test_a_view_may_go_with_the_table_that_it_reads(anywhere: tuple[Program, str]) -> None:
    """In whatever order they depend on each other, and when nothing comes in their place."""
    program, url = anywhere
    promoted(program)
    for name in ("a", "b"):
        (program.folder / f"models/m/{name}.sql").unlink()
    document = program.promote(program.pack(), "dev").json
    assert document["state"] == "done"
    assert [s["part"] for s in document["steps"] if s["action"] == "remove"] == [
        "model:m.a",
        "model:m.b",
    ]
    assert (values(program, url, "m.a"), values(program, url, "m.b")) == (None, None)


def test_where_it_is_refused_nothing_goes(starter: Program, postgres_url: str) -> None:
    """A view that somebody made upon the table meanwhile stops it, and all stays as it was."""
    starter.edit("environments/dev.toml", "duckdb:///.inchworm/dev.duckdb", postgres_url)
    promoted(starter)
    bundle = without_the_table(starter)
    starter.ask(
        postgres_url,
        "CREATE MATERIALIZED VIEW m.theirs AS SELECT x FROM m.a",
        "SELECT 1",
    )
    document = starter.promote(bundle, "dev", code=1).json
    assert document["state"] in {"failed", "refused"}
    assert values(starter, postgres_url, "m.a") == [1]
    assert values(starter, postgres_url, "m.b") == [2]


def test_killed_at_any_instant_no_reader_misses_a_table(starter: Program) -> None:
    """Until the switch-over both are there as they were; after it, what comes and not what goes."""
    url = "duckdb:///.inchworm/dev.duckdb"
    promoted(starter)
    bundle = without_the_table(starter)
    drafted = starter("promote", bundle, "--to", "dev", "--draft", "--json").json
    switch = min(s["number"] for s in drafted["steps"] if s["phase"] == "switch")
    seen = []
    for step in drafted["steps"]:
        for moment in ("before", "after"):
            if (moment, step["phase"]) == ("before", "switch") and step["number"] > switch:
                continue  # it has taken effect with the one before
            die(starter, drafted["id"], f"{moment}:{step['number']}")
            seen.append((values(starter, url, "m.a"), values(starter, url, "m.b")))
            if step["phase"] == "switch" and moment == "after":
                break
        if step["phase"] == "switch":
            break
    assert seen[0] == ([1], [2])
    assert seen[-1] == (None, [5])
    assert all(state in (([1], [2]), (None, [5])) for state in seen)
    assert starter("promote", drafted["id"], "--yes", "--json").json["state"] == "done"
