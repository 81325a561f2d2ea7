"""The whole way into each kind of database."""

from __future__ import annotations

import sqlite3
from contextlib import closing

import pytest

from inchworm.targets.databases import Database, connect
from tests.driver import Program
from tests.once import SQLITE


@pytest.fixture(params=["sqlite", "postgresql"])
def elsewhere(request: pytest.FixtureRequest, starter: Program) -> tuple[Program, str]:
    """A new project whose development is another database."""
    url = "sqlite:///data/dev.sqlite"
    if request.param == "postgresql":
        url = str(request.getfixturevalue("postgres_url"))
    starter.edit("environments/dev.toml", "duckdb:///.inchworm/dev.duckdb", url)
    return starter, url


def opened(program: Program, url: str) -> Database:
    return connect(url, root=program.folder, read_only=True)


def test_a_project_goes_into_it_and_changes_there(elsewhere: tuple[Program, str]) -> None:
    """Migrations, models with their checks, the switch-over, and nothing to do the second time."""
    program, url = elsewhere
    assert program.promote(program.pack(), "dev").json["state"] == "done"
    assert program.promote(program.pack(), "dev").json["state"] == "nothing to do"
    database = opened(program, url)
    before = database.rows("SELECT count(*) FROM report.daily_total")
    database.close()
    program.write(
        "models/report/doubled.sql", "SELECT day, 2 * total AS twice FROM report.daily_total"
    )
    program.write(
        "schemas/ops/migrations/0002_more.sql",
        "CREATE TABLE ops.note (id INTEGER PRIMARY KEY, text VARCHAR NOT NULL);",
    )
    done = program.promote(program.pack(), "dev")
    if url.startswith("sqlite"):  # a view there cannot read another schema; this one need not
        assert done.json["state"] == "done"
    database = opened(program, url)
    assert database.rows("SELECT count(*) FROM report.doubled") == before
    assert database.structure(["ops"])["ops.note"].by_name["text"].required
    database.close()
    status = program("status", "--json").json["environments"][0]
    assert (status["parts"], status["drifted"]) == (4, 0)
    failed = [p for p in program("doctor", "dev", "--json", code=1).json["probes"] if p["remedy"]]
    assert [probe["what"] for probe in failed] == ["git"]


def test_a_schema_of_sqlite_is_there_before_the_file_beside_it(plain: Program) -> None:
    """Whoever fills one from outside makes its file alone."""
    plain.write("schemas/raw/schema.toml", 'managed = "outside"\n')
    plain.write("schemas/raw/tables.sql", "CREATE TABLE raw.reading (id INTEGER);\n")
    plain.write(
        "models/report/last.sql", '/*---\nstore = "table"\n---*/\nSELECT id FROM raw.reading'
    )
    main = plain.folder / ".inchworm/dev.sqlite"
    main.parent.mkdir(exist_ok=True)
    with closing(sqlite3.connect(main.with_name("dev.raw.sqlite"))) as raw, raw:
        raw.execute("CREATE TABLE reading (id INTEGER)")
        raw.execute("INSERT INTO reading VALUES (7)")
    assert not main.exists()
    assert plain.promote(plain.pack(), "dev").json["state"] == "done"
    assert plain.ask(SQLITE, "SELECT id FROM report.last") == [(7,)]


def test_the_database_refuses_the_draft(elsewhere: tuple[Program, str]) -> None:
    """All that it does not understand, with file and line; and nothing is changed."""
    program, url = elsewhere
    program.write("models/report/odd.sql", "SELECT\n  no_such_function(1) AS x")
    program.write("models/report/upon_it.sql", "SELECT x FROM report.odd")
    answer = program("promote", program.pack(), "--to", "dev", "--yes", code=1)
    assert "database/does-not-bind" in answer.text
    assert "models/report/odd.sql:2" in answer.text
    assert "models/report/upon_it.sql" not in answer.text
    assert "errors refuse this promotion" in answer.text
    database = opened(program, url)
    assert "report.daily_total" not in database.structure()
    assert not [name for name in database.structure() if "__try" in name]
    database.close()
