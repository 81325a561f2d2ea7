"""A rollback by what was kept, beside building the same table again.

Run it with ``PYTHONPATH=. python benchmarks/rollback.py [ROWS]``. On DuckDB, SQLite and PostgreSQL,
a table of so many rows is promoted, changed by a promotion, and rolled back; then changed again and
rolled back with ``--build``. Both are whole processes, draft included.
"""

from __future__ import annotations

import subprocess
import sys
import tempfile
from collections.abc import Iterator
from contextlib import ExitStack, contextmanager
from pathlib import Path

from tests import postgres

from inchworm.application.starting import start_project
from processes import PROGRAM, measured, trusted

ROWS = 10_000_000
MODEL = "models/report/daily_total.sql"
KINDS = ("duckdb", "sqlite", "postgresql")


@contextmanager
def addresses() -> Iterator[dict[str, str]]:
    """A database of each kind."""
    with ExitStack() as stack:
        server = stack.enter_context(postgres.server())
        url = stack.enter_context(postgres.database(server))
        yield {"duckdb": "duckdb:///d.duckdb", "sqlite": "sqlite:///d.sqlite", "postgresql": url}


def write_model(folder: Path, rows: int, factor: int) -> None:
    """A table of so many rows, different for each factor."""
    (folder / MODEL).write_text(
        "/*---\nstore = 'table'\n---*/\n"
        "WITH RECURSIVE ten(d) AS (SELECT 0 UNION ALL SELECT d + 1 FROM ten WHERE d < 9)\n"
        f"SELECT a.d + 10 * b.d AS n, {factor} * c.d AS m FROM ten a, ten b, ten c, ten d, "
        + ", ".join(f"ten e{n}" for n in range(max(0, len(str(rows)) - 5)))
        + "\n"
    )


def run(folder: Path, *arguments: str) -> float:
    """Seconds of a command."""
    seconds, _, _ = measured((*PROGRAM, *arguments), folder)
    return seconds


def bundle(folder: Path) -> str:
    """Pack; the name."""
    done = subprocess.run(
        (*PROGRAM, "pack", "--json"),
        cwd=folder,
        env=trusted(folder),
        capture_output=True,
        text=True,
        check=True,
    )
    return done.stdout.partition('"bundle": "')[2].partition('"')[0]


def measure(kind: str, url: str, rows: int) -> None:
    """One database."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name) / "p"
        start_project(folder, "bench", "duckdb")
        file = folder / "environments/dev.toml"
        file.write_text(file.read_text().replace("duckdb:///.inchworm/dev.duckdb", url))
        write_model(folder, rows, 1)
        run(folder, "promote", bundle(folder), "--to", "dev", "--yes")
        write_model(folder, rows, 2)
        changed = bundle(folder)
        run(folder, "promote", changed, "--to", "dev", "--yes")
        kept = run(folder, "rollback", "dev", "--yes")
        run(folder, "promote", changed, "--to", "dev", "--back", "--yes")
        built = run(folder, "rollback", "dev", "--build", "--yes")
        print(f"{kind:<11} {rows:>12,} {kept:>9.2f} s {built:>9.2f} s {built / kept:>7.1f} x")


def main() -> None:
    """Print a line for each database and size."""
    largest = int(sys.argv[1]) if len(sys.argv) > 1 else ROWS
    print(f"{'':<11} {'rows':>12} {'kept':>11} {'built':>11} {'ratio':>9}")
    with addresses() as urls:
        for kind in KINDS:
            for rows in (10_000, largest):
                measure(kind, urls[kind], rows)


if __name__ == "__main__":
    main()
