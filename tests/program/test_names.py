"""A name means one place: in corners, in services, and when a part gets another name."""

from __future__ import annotations

import psycopg
import pytest

from inchworm.sim.store import SimStore
from tests.driver import Program
from tests.once import Once

DEV = "duckdb:///.inchworm/dev.duckdb"
GROWS = """\
/*---
store = "increment"
since = "day"
key = ["day"]
on_change = "keep"
{more}---*/
SELECT day, CAST(sum(amount) AS INTEGER) AS total FROM ops.measurement GROUP BY day
"""


def steps(answer: dict[str, list[dict[str, str]]]) -> list[str]:
    """The steps of a draft, in words."""
    return [f"{s['action']} {s['part']}: {s['reason']}" for s in answer["steps"]]


# ---- what services are given ---------------------------------------------------------------------


def test_services_are_given_the_physical_names(released: Program) -> None:
    """Of what is renamed here; tables that are managed outside keep their names."""
    sim = SimStore(next(released.folder.glob(".inchworm/sim/*dev*")))
    before = sim.item("flow", "publish_warnings")
    assert before is not None
    assert "tables" not in before["document"]
    released.edit(
        "environments/dev.toml",
        "[databases.main]",
        '[databases.main]\nschema_pattern = "ada_{schema}"\nbookkeeping = "of_ada"',
    )
    assert released.promote("riverwatch-1.4.0", "dev").json["state"] == "done"
    document = (sim.item("flow", "publish_warnings") or {})["document"]
    ends = str(document["from"])
    assert "ada_alert.public_board" in ends
    assert document["tables"]["alert.public_board"] == "ada_alert.public_board"
    notebook = (sim.item("notebook", "level_forecast") or {})["document"]
    assert notebook["tables"]["hydro.hourly_level"] == "ada_hydro.hourly_level"
    pipeline = (sim.item("pipeline", "nightly") or {})["document"]
    assert pipeline["tables"]["hydro.daily_peak"] == "ada_hydro.daily_peak"
    assert not any(table.startswith("raw.") for table in pipeline["tables"])
    assert released.promote("riverwatch-1.4.0", "dev").json["state"] == "nothing to do"


# ---- a model that gets another name --------------------------------------------------------------


@pytest.fixture
def growing(once: Once, anywhere: tuple[Program, str]) -> tuple[Program, str]:
    """A model is live whose rows are nowhere else: what it was built from is gone."""
    once(_grow, *anywhere)
    return anywhere


def _grow(program: Program, url: str) -> None:
    program.write("models/mart/ledger.sql", GROWS.format(more=""))
    program.promote(program.pack(), "dev")
    program.ask(url, "DELETE FROM ops.measurement WHERE day < '2026-02-02'", "SELECT 1")


def test_a_moved_model_takes_its_rows_along(growing: tuple[Program, str]) -> None:
    """All of them, and new ones come; readers of the old name find it until the switch-over."""
    program, url = growing
    rows = program.ask(url, "SELECT * FROM mart.ledger ORDER BY 1")
    assert len(rows) == 2
    (program.folder / "models/mart/ledger.sql").unlink()
    program.write("models/fin/book.sql", GROWS.format(more='moved_from = "mart.ledger"\n'))
    program.ask(url, "INSERT INTO ops.measurement VALUES ('north', '2026-03-01', 7)", "SELECT 1")
    done = program.promote(program.pack(), "dev").json
    assert done["state"] == "done"
    told = steps(done)
    assert (
        "add model:fin.book: is moved here from mart.ledger; its rows stay, new ones come" in told
    )
    assert "remove model:mart.ledger: is moved to fin.book" in told
    after = program.ask(url, "SELECT * FROM fin.book ORDER BY 1")
    assert after[:2] == rows
    assert len(after) == 3
    assert program("drift", "dev", "--json").json["drifted"] == []
    program.write("models/fin/book.sql", GROWS.format(more=""))  # the setting may go
    assert "model:fin.book" not in str(steps(program.promote(program.pack(), "dev").json))
    assert program.ask(url, "SELECT * FROM fin.book ORDER BY 1") == after


