"""How long work in databases takes, beside the driver doing the same by itself.

Run it with ``python benchmarks/databases.py [POSTGRES_ADDRESS]``, e.g. ``postgresql://me@host``;
without an address only DuckDB is measured. Both sides of a line run in turn, in databases of their
own.
"""

from __future__ import annotations

import os
import shutil
import statistics
import subprocess
import sys
import tempfile
import threading
import time
import uuid
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

from inchworm.application.promoting import (
    PromotionRequest,
    carry_out_promotion,
    draft_promotion,
    record_draft,
)
from inchworm.application.starting import start_project
from inchworm.cli.process import workplace
from inchworm.core.execution import StepReport
from inchworm.core.identifiers import RelationName
from inchworm.core.promotion.aside import REPLACED, STAGING
from inchworm.core.promotion.composition import RanMigration
from inchworm.core.promotion.promotion import Step
from inchworm.core.promotion.states import Phase, State
from inchworm.core.rendered import Store
from inchworm.engine.reporter import Reporter
from inchworm.targets.databases import Database, connect
from inchworm.targets.databases.bookkeeping import Bookkeeping
from inchworm.targets.databases.protocols import Switch

MIGRATIONS = 200
TABLES = 2_000
SWITCHED = 500
RUNS = 3
MODELS = 50
THREADS = 4


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
            database.build(f"m.t{i}", Store.TABLE, "SELECT 1 AS x")
            database.build(f"m.t{i}{STAGING}", Store.TABLE, "SELECT 2 AS x")
        switches = [
            Switch(
                name=RelationName(f"m.t{i}"),
                staging=RelationName(f"m.t{i}{STAGING}"),
                store=Store.TABLE,
                view_sql=None,
                replaced=RelationName(f"m.t{i}{REPLACED}"),
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


def one_second(database: Database) -> str:
    """A SELECT that takes about a second: waiting on a server, else reckoning."""
    if database.dialect == "postgres":
        return "SELECT pg_sleep(1)::text AS x"
    rows = 40_000_000
    took = timed(lambda: database.rows(_reckoning(rows)))
    return _reckoning(int(rows / took))


def _reckoning(rows: int) -> str:
    return f"SELECT sum(sin(i)) AS x FROM range({rows}) AS r(i)"


class Building(Reporter):
    """Measures from the first model's begin to the last one's end."""

    def __init__(self) -> None:
        self.began: float | None = None
        self.took = 0.0

    def step_started(self, step: Step) -> None:
        if step.phase is Phase.BUILD and self.began is None:
            self.began = time.perf_counter()

    def step_ended(self, step: Step, report: StepReport) -> None:
        if step.phase is Phase.BUILD and self.began is not None:
            self.took = time.perf_counter() - self.began


def promoted(url: str, sql: str) -> float:
    """Seconds that a promotion of MODELS new models spends on building them."""
    with tempfile.TemporaryDirectory() as name:
        root = Path(name)
        start_project(root / "p", "bench", "postgres" if "postgres" in url else "duckdb")
        os.chdir(root / "p")
        environment = Path("environments/dev.toml")
        text = environment.read_text().replace("duckdb:///.inchworm/dev.duckdb", url)
        environment.write_text(text.replace(f'"{url}"', f'"{url}"\nthreads = {THREADS}'))
        for old in ("models/report", "pipelines"):
            shutil.rmtree(old)
        Path("models/m").mkdir(parents=True)
        for i in range(MODELS):
            Path(f"models/m/t{i}.sql").write_text(f'/*---\nstore = "table"\n---*/\n{sql}')
        subprocess.run([sys.executable, "-m", "inchworm", "pack"], check=True, capture_output=True)
        place = workplace()
        request = PromotionRequest(bundle=place.bundles.names()[0], environment="dev")
        drafted = draft_promotion(place, request)
        promotion = record_draft(place, drafted)
        watch = Building()
        done = carry_out_promotion(place, drafted.prepared, promotion, watch)
        assert done.state is State.DONE, done.message
        return watch.took


def bare(connections: list[Database], sql: str) -> None:
    """The same SELECTs into tables, by as many connections."""
    left = iter(range(MODELS))
    lock = threading.Lock()

    def work(connection: Database) -> None:
        while True:
            with lock:
                i = next(left, None)
            if i is None:
                return
            connection.execute(f"CREATE TABLE m.t{i} AS {sql}")

    threads = [threading.Thread(target=work, args=[each]) for each in connections]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()


def building(kind: str, address: str | None) -> None:
    """50 models of a second each on 4 threads, and the same SQL on four bare connections."""
    with fresh(kind, address) as (database, url, root):
        sql = one_second(database)
        database.create_schema("m")
        others = [other for _ in range(THREADS) if (other := database.new_session()) is not None]
        for other in others if kind == "duckdb" else ():
            other.execute(f"SET threads = {THREADS}")
        plain = timed(lambda: bare(others, sql))
        for other in others:
            other.close()
    with fresh(kind, address) as (database, url, root):
        if kind == "duckdb":
            database.close()
            url = f"duckdb:///{root / 'd.duckdb'}"
        ours = promoted(url, sql)
    line(f"{kind}: {MODELS} models / four connections", ours, plain)


def main() -> None:
    """Print the table."""
    address = sys.argv[1].rstrip("/") if len(sys.argv) > 1 else None
    print(f"{'':44}  {'inchworm':>12}  {'compared':>12}  {'ratio':>8}")
    for kind in ("duckdb", "postgresql") if address else ("duckdb",):
        migrations(kind, address)
        structure(kind, address)
        switch_over(kind, address)
        building(kind, address)


if __name__ == "__main__":
    main()
