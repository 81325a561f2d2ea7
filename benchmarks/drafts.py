"""Drafts, status and building with many models, beside a Python that imports click alone.

Run it with ``python benchmarks/drafts.py [MODELS] [URL]``, by default 10,000 and a DuckDB file; the
URL is that of an empty PostgreSQL database, ``postgresql://user@host/database``, that it may fill.
It writes a project of small models into a temporary folder, promotes it, changes ten of the models,
and measures whole processes: seconds, and the most memory that they had at once. What the driver
alone takes to open the database and to list its tables and columns stands beside it: no program
that asks the database can be faster. A DuckDB file is looked at twice: after it was written to, and
when nobody has since. Building is measured beside the bare driver that runs the same statements in
the same order, in DuckDB.
"""

from __future__ import annotations

import json
import os
import sys
import tempfile
import time
from collections.abc import Sequence
from functools import partial
from pathlib import Path

import duckdb
import psycopg

from inchworm.targets.databases.file_states import SETTLES_AFTER
from processes import PROGRAM, beside_click, measured

CHANGED = 10
BUILT = 1_000
DUCKDB = "duckdb:///dev.duckdb"
_ENVIRONMENT = (
    'snapshots = true\n[databases.main]\nurl = "{}"\nthreads = 1\n'
    '[workspace]\nurl = "sim:dev"\n[gateway]\nurl = "sim:dev"\n'
)
_TABLES_OF_DUCKDB = """
import duckdb
with duckdb.connect("dev.duckdb", read_only=True) as connection:
    connection.execute("SELECT schema_name, table_name, sql FROM duckdb_tables()").fetchall()
    connection.execute("SELECT table_name, column_name, data_type FROM duckdb_columns()").fetchall()
"""
_TABLES_OF_POSTGRES = """
import psycopg
with psycopg.connect({!r}) as connection:
    connection.execute(
        "SELECT c.oid::regclass::text, attname, format_type(atttypid, atttypmod) "
        "FROM pg_attribute a JOIN pg_class c ON c.oid = a.attrelid WHERE attnum > 0"
    ).fetchall()
"""


def table_of(number: int) -> str:
    """The table of a model: ten in a row stand in one schema."""
    return f"m{number // 10 % 50}.t{number}"


def sql_of(number: int) -> str:
    """One in ten models reads the readings; the others read the one before them in their row."""
    if number % 10 == 0:
        return f"SELECT id, level + {number} AS level FROM raw.reading"
    return f"SELECT id, level * 2 AS twice FROM {table_of(number - number % 10)}"


def write_project(folder: Path, models: int, url: str = DUCKDB) -> None:
    """A project with so many models, whose environment is the database at ``url``."""
    for name in ("environments", "schemas/raw"):
        (folder / name).mkdir(parents=True)
    (folder / "inchworm.toml").write_text('name = "bench"\nversion = "1.0.0"\n')
    (folder / "environments/dev.toml").write_text(_ENVIRONMENT.format(url))
    (folder / "schemas/raw/schema.toml").write_text('managed = "outside"\n')
    (folder / "schemas/raw/tables.sql").write_text(
        "CREATE TABLE raw.reading (id INTEGER, level INTEGER);"
    )
    for number in range(models):
        write_model(folder, number, sql_of(number))
    if url != DUCKDB:
        with psycopg.connect(url) as server:
            server.execute("CREATE SCHEMA raw")
            server.execute(
                "CREATE TABLE raw.reading AS SELECT i AS id, i AS level "
                "FROM generate_series(0, 8) i"
            )
        return
    with duckdb.connect(str(folder / "dev.duckdb")) as connection:
        connection.execute("CREATE SCHEMA raw")
        connection.execute(
            "CREATE TABLE raw.reading AS SELECT i AS id, i AS level FROM range(9) r(i)"
        )


def write_model(folder: Path, number: int, sql: str) -> None:
    """The file of a model."""
    schema, _, table = table_of(number).partition(".")
    path = folder / "models" / schema / f"{table}.sql"
    path.parent.mkdir(parents=True, exist_ok=True)
    path.write_text(f'/*---\nstore = "table"\n---*/\n{sql}\n')