def test_without_that_the_loss_of_rows_needs_a_permission(growing: tuple[Program, str]) -> None:
    """The tired person has only renamed the file."""
    program, url = growing
    (program.folder / "models/mart/ledger.sql").unlink()
    program.write("models/fin/book.sql", GROWS.format(more=""))
    refused = program.promote(program.pack(), "dev", code=1).json
    (error,) = [f for f in refused["findings"] if f["severity"] == "error"]
    assert (error["rule"], error["part"]) == ("promotion/loses-rows", "model:mart.ledger")
    assert 'moved_from = "its former name"' in error["remedy"]
    assert len(program.ask(url, "SELECT * FROM mart.ledger")) == 2
    program.edit(
        "environments/dev.toml",
        "[databases.main]",
        '[databases.main]\nmay_lose = ["mart.ledger"]',
    )
    assert program.promote(program.pack(), "dev").json["state"] == "done"


def test_a_moved_model_takes_its_rights_along(starter: Program, postgres_url: str) -> None:
    """And its comments; what cannot come along refuses the promotion."""
    starter.edit("inchworm.toml", '"duckdb"', '"postgres"')
    starter.edit("environments/dev.toml", DEV, postgres_url)
    starter.write("models/mart/ledger.sql", GROWS.format(more=""))
    starter.promote(starter.pack(), "dev")
    with psycopg.connect(postgres_url, autocommit=True) as server:
        server.execute(
            "DO $$ BEGIN CREATE ROLE reader; EXCEPTION WHEN duplicate_object THEN NULL; END $$"
        )
        server.execute("GRANT SELECT ON mart.ledger TO reader")
        server.execute("GRANT UPDATE (total) ON mart.ledger TO reader")
        server.execute("COMMENT ON COLUMN mart.ledger.total IS 'in cm'")
        server.execute("ALTER TABLE mart.ledger ENABLE ROW LEVEL SECURITY")
        (starter.folder / "models/mart/ledger.sql").unlink()
        starter.write("models/fin/book.sql", GROWS.format(more='moved_from = "mart.ledger"\n'))
        bundle = starter.pack()
        failed = starter.promote(bundle, "dev", code=1).json
        assert "mart.ledger becomes fin.book" in str(failed["steps"])
        server.execute("ALTER TABLE mart.ledger DISABLE ROW LEVEL SECURITY")
        assert starter.promote(bundle, "dev").json["state"] == "done"
        rights = server.execute(
            "SELECT has_table_privilege('reader', 'fin.book', 'SELECT'), "
            "has_column_privilege('reader', 'fin.book', 'total', 'UPDATE'), "
            "has_table_privilege('reader', 'fin.book', 'DELETE'), "
            "col_description('fin.book'::regclass, 2)"
        ).fetchone()
    assert rights == (True, True, False, "in cm")


# ---- what leaves the bundle ----------------------------------------------------------------------


def test_a_misspelt_folder_is_listed_as_what_it_is(anywhere: tuple[Program, str]) -> None:
    """Everything that goes by it, every kind; the tables stay, and so does what was recorded."""
    program, url = anywhere
    program.write("checks/sane.sql", "SELECT day FROM report.daily_total WHERE total < 0")
    program.write(
        "consumers/board.toml",
        'about = "Board"\ncontact = "someone"\n[reads]\n"report.daily_total" = ["day"]\n',
    )
    program.edit("environments/dev.toml", 'default = "off"', 'default = "on"')
    program.promote(program.pack(), "dev")
    program.ask(url, "ALTER TABLE ops.measurement ADD COLUMN by_hand INTEGER", "SELECT 1")
    for path in ("schemas/ops", "checks", "consumers", "pipelines", "models"):
        (program.folder / path).rename(program.folder / f"_{path.replace('/', '_')}")
    program.write("models/report/other.sql", "SELECT 1 AS one")
    gone = program.promote(program.pack(), "dev").json
    assert gone["state"] == "done"
    told = steps(gone)
    assert told[0] == "pause pipeline:daily: the pipeline goes"
    assert [step for step in told if step.startswith("remove")] == [
        "remove model:report.daily_total: is not in the bundle any more",
        "remove pipeline:daily: is not in the bundle any more",
        "remove check:sane: is not in the bundle any more",
        "remove consumer:board: is not in the bundle any more",
        "remove schema:ops: is not in the bundle any more; its tables stay",
    ]
    for path in ("schemas/ops", "checks", "consumers", "pipelines"):
        (program.folder / f"_{path.replace('/', '_')}").rename(program.folder / path)
    (program.folder / "_models/report/daily_total.sql").rename(
        program.folder / "models/report/daily_total.sql"
    )
    assert program.promote(program.pack(), "dev").json["state"] == "done"
    assert program.ask(url, "SELECT count(*) FROM ops.measurement") == [(3,)]
    (drifted,) = program("drift", "dev", "--json", code=1).json["drifted"]
    assert (drifted["part"], drifted["differences"][0]["item"]) == (
        "schema:ops",
        "table ops.measurement",
    )


