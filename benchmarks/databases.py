"""How long work in databases takes, beside the driver doing the same by itself.

Run it with ``python benchmarks/databases.py [POSTGRES_ADDRESS]``, e.g. ``postgresql://me@host``;
without an address only DuckDB is measured. Both sides of a line run in turn, in databases of their
own.
"""

from __future__ import annotations

import statistics
import sys
import tempfile
import threading
import time
import uuid
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

from inchworm.core.composition import BESIDE, KEPT, RanMigration
from inchworm.targets.databases import Database, connect
from inchworm.targets.databases.base import Switch
from inchworm.targets.databases.bookkeeping import Bookkeeping

MIGRATIONS = 200
TABLES = 2_000
SWITCHED = 500
RUNS = 3


@contextmanager
def fresh(kind: str, address: str | None) -> Iterator[tuple[Database, str, Path]]:
    """An empty database, its address, and the folder that the address starts at."""
    with tempfile.TemporaryDirectory() as name:
        root = Path(name)
        if kind == "duckdb" or address is None:
            database = connect("duckdb:///d.duckdb", root=root)
            yield database, "duckdb:///d.duckdb", root
            database.close()
            return
        import psycopg

        own = f"b{uuid.uuid4().hex[:10]}"
        with psycopg.connect(f"{address}/postgres", autocommit=True) as server:
            server.execute(f"CREATE DATABASE {own}".encode())
            database = connect(f"{address}/{own}", root=root)
            try:
                yield database, f"{address}/{own}", root
            finally:
                database.close()
                server.execute(f"DROP DATABASE {own} WITH (FORCE)".encode())


def timed(work: Callable[[], object]) -> float:
    """Seconds that something took."""
    started = time.perf_counter()
    work()
    return time.perf_counter() - started


def scripts() -> list[str]:
    """Migrations as they come over the years: a table, then columns."""
    return [
        f"CREATE TABLE ops.t{i // 4} (id INTEGER)"
        if i % 4 == 0
        else f"ALTER TABLE ops.t{i // 4} ADD COLUMN c{i} VARCHAR"
        for i in range(MIGRATIONS)
    ]


def ours(database: Database) -> None:
    """Each migration in one transaction with its bookkeeping row."""
    books = Bookkeeping(database, "bench")
    books.ensure()
    for i, script in enumerate(scripts()):
        with database.transaction():
            database.execute(script)
            ran = RanMigration(
                schema="ops",
                name=f"{i:04}",
                checksum="c",
                outcome="ran",
                promotion="P1",
                ran_at="2026",
            )
            books.ran(ran, "bench", 0.0)


def theirs(database: Database) -> None:
    """The same texts, each in one transaction."""
    for script in scripts():
        with database.transaction():
            database.execute(script)


def line(what: str, one: float, other: float | None = None, unit: str = "s") -> None:
    """One line of the table."""
    compared = f"{other:10.3f} {unit}  {one / other:6.2f} x" if other is not None else ""
    print(f"{what:44}  {one:10.3f} {unit}  {compared}", flush=True)


def migrations(kind: str, address: str | None) -> None:
    """200 migrations, and the same texts by the driver."""
    pairs = []
    for _ in range(RUNS):
        both = []
        for work in (ours, theirs):
            with fresh(kind, address) as (database, _, _):
                database.create_schema("ops")
                both.append(timed(lambda work=work, database=database: work(database)))  # type: ignore[misc]
        pairs.append(both)
    one, other = (statistics.median(side) for side in zip(*pairs, strict=True))
    line(f"{kind}: {MIGRATIONS} migrations / the driver", one, other)


def structure(kind: str, address: str | None) -> None:
    """Reading what 2,000 tables look like: columns for lineage, definitions for drift."""
    with fresh(kind, address) as (database, _, _):
        database.create_schema("m")
        with database.transaction():
            for i in range(TABLES):
                columns = ", ".join(f"c{k} INTEGER" for k in range(10))
                database.execute(f"CREATE TABLE m.t{i} ({columns}, PRIMARY KEY (c0))")
        line(f"{kind}: columns of {TABLES:,} tables", timed(database.structure))
        read = timed(lambda: database.definitions(["m"]))
        line(f"{kind}: definitions of {TABLES:,} tables", read)


def switch_over(kind: str, address: str | None) -> None:
    """Replacing 500 tables while somebody reads one of them all the time."""
    with fresh(kind, address) as (database, url, root):
        database.create_schema("m")
        for i in range(SWITCHED):
            database.build(f"m.t{i}", "table", "SELECT 1 AS x")
            database.build(f"m.t{i}{BESIDE}", "table", "SELECT 2 AS x")
        switches = [
            Switch(
                name=f"m.t{i}",
                beside=f"m.t{i}{BESIDE}",
                store="table",
                view_sql=None,
                kept=f"m.t{i}{KEPT}",
            )
            for i in range(SWITCHED)
        ]
        waited: list[float] = []
        over = threading.Event()

        def read() -> None:
            reader = connect(url, root=root, read_only=True)
            while not over.is_set():
                waited.append(timed(lambda: reader.rows("SELECT x FROM m.t7")))
            reader.close()

        def switch() -> None:
            with database.transaction():
                database.switch_over(switches)

        thread = threading.Thread(target=read)
        if kind != "duckdb":  # whose file no other process reads meanwhile
            thread.start()
            time.sleep(0.2)
        took = timed(switch)
        over.set()
        if kind != "duckdb":
            thread.join()
            line(f"{kind}: longest wait of a reader", max(waited))
        line(f"{kind}: switch-over of {SWITCHED} tables", took)


def main() -> None:
    """Print the table."""
    address = sys.argv[1].rstrip("/") if len(sys.argv) > 1 else None
    print(f"{'':44}  {'inchworm':>12}  {'compared':>12}  {'ratio':>8}")
    for kind in ("duckdb", "postgresql") if address else ("duckdb",):
        migrations(kind, address)
        structure(kind, address)
        switch_over(kind, address)


if __name__ == "__main__":
    main()
