"""Migrations that can be taken back, that no transaction can hold, and that were edited."""

from __future__ import annotations

import psycopg
import pytest

from inchworm.targets.databases import connect
from tests.driver import Program
from tests.once import Once, promoted
from tests.program.crash import die

HERE = "duckdb:///.inchworm/dev.duckdb"
MORE = "schemas/ops/migrations/0002_more.sql"
UNDO = "schemas/ops/migrations/0002_more.undo.sql"

TWO_TABLES = """\
CREATE TABLE ops.a (id INTEGER PRIMARY KEY);
CREATE TABLE ops.b (id INTEGER PRIMARY KEY);
"""


@pytest.fixture
def place(once: Once, anywhere: tuple[Program, str]) -> tuple[Program, str]:
    """A new project promoted into development, and its database."""
    once(promoted, *anywhere)
    return anywhere


def tables(program: Program, url: str) -> list[str]:
    """The tables of ``ops``."""
    database = connect(url, root=program.folder, read_only=True)
    found = sorted(database.structure(["ops"]))
    database.close()
    return found


def test_a_failed_promotion_takes_its_migrations_back(place: tuple[Program, str]) -> None:
    """Where the environment says so, the last one first, up to one that has no undo script."""
    program, url = place
    program.write(MORE, "CREATE TABLE ops.a (id INTEGER);")
    program.write("schemas/ops/migrations/0003_b.sql", "CREATE TABLE ops.b (id INTEGER);")
    program.write("schemas/ops/migrations/0003_b.undo.sql", "DROP TABLE ops.b;")
    program.write("schemas/ops/migrations/0004_c.sql", "CREATE TABLE ops.c (id INTEGER);")
    program.write("schemas/ops/migrations/0004_c.undo.sql", "DROP TABLE ops.c;")
    program.edit("models/report/daily_total.sql", "between = [0,", "between = [9000,")
    bundle = program.pack()
    failed = program.promote(bundle, "dev", code=1).json
    assert "these migrations ran and stay: 0002_more, 0003_b, 0004_c" in failed["message"]
    assert tables(program, url) == ["ops.a", "ops.b", "ops.c", "ops.measurement"]
    program("promote", failed["id"], "--yes", code=1)
    program.edit(
        "environments/dev.toml", "[databases.main]", "[databases.main]\nundo_migrations = true"
    )
    program.write("schemas/ops/migrations/0005_d.sql", "CREATE TABLE ops.d (id INTEGER);")
    program.write("schemas/ops/migrations/0005_d.undo.sql", "DROP TABLE ops.d;")
    failed = program.promote(program.pack(), "dev", code=1).json
    assert "these migrations were taken back: 0005_d" in failed["message"]
    assert "ops.d" not in tables(program, url)
    program.edit("models/report/daily_total.sql", "between = [9000,", "between = [0,")
    assert program.promote(program.pack(), "dev").json["state"] == "done"
    assert "ops.d" in tables(program, url)


def test_an_undo_script_that_does_not_lead_back(place: tuple[Program, str]) -> None:
    """Is found before the first step, on an empty copy, where it was not found at check."""
    program, url = place
    program.write(
        MORE,
        TWO_TABLES,
    )
    program.write(UNDO, "DROP TABLE ops.a;")
    if url.startswith("duckdb"):
        assert [f["rule"] for f in program.findings(code=1)] == ["schema/undo-differs"]
        return
    answer = program("promote", program.pack(), "--to", "dev", "--yes", code=1)
    assert "0002_more.undo.sql" in answer.text
    assert "after it, table ops.b is unknown" in answer.text
    assert tables(program, url) == ["ops.measurement"]


def test_an_undo_script_of_nothing(starter: Program) -> None:
    """Is found at check."""
    starter.write("schemas/ops/migrations/0002_more.undo.sql", "DROP TABLE ops.a;")
    assert "takes no migration back" in starter.findings()[0]["message"]


def test_constraints_of_a_live_table_can_be_changed(place: tuple[Program, str]) -> None:
    """What the database tries before the first step is as the live one is, with its constraints."""
    program, url = place
    program.write(
        MORE,
        "CREATE TABLE ops.a (id INTEGER, n INTEGER); CREATE INDEX a_n ON ops.a (n);",
    )
    program.promote(program.pack(), "dev")
    if url.startswith("sqlite"):
        again = "DROP INDEX ops.a_n;"
    elif url.startswith("duckdb"):
        again = "DROP INDEX ops.a_n; ALTER TABLE ops.a ALTER COLUMN n SET DEFAULT 4;"
    else:
        again = "DROP INDEX ops.a_n; ALTER TABLE ops.a ADD CONSTRAINT a_pos CHECK (n > 0);"
    program.write("schemas/ops/migrations/0003_again.sql", again)
    assert program.promote(program.pack(), "dev").json["state"] == "done"


def test_an_edited_migration_shows_both_texts(place: tuple[Program, str]) -> None:
    """The one that ran, and the present one."""
    program, _ = place
    program.edit("schemas/ops/migrations/0001_baseline.sql", "amount INTEGER", "amount BIGINT")
    refused = program.promote(program.pack(), "dev", code=1).json
    (finding,) = [f for f in refused["findings"] if f["rule"] == "schema/migration-edited"]
    assert "\n-  amount INTEGER NOT NULL\n+  amount BIGINT NOT NULL" in finding["message"]
    assert "Put the text back that ran" in finding["remedy"]