# ---- quoted names --------------------------------------------------------------------------------


def test_names_in_mixed_case_and_quotes(anywhere: tuple[Program, str]) -> None:
    """With spaces, and keywords; where case counts and where it does not."""
    program, url = anywhere
    dialect = "postgres" if url.startswith("postgresql") else "duckdb"
    program.edit("inchworm.toml", 'dialect = "duckdb"', f'dialect = "{dialect}"')
    program.edit("schemas/ops/migrations/0001_baseline.sql", "ops.measurement", "ops.Measurement")
    program.write(
        "schemas/ops/migrations/0002_quoted.sql",
        'CREATE TABLE ops."Quoted Table" (id INTEGER PRIMARY KEY, "Quoted Col" INTEGER, '
        '"select" VARCHAR(9), plain INTEGER);\n'
        """INSERT INTO ops."Quoted Table" VALUES (1, 2, 'x', 3);\n""",
    )
    program.write(
        "models/report/quoted.sql",
        "/*---\nstore = 'table'\n---*/\n"
        'SELECT id, "Quoted Col", "select" AS "Sel ect", q.plain FROM ops."Quoted Table" q '
        'WHERE "Quoted Col" > 1',
    )
    program.write(
        "models/report/upon.sql",
        "/*---\nstore = 'table'\n---*/\n"
        'SELECT "Quoted Col" AS x, quoted."Sel ect" AS y, PLAIN FROM report.quoted',
    )
    assert program.findings(code=0) == []
    assert program.promote(program.pack(), "dev").json["state"] == "done"
    assert program.ask(url, "SELECT x, y, plain FROM report.upon") == [(2, "x", 3)]
    up = program("trace", "report.upon.x", "--up", "--json").json
    assert "ops.quoted table" in str(up).lower()
    program.edit("schemas/ops/migrations/0002_quoted.sql", '"Quoted Col"', '"Quoted Cell"')
    assert program("drift", "dev").code == 0
    gone = {f["part"] for f in program.findings(code=1) if "quoted col" in f["message"].lower()}
    assert gone == {"model:report.quoted"}


# ---- long names ----------------------------------------------------------------------------------


def test_a_name_that_is_too_long_is_an_error_at_check(starter: Program) -> None:
    """Where an environment's database would cut it off; each name once."""
    long = "x" * 64
    starter.write(f"models/report/{long}.sql", "SELECT 1 AS one")
    starter.write("models/report/wide.sql", f"SELECT 1 AS {long[:63]}, 2 AS {'é' * 32}")
    assert starter.findings(code=0) == []
    starter.edit("environments/dev.toml", DEV, "postgresql://db.example/x")
    found = [f["message"] for f in starter.findings(code=1) if f["severity"] == "error"]
    assert sorted(found) == [
        f"{long} has 64 bytes; in dev there is room for 63",
        f"{'é' * 32} has 64 bytes; in dev there is room for 63",
    ]


# ---- two tables of one name ----------------------------------------------------------------------


@pytest.mark.parametrize("pattern", ["{schema}", "own_{schema}"])
def test_columns_mean_what_they_say_where_two_tables_have_one_name(
    anywhere: tuple[Program, str], pattern: str
) -> None:
    """Also inside of a subquery, where the nearest table of that name is another one."""
    program, url = anywhere
    program.edit("environments/dev.toml", f'"{url}"', f'"{url}"\nschema_pattern = "{pattern}"')
    table = "/*---\nstore = 'table'\n---*/\n"
    program.write("models/raw/gauge.sql", f"{table}SELECT 1 AS id UNION ALL SELECT 2 AS id")
    program.write("models/seen/gauge.sql", f"{table}SELECT 2 AS id")
    unseen = "SELECT 1 FROM seen.gauge WHERE seen.gauge.id = raw.gauge.id"
    sql = f"{table}SELECT raw.gauge.id FROM raw.gauge WHERE NOT EXISTS ({unseen})"
    program.write("models/report/unseen.sql", sql)
    bundle = program.pack()
    (shown,) = program("rows", "report.unseen", "--in", "dev", "--json").json["selected"]
    program.promote(bundle, "dev")
    report = pattern.format(schema="report")
    assert program.ask(url, f"SELECT id FROM {report}.unseen") == [(1,)]
    assert shown["rows"] == [[1]]
