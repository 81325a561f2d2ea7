"""A database that goes away, runs full or refuses: it is as before or fully after, and goes on."""

from __future__ import annotations

import shutil
import subprocess
from collections.abc import Iterator
from typing import Any

import psycopg
import pytest

from inchworm.targets.databases import connect
from tests.cutting import Wire, wire
from tests.driver import COMMAND, Program
from tests.once import Once

HERE = "duckdb:///.inchworm/dev.duckdb"
MORE = "schemas/ops/migrations/0002_more.sql"
TWO = "CREATE TABLE ops.a (id INTEGER);\nCREATE TABLE ops.b (id INTEGER);\n"


def asked(url: str, sql: str) -> list[tuple[Any, ...]]:
    """What a server says."""
    with psycopg.connect(url, autocommit=True) as connection:
        cursor = connection.execute(sql.encode())
        return cursor.fetchall() if cursor.description else []


def state(url: str) -> dict[str, Any]:
    """What a promotion leaves in the database."""
    tables = "SELECT schemaname || '.' || tablename FROM pg_tables WHERE schemaname IN "
    return {
        "tables": asked(url, f"{tables} ('ops', 'report') ORDER BY 1"),
        "rows": asked(url, "SELECT day, total FROM report.daily_total ORDER BY 1"),
        "ran": asked(url, "SELECT name, outcome FROM inchworm.migrations ORDER BY 1"),
        "parts": asked(url, "SELECT part, bundle FROM inchworm.parts ORDER BY 1"),
    }


@pytest.fixture
def served(once: Once, starter: Program, postgres_url: str) -> Program:
    """A new project in the server's own dialect, promoted into it, and changed."""
    once(_serve, starter, postgres_url)
    return starter


def _serve(program: Program, url: str) -> None:
    program.edit("inchworm.toml", 'dialect = "duckdb"', 'dialect = "postgres"')
    program.edit("environments/dev.toml", HERE, url)
    program.promote(program.pack(), "dev")
    program.write(MORE, TWO)
    program.edit("models/report/daily_total.sql", "sum(amount)", "sum(amount + 0)")


@pytest.fixture
def cut(served: Program, postgres_url: str) -> Iterator[Wire]:
    """The way to the server, which can be cut."""
    with wire(postgres_url) as (way, address):
        served.edit("environments/dev.toml", postgres_url, address)
        yield way


@pytest.mark.parametrize(
    ("at", "then", "reaches"),
    [
        ("CREATE TABLE ops.b", None, False),
        ("INSERT INTO inchworm.migrations", "COMMIT", True),
        ('CREATE TABLE "report"."daily_total__beside"', None, False),
        ('RENAME TO "daily_total"', None, False),
        ('RENAME TO "daily_total"', "COMMIT", False),
        ('RENAME TO "daily_total"', "COMMIT", True),
        ("INSERT INTO inchworm.promotions", "COMMIT", True),
    ],
    ids=[
        "in a migration",
        "after a migration is committed",
        "in a build",
        "in the switch-over",
        "before the switch-over is committed",
        "after the switch-over is committed",
        "after the record is committed",
    ],
)
def test_the_way_to_the_server_is_cut(
    served: Program, cut: Wire, postgres_url: str, at: str, then: str | None, reaches: bool
) -> None:
    """Whether the last statement took effect is read from the bookkeeping: nothing runs twice."""
    drafted = served("promote", served.pack(), "--to", "dev", "--draft", "--json").json
    name = postgres_url.rpartition("/")[2]
    before = state(postgres_url)
    cut.arm(at, then, reaches=reaches)
    answer = served("promote", drafted["id"], "--yes", "--json", code=None)
    assert answer.code in {1, 5}
    broken = answer.json
    assert cut.cuts == 1
    assert "does not answer any more" in str(broken)
    now = state(postgres_url)
    assert now["rows"] == before["rows"]
    sessions = f"SELECT count(*) FROM pg_stat_activity WHERE datname = '{name}'"
    while asked(postgres_url, sessions) != [(1,)]:
        continue  # the server has not noticed yet that the connection has ended
    assert served("promote", drafted["id"], "--yes", "--json").json["state"] == "done"
    after = state(postgres_url)
    assert after["ran"] == [("0001_baseline", "ran"), ("0002_more", "ran")]
    assert after["tables"] == [
        ("ops.a",),
        ("ops.b",),
        ("ops.measurement",),
        ("report.daily_total",),
        ("report.daily_total__kept",),
    ]
    assert after["rows"] == before["rows"]
    assert served.promote(drafted["bundle"], "dev").json["state"] == "nothing to do"