def bare(folder: Path, name: str, models: int, steps: Sequence[Sequence[str]]) -> float:
    """Seconds that the driver alone needs for the statements of steps, in their order.

    Each step is a transaction; to close the file, which writes it, is part of it.
    """
    with duckdb.connect(str(folder / name)) as connection:
        connection.execute("CREATE SCHEMA raw")
        connection.execute(
            "CREATE TABLE raw.reading AS SELECT i AS id, i AS level FROM range(9) r(i)"
        )
        for schema in {table_of(number).partition(".")[0] for number in range(models)}:
            connection.execute(f"CREATE SCHEMA {schema}")
        started = time.perf_counter()
        for statements in steps:
            connection.execute("BEGIN")
            for statement in statements:
                connection.execute(statement)
            connection.execute("COMMIT")
    return time.perf_counter() - started


def recorded_steps(folder: Path) -> list[list[str]]:
    """The statements of each step of the promotion, as the ledger recorded them."""
    told = json.loads(measured((*PROGRAM, "history", "P1", "--json"), folder)[2])
    return [step["sql"] for step in told["steps"] if step["sql"]]


def building(models: int) -> None:
    """Print how long it takes to promote new models into an empty database, and the bare driver."""
    with tempfile.TemporaryDirectory() as place:
        folder = Path(place)
        write_project(folder, models)
        _, _, packed = measured((*PROGRAM, "pack"), folder)
        bundle = packed.split()[1]
        took, memory, printed = measured(
            (*PROGRAM, "promote", bundle, "--to", "dev", "--yes"), folder
        )
        selects = [
            [f"CREATE TABLE {table_of(number)} AS {sql_of(number)}"] for number in range(models)
        ]
        build = [line for line in printed.splitlines() if "  done  " in line and "model:" in line]
        print(f"building {models:,} models, {len(build):,} steps told; beside it the bare driver")
        for what, name, steps in (
            ("  promotion, and its SELECTs into tables", "selects.duckdb", selects),
            (
                "  promotion, and all statements that it recorded",
                "all.duckdb",
                recorded_steps(folder),
            ),
        ):
            alone = bare(folder, name, models, steps)
            print(
                f"{what:50}{took:8.2f} s{alone:8.3f} s{took / alone:8.1f} x{memory:8.0f} MB",
                flush=True,
            )


def main() -> None:
    """Print a line per measure: both sides, the ratio, and the memory of ours."""
    models = int(sys.argv[1]) if len(sys.argv) > 1 else 10_000
    url = sys.argv[2] if len(sys.argv) > 2 else DUCKDB
    listing = _TABLES_OF_DUCKDB if url == DUCKDB else _TABLES_OF_POSTGRES.format(url)
    print(f"{'':50}{'inchworm':>10}{'click':>10}{'ratio':>10}{'memory':>11}")
    with tempfile.TemporaryDirectory() as place:
        folder = Path(place)
        write_project(folder, models, url)
        took, memory, packed = measured((*PROGRAM, "pack"), folder)
        print(f"{f'first pack of {models:,}':50}{took:8.2f} s{'':20}{memory:8.0f} MB", flush=True)
        bundle = packed.split()[1]
        took, memory, _ = measured((*PROGRAM, "promote", bundle, "--to", "dev", "--yes"), folder)
        print(f"{f'promoting all {models:,}':50}{took:8.2f} s{'':20}{memory:8.0f} MB", flush=True)
        for number in range(1, CHANGED * 10, 10):
            write_model(folder, number, sql_of(number).replace("* 2", "* 3"))
        measured((*PROGRAM, "check"), folder)
        bundle = measured((*PROGRAM, "pack"), folder)[2].split()[1]
        alone = (sys.executable, "-c", listing)
        beside_click("the driver alone: open, list tables and columns", alone, folder)
        status = (*PROGRAM, "status")
        draft = (*PROGRAM, "promote", bundle, "--to", "dev", "--draft")
        what = f"draft with {CHANGED} changed of {models:,}"
        if url == DUCKDB:
            written = partial(os.utime, folder / "dev.duckdb")
            beside_click("status, the file written to since", status, folder, before=written)
            beside_click(f"{what}, written to", draft, folder, before=written)
            time.sleep(SETTLES_AFTER)
            measured(draft, folder)
        beside_click("status", status, folder)
        beside_click(what, draft, folder)
    print(f"{'':50}{'inchworm':>10}{'driver':>10}{'ratio':>10}{'memory':>11}")
    building(BUILT)


if __name__ == "__main__":
    main()
