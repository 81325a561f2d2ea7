"""Places outside the database: read where they are declared, and nowhere else."""

from __future__ import annotations

import duckdb
import pytest

from tests.driver import Program

MODEL = "models/report/landed.sql"
READS = "/*---\nstore = 'table'\n---*/\nSELECT day, amount FROM read_csv('{}') AS landed\n"


@pytest.fixture
def landing(starter: Program) -> Program:
    """A project beside whose files there is one with rows."""
    starter.write("landing/dev/day_1.csv", "day,amount\n2026-02-01,7\n")
    starter.write("elsewhere/day_1.csv", "day,amount\n2026-02-01,8\n")
    return starter


def declare(program: Program, pattern: str) -> None:
    """Declare the folder, which is another one in each environment."""
    program.write("sources.toml", f'[reads]\nlanded = "{pattern}"\n')


def wrong(program: Program) -> list[tuple[str, int | None, str]]:
    """Rule, line and message of the errors that check finds."""
    findings = program.findings()
    return [(f["rule"], f["line"], f["message"]) for f in findings if f["severity"] == "error"]


def test_a_file_has_to_be_declared(landing: Program) -> None:
    """Then its rows arrive, and lineage begins at the place."""
    landing.write(MODEL, READS.format("landing/dev/*.csv"))
    said = "reads 'landing/dev/*.csv' with read_csv, which is not declared"
    assert wrong(landing) == [("sql/reads-outside", 4, said)]
    declare(landing, "landing/*/*.csv")
    assert wrong(landing) == []
    (note,) = landing.findings()
    assert (note["severity"], note["rule"]) == ("note", "sql/not-understood")
    assert landing.promote(landing.pack(), "dev").json["state"] == "done"
    assert landing.query("dev", "SELECT amount FROM report.landed") == [(7,)]
    edges = landing("trace", "report.landed.amount", "--up", "--json").json["edges"]
    assert {"from": "place landed", "to": "report.landed.amount", "how": "whole"} in edges
    down = landing("trace", "place landed", "--down").out
    assert "report.landed" in down


@pytest.mark.parametrize(
    "read",
    [
        "read_parquet('landing/dev/day_1.parquet')",
        "read_parquet(['landing/dev/day_1.parquet'])",
        "parquet_scan('landing/*/*.parquet')",
        "read_json('landing/dev/day_1.json')",
        "read_csv('landing/dev/day_1.csv', header = true)",
    ],
)
def test_every_format_is_read_from_where_it_is_declared(landing: Program, read: str) -> None:
    with duckdb.connect() as connection:
        for ending in ("parquet", "json"):
            file = landing.folder / f"landing/dev/day_1.{ending}"
            connection.execute(f"COPY (SELECT 7 AS amount) TO '{file}'")
    declare(landing, "landing/*/*.*")
    landing.write(MODEL, f"/*---\nstore = 'table'\n---*/\nSELECT amount FROM {read} AS landed\n")
    assert wrong(landing) == []
    assert landing.promote(landing.pack(), "dev").json["state"] == "done"
    assert landing.query("dev", "SELECT amount FROM report.landed") == [(7,)]


def test_a_place_is_a_parameter_like_any_other(landing: Program) -> None:
    """Each environment has its own folder."""
    landing.write(
        "parameters.toml",
        (landing.folder / "parameters.toml").read_text()
        + ('\n[landing_folder]\ntype = "text"\ndev = "landing/dev"\n'),
    )
    landing.write(
        MODEL,
        "/*---\nstore = 'table'\n---*/\n"
        "SELECT day, amount FROM read_csv(:landing_folder || '/day_1.csv') AS landed\n",
    )
    declare(landing, "${landing_folder}/*.csv")
    assert wrong(landing) == []
    assert landing.promote(landing.pack(), "dev").json["state"] == "done"
    assert landing.query("dev", "SELECT amount FROM report.landed") == [(7,)]
    declare(landing, "${landing_foldr}/*.csv")
    assert "parameter/undeclared" in {rule for rule, _, _ in wrong(landing)}