def test_a_statement_that_takes_too_long(served: Program, postgres_url: str) -> None:
    """The server ends it; nothing was changed by it, and with more time it goes on."""
    name = postgres_url.rpartition("/")[2]
    served.write(
        "models/report/slow.sql", '/*---\nstore = "table"\n---*/\nSELECT pg_sleep(1)::text AS x'
    )
    asked(postgres_url, f"ALTER DATABASE {name} SET statement_timeout = '400ms'")
    failed = served.promote(served.pack(), "dev", code=1).json
    (slow,) = [s for s in failed["steps"] if s["state"] == "failed"]
    assert slow["part"] == "model:report.slow"
    assert "canceling statement due to statement timeout" in slow["message"]
    assert "Raise the statement timeout there, and go on" in slow["message"]
    assert asked(postgres_url, "SELECT to_regclass('report.slow')") == [(None,)]
    asked(postgres_url, f"ALTER DATABASE {name} RESET statement_timeout")
    assert served("promote", failed["id"], "--yes", "--json").json["state"] == "done"


GATE = """
CREATE TABLE public.gate (open boolean);
CREATE FUNCTION wait_at_the_gate() RETURNS boolean LANGUAGE plpgsql AS $$
BEGIN
  WHILE NOT EXISTS (SELECT 1 FROM public.gate) LOOP
    PERFORM pg_sleep(0.02);
  END LOOP;
  RETURN true;
END $$
"""
"""A function that ends when the test opens the gate, and not by a clock."""


def test_two_promotions_at_once_into_one_database(
    served: Program, postgres_url: str, tmp_path_factory: pytest.TempPathFactory
) -> None:
    """From two places with a ledger each: the second one is told who is at work."""
    other = Program(tmp_path_factory.mktemp("elsewhere") / "copy")
    shutil.copytree(served.folder, other.folder, ignore=shutil.ignore_patterns("ledger.*"))
    asked(postgres_url, GATE)
    served.write(
        "models/report/slow.sql",
        '/*---\nstore = "table"\n---*/\nSELECT wait_at_the_gate()::text AS x',
    )
    bundle, another = served.pack(), other.pack()
    process = served.start("promote", bundle, "--to", "dev", "--yes")
    building = "SELECT count(*) FROM pg_stat_activity WHERE query LIKE 'CREATE TABLE%slow__beside%'"
    while asked(postgres_url, building) == [(0,)]:
        assert process.poll() is None, process.communicate()
    answer = other("promote", another, "--to", "dev", "--yes", code=4)
    assert "somebody promotes or runs something in" in answer.err
    assert "lena as river from" in answer.err
    asked(postgres_url, "INSERT INTO public.gate VALUES (true)")
    out, err = process.communicate(timeout=60)
    assert process.returncode == 0, out + err


def test_a_migration_that_fails_at_its_third_statement(served: Program, postgres_url: str) -> None:
    """Because of the rows that are there, which no check before could know: none of it is left."""
    served.write(MORE, TWO + "UPDATE ops.measurement SET place = NULL WHERE amount > 4;")
    failed = served.promote(served.pack(), "dev", code=1).json
    assert "violates not-null constraint" in str(failed["steps"])
    assert asked(postgres_url, "SELECT to_regclass('ops.a'), to_regclass('ops.b')") == [
        (None, None)
    ]
    asked(postgres_url, "ALTER TABLE ops.measurement ALTER COLUMN place DROP NOT NULL")
    assert served("promote", failed["id"], "--yes", "--json").json["state"] == "done"
    assert asked(postgres_url, "SELECT count(*) FROM ops.measurement WHERE place IS NULL") == [(1,)]


@pytest.mark.parametrize("kind", ["duckdb", "sqlite"])
def test_a_disk_that_is_full(starter: Program, kind: str) -> None:
    """No file may grow any more: the build fails, readers go on, and with room it goes on."""
    url = f"{kind}:///data/dev.{kind}"
    starter.edit("environments/dev.toml", HERE, url)
    starter.promote(starter.pack(), "dev")
    hundred = " UNION ALL ".join(f"SELECT {i} AS i" for i in range(1, 101))
    rows = (
        f"WITH n AS ({hundred}) SELECT a.i * 1000003 + b.i * 7919 + c.i AS x, "
        "a.i * 7919 + b.i * 104729 + c.i * 31 AS y FROM n AS a CROSS JOIN n AS b CROSS JOIN n AS c"
    )
    starter.write("models/report/big.sql", f'/*---\nstore = "table"\n---*/\n{rows}')
    drafted = starter("promote", starter.pack(), "--to", "dev", "--draft", "--json").json
    limited = ["bash", "-c", 'ulimit -f 5000; exec "$@"', "-", *COMMAND]  # of 1 kB
    done = subprocess.run(
        [*limited, "promote", drafted["id"], "--yes"],
        cwd=starter.folder,
        env=starter.environ,
        capture_output=True,
        text=True,
        check=False,
        timeout=120,
    )
    assert done.returncode == 1, done.stdout + done.stderr
    assert "Traceback" not in done.stderr
    assert "model:report.big" in done.stdout
    database = connect(url, root=starter.folder, read_only=True)
    assert database.rows("SELECT count(*) FROM report.daily_total") == [(2,)]
    assert "report.big" not in database.kinds()
    database.close()
    assert starter("promote", drafted["id"], "--yes", "--json").json["state"] == "done"
    database = connect(url, root=starter.folder, read_only=True)
    assert database.rows("SELECT count(*) FROM report.big") == [(1_000_000,)]
    database.close()