def test_bookkeeping_can_have_another_name(place: tuple[Program, str]) -> None:
    """Then nothing is called ``inchworm``, and what other books know of is somebody else's."""
    program, url = place
    program.edit(
        "environments/dev.toml", "[databases.main]", '[databases.main]\nbookkeeping = "our_books"'
    )
    program.write("schemas/ops/schema.toml", 'managed = "migrations"')
    program("promote", program.pack(), "--to", "dev", "--yes", "--overwrite")
    database = connect(url, root=program.folder, read_only=True)
    assert "our_books.parts" in database.kinds()
    database.close()
    assert program.promote(program.pack(), "dev").json["state"] == "nothing to do"


CONCURRENT = (
    "/*---\ntransaction = false\n---*/\n"
    "CREATE INDEX CONCURRENTLY IF NOT EXISTS by_place ON ops.measurement (place);"
)


@pytest.fixture
def served(once: Once, starter: Program, postgres_url: str) -> Program:
    """A new project in the server's own dialect, promoted into it."""
    once(_serve, starter, postgres_url)
    return starter


def _serve(program: Program, url: str) -> None:
    program.edit("environments/dev.toml", HERE, url)
    program.edit("inchworm.toml", 'dialect = "duckdb"', 'dialect = "postgres"')
    program.promote(program.pack(), "dev")


def test_a_statement_outside_transactions_goes_on_after_a_crash(
    served: Program, postgres_url: str
) -> None:
    """An index that a crash left unfinished is made again, and the migration is counted once."""
    served.write(MORE, CONCURRENT)
    drafted = served("promote", served.pack(), "--to", "dev", "--draft", "--json").json
    die(served, drafted["id"], "before:1")
    with psycopg.connect(postgres_url, autocommit=True) as connection:
        connection.execute("CREATE INDEX by_place ON ops.measurement (place)")
        connection.execute(
            "UPDATE pg_index SET indisvalid = false WHERE indexrelid = 'ops.by_place'::regclass"
        )
    assert served("promote", drafted["id"], "--yes", "--json").json["state"] == "done"
    with psycopg.connect(postgres_url, autocommit=True) as connection:
        found = connection.execute(
            "SELECT indisvalid FROM pg_index WHERE indexrelid = 'ops.by_place'::regclass"
        ).fetchall()
        ran = connection.execute("SELECT count(*) FROM inchworm.migrations").fetchone()
    assert (found, ran) == ([(True,)], (2,))


@pytest.mark.parametrize(
    ("script", "rule"),
    [
        (CONCURRENT, None),
        (CONCURRENT.replace("transaction = false", ""), "schema/needs-no-transaction"),
        (CONCURRENT.replace("IF NOT EXISTS ", ""), "schema/not-restartable"),
        (CONCURRENT + "\nSELECT 1;", "schema/not-restartable"),
    ],
    ids=["well", "not declared", "fails again", "two statements"],
)
def test_statements_outside_transactions_are_looked_at(
    starter: Program, script: str, rule: str | None
) -> None:
    """At check."""
    starter.edit("inchworm.toml", 'dialect = "duckdb"', 'dialect = "postgres"')
    starter.write(MORE, script)
    found = {f["rule"] for f in starter.findings() if f["file"] == MORE}
    assert found == ({rule} if rule else set())


@pytest.mark.parametrize("dialect", ["duckdb", "sqlite"])
def test_migrations_are_run_in_memory_at_check(starter: Program, dialect: str) -> None:
    """One that does not run after the others is found with its line, and remembered as long as it
    is not changed."""
    starter.edit("inchworm.toml", 'dialect = "duckdb"', f'dialect = "{dialect}"')
    starter.edit("environments/dev.toml", HERE, f"{dialect}:///data/dev")
    assert starter.findings() == []
    starter.write(
        MORE, "CREATE TABLE ops.a (id INTEGER);\nCREATE VIEW ops.v AS SELECT no FROM ops.a;"
    )
    starter.write(UNDO, "DROP TABLE ops.a;")
    for _ in range(2):
        rules = {(f["rule"], f["file"]) for f in starter.findings()}
        wrong = MORE if dialect == "duckdb" else UNDO  # SQLite looks into a view when it is read
        assert ("schema/replay-differs", wrong) in rules or ("schema/undo-differs", wrong) in rules
        starter.write("models/report/other.sql", "SELECT 1 AS x")
    starter.write(MORE, "CREATE TABLE ops.a (id INTEGER);")
    assert "schema/replay-differs" not in {f["rule"] for f in starter.findings()}


def test_an_undo_script_is_tried_at_check(starter: Program) -> None:
    """Done and undone: what it left behind is told."""
    starter.write(
        MORE,
        TWO_TABLES,
    )
    starter.write(UNDO, "DROP TABLE ops.a;")
    (finding,) = starter.findings()
    assert (finding["rule"], finding["file"]) == ("schema/undo-differs", UNDO)
    assert finding["message"] == "after it, table ops.b is unknown"
