"""Copying a Parquet file into DuckDB by a flow, beside the database's own reading of it.

Run it with ``python -m benchmarks.copying [--megabytes 1000]``. It prints both times and the ratio:
of the flow, the whole run, with looking for files, fetching this one and its checksum.
"""

from __future__ import annotations

import argparse
import os
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import duckdb

from inchworm.application.starting import start_project

_TABLE = "CREATE TABLE ops.reading (gauge VARCHAR, taken_at TIMESTAMP, level DOUBLE, n BIGINT)"
_FLOW = """
direction = "copy"
[from]
connection = "loggers"
files = "*.parquet"
[to]
table = "ops.reading"
[fields]
gauge = "gauge"
taken_at = "taken_at"
level = "level"
n = "n"
"""


def write(file: Path, megabytes: int) -> int:
    """Write a file of about so many megabytes; the rows in it."""
    rows = megabytes * 42_000
    with duckdb.connect() as connection:
        connection.execute(
            "COPY (SELECT 'gauge ' || (hash(i) % 5000) AS gauge, "
            "TIMESTAMP '2026-01-01' + INTERVAL (i) SECOND AS taken_at, "
            f"random() * 500 AS level, hash(i) >> 1 AS n FROM range({rows}) r(i)) "
            f"TO '{file}' (FORMAT parquet)"
        )
    return rows


def project(folder: Path) -> None:
    """A project with the flow, live in development."""
    start_project(folder, "starter", "duckdb")
    (folder / "incoming").mkdir()
    matrix = (folder / "parameters.toml").read_text()
    loggers = '[loggers_url]\ntype = "text"\nevery = "incoming"\n'
    for path, text in {
        "parameters.toml": f"{matrix}\n{loggers}",
        "connections/loggers.toml": 'kind = "files"\nurl = "${loggers_url}"\n',
        "schemas/ops/migrations/0002_reading.sql": f"{_TABLE};\n",
        "flows/loggers.toml": _FLOW,
    }.items():
        (folder / path).parent.mkdir(exist_ok=True)
        (folder / path).write_text(text)
    bundle = run(folder, "pack").split()[0]
    names = [file.stem for file in (folder / ".inchworm/bundles").glob("*.zip")]
    run(folder, "promote", names[0] if names else bundle, "--to", "dev", "--yes")


def run(folder: Path, *words: str) -> str:
    """Run the program; what it prints."""
    environ = {
        **os.environ,
        "INCHWORM_TRUST": str(folder.resolve()),
        "INCHWORM_TRUST_ADDRESSES": "*",
    }
    command = [sys.executable, "-m", "inchworm", *words]
    done = subprocess.run(
        command, cwd=folder, env=environ, capture_output=True, text=True, check=True
    )
    return done.stdout


def native(folder: Path, file: Path) -> float:
    """Seconds that the database takes by itself, until everything is in its file."""
    started = time.perf_counter()
    with duckdb.connect(str(folder / "native.duckdb")) as connection:
        connection.execute("CREATE SCHEMA ops")
        connection.execute(_TABLE)
        connection.execute(f"INSERT INTO ops.reading SELECT * FROM read_parquet('{file}')")
    return time.perf_counter() - started


def main() -> None:
    """Print both sides and the ratio."""
    parser = argparse.ArgumentParser(description=__doc__, prog="python -m benchmarks.copying")
    parser.add_argument("--megabytes", type=int, default=1000)
    given = parser.parse_args()
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name) / "starter"
        project(folder)
        file = folder / "incoming/reading.parquet"
        rows = write(file, given.megabytes)
        print(f"{rows:,} rows, {file.stat().st_size / 1e6:,.0f} MB of Parquet")
        by_itself = native(Path(name), file)
        started = time.perf_counter()
        run(folder, "run", "flow:loggers", "--in", "dev", "--yes")
        by_us = time.perf_counter() - started
        ratio = by_us / by_itself
        print(f"the database {by_itself:.1f} s, the flow {by_us:.1f} s: {ratio:.2f} x")


if __name__ == "__main__":
    main()