REFUSED = {
    "the path of a file": "SELECT * FROM 'elsewhere/day_1.csv'",
    "in a CTE": "WITH x AS (SELECT * FROM read_parquet('elsewhere/x.parquet')) SELECT * FROM x",
    "out of the folder": "SELECT * FROM read_csv('landing/../elsewhere/day_1.csv')",
    "one of several": "SELECT * FROM read_csv(['landing/a.csv', 'elsewhere/b.csv'])",
    "a path that is worked out": "SELECT * FROM read_csv((SELECT max(place) FROM ops.measurement))",
    "a folder": "SELECT * FROM glob('*')",
    "another server": "SELECT * FROM postgres_scan('host=db.example', 'public', 't')",
    "a text as SQL": "SELECT * FROM query('SELECT 1')",
    "a file of the server": "SELECT pg_read_file('/etc/passwd') AS x",
    "XML of a text": "SELECT query_to_xml('SELECT 1', true, false, '') AS x",
    "inside an expression": "SELECT coalesce(pg_read_file('/etc/passwd'), '') AS x",
}


@pytest.mark.parametrize("sql", REFUSED.values(), ids=REFUSED.keys())
def test_every_way_out_is_seen(landing: Program, sql: str) -> None:
    """Wherever in a model or check it stands."""
    declare(landing, "landing/*.csv")
    for path in (MODEL, "checks/landed.sql"):
        landing.write(path, sql)
        assert {rule for rule, _, _ in wrong(landing)} == {"sql/reads-outside"}
        (landing.folder / path).unlink()


HANDS = {
    "COPY FROM": "COPY ops.measurement FROM 'elsewhere/day_1.csv';",
    "COPY TO": "COPY (SELECT 1) TO 'elsewhere/out.csv';",
    "ATTACH": "ATTACH 'elsewhere/x.duckdb' AS x;",
    "an extension": "INSTALL httpfs;",
}


@pytest.mark.parametrize("sql", HANDS.values(), ids=HANDS.keys())
def test_duckdb_reaches_nothing_that_is_not_declared(landing: Program, sql: str) -> None:
    """Neither when a bundle is checked nor when it is promoted."""
    landing.write("schemas/ops/migrations/0002_out.sql", sql)
    before = sorted(landing.folder.rglob("*.csv"))
    landing("check", code=None)
    bundle = landing.pack()
    refused = landing.promote(bundle, "dev", code=1).text
    assert "is not declared in sources.toml" in refused
    assert sorted(landing.folder.rglob("*.csv")) == before


def test_a_migration_may_read_what_is_declared(landing: Program) -> None:
    """As a query may."""
    declare(landing, "landing/dev/*.csv")
    landing.write(
        "schemas/ops/migrations/0002_seed.sql",
        "INSERT INTO ops.measurement SELECT 'east', day, amount "
        "FROM read_csv('landing/dev/day_1.csv');",
    )
    assert wrong(landing) == []
    assert landing.promote(landing.pack(), "dev").json["state"] == "done"
    assert landing.query("dev", "SELECT amount FROM ops.measurement WHERE place = 'east'") == [(7,)]


WRONG_FILES = {
    "[reads]\nall = '*'": "reads.all is '*', which is every file there is",
    "[read]\nx = 'a/*'": "read is not a setting",
    "[reads]\nx = 3": "reads.x must be a text",
}


@pytest.mark.parametrize(("text", "said"), WRONG_FILES.items())
def test_a_file_of_sources_that_is_wrong(starter: Program, text: str, said: str) -> None:
    """Is a finding with its line."""
    starter.write("sources.toml", text)
    (finding,) = [f for f in starter.findings(code=1) if f["file"] == "sources.toml"]
    assert said in finding["message"]
    assert finding["line"] is not None


# ---- three-part names ----------------------------------------------------------------------------


def test_names_with_a_database(starter: Program) -> None:
    """The environment's own is left out; another one is where lineage begins; else an error."""
    starter.write(
        MODEL,
        "SELECT m.day, a.total FROM River.ops.measurement m\n"
        "JOIN archive.old.totals a ON a.day = River.ops.measurement.day",
    )
    starter.edit(MODEL, "River.ops.measurement.day", "m.day")
    assert {(rule, line) for rule, line, _ in wrong(starter)} == {
        ("sql/unknown-catalogue", 1),
        ("sql/unknown-catalogue", 2),
    }
    starter.write("sources.toml", '[catalogues]\nown = ["river"]\nothers = ["archive"]\n')
    assert wrong(starter) == []
    for column, source in {
        "day": "ops.measurement.day",
        "total": "archive.old.totals.total",
    }.items():
        edges = starter("trace", f"report.landed.{column}", "--up", "--json").json["edges"]
        assert (source, f"report.landed.{column}") in {(e["from"], e["to"]) for e in edges}
    starter.write(MODEL, "SELECT river.ops.measurement.day FROM river.ops.measurement")
    assert starter.promote(starter.pack(), "dev").json["state"] == "done"
    assert len(starter.query("dev", "SELECT day FROM report.landed")) == 3
