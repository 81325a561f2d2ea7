"""What running costs beside doing the same work bare.

Run it with ``python benchmarks/running.py [ROWS]``; ROWS of a flow, 20,000 by default. Both sides
are whole processes, timed in turn in the same run; the PostgreSQL server for one of the lines is
started here, as for the tests.
"""

from __future__ import annotations

import statistics
import subprocess
import sys
import tempfile
import textwrap
import threading
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path

sys.path.insert(0, str(Path(__file__).resolve().parent.parent))

import uvicorn
from starlette.applications import Starlette
from starlette.requests import Request
from starlette.responses import Response
from starlette.routing import Route
from tests import postgres

from inchworm.application.starting import start_project
from processes import PROGRAM, measured

STEPS, LONG_STEPS, THREADS, SLEEP = 200, 60, 4, 1.0
TABLE = '/*---\nstore = "table"\n---*/\n'
API = """
openapi: 3.0.3
info: {title: Rows, version: 1.0.0}
paths:
  /rows:
    post:
      operationId: postRow
      requestBody:
        content: {application/json: {schema: {type: object, properties: {
          n: {type: integer}, text: {type: string}}}}}
      responses: {"201": {description: Taken.}}
"""


def write(folder: Path, path: str, text: str) -> None:
    """Write a file of the project."""
    (folder / path).parent.mkdir(parents=True, exist_ok=True)
    (folder / path).write_text(text)


def promote(folder: Path) -> None:
    """Pack the tree, and put it in place in development."""
    packed = measured((*PROGRAM, "pack"), folder)[2]
    bundle = next(word for word in packed.split() if word.startswith("starter-"))
    measured((*PROGRAM, "promote", bundle, "--to", "dev", "--yes"), folder)


def line(what: str, ours: float, bare: float, more: str = "") -> None:
    """Both sides in seconds, and their ratio."""
    print(f"{what:44}{ours:9.2f} s{bare:9.2f} s{ours / bare:8.2f} x  {more}", flush=True)


def pipeline(folder: Path, query: str, count: int) -> None:
    """A pipeline of independent steps that build a table each."""
    steps = ""
    for n in range(count):
        write(folder, f"models/mart/t{n}.sql", f"{TABLE}{query.format(n=n)}\n")
        steps += f'[[steps]]\nname = "s{n}"\nbuild = ["mart.t{n}"]\n'
    write(folder, "pipelines/many.toml", steps)


def compare(commands: Sequence[Sequence[str]], folder: Path, runs: int = 3) -> list[float]:
    """The median seconds of commands that are run in turn."""
    times = [[measured(command, folder)[0] for command in commands] for _ in range(runs)]
    return [statistics.median(each) for each in zip(*times, strict=True)]


def overhead(place: Path) -> None:
    """Tiny steps: what each costs beside its statement alone."""
    folder = place / "tiny"
    start_project(folder, "starter", "duckdb")
    pipeline(folder, "SELECT {n} AS n", STEPS)
    promote(folder)
    bare = textwrap.dedent(
        f"""
        import duckdb
        c = duckdb.connect("bare.duckdb")
        c.execute("CREATE SCHEMA IF NOT EXISTS mart")
        for n in range({STEPS}):
            c.execute(f"CREATE OR REPLACE TABLE mart.t{{n}} AS SELECT {{n}} AS n")
        """
    )
    run = (*PROGRAM, "run", "many", "--in", "dev")
    ours, theirs = compare([run, (sys.executable, "-c", bare)], folder)
    each = (ours - theirs) / STEPS * 1000
    line(f"{STEPS} tiny tables, DuckDB", ours, theirs, f"{each:.1f} ms more per step")


def busy(place: Path) -> None:
    """Steps that wait in the server: how many of the threads are at work."""
    with postgres.server() as server, postgres.database(server) as url:
        folder = place / "busy"
        start_project(folder, "starter", "duckdb")
        file = folder / "environments/dev.toml"
        text = file.read_text().replace("duckdb:///.inchworm/dev.duckdb", url)
        file.write_text(text.replace("[workspace]", f"threads = {THREADS}\n[workspace]"))
        pipeline(folder, f"SELECT {{n}} AS n, pg_sleep({SLEEP})::text AS slept", LONG_STEPS)
        promote(folder)
        ours = measured((*PROGRAM, "run", "many", "--in", "dev"), folder)[0]
        nothing = measured((*PROGRAM, "run", "mart.t0", "--in", "dev"), folder)[0] - SLEEP
    ideal = LONG_STEPS * SLEEP / THREADS
    share = ideal / (ours - nothing)
    line(f"{LONG_STEPS} steps of {SLEEP} s on {THREADS} threads", ours, ideal, f"{share:.0%} busy")


def first_row(place: Path) -> None:
    """The first row of a view, beside the driver in a fresh Python."""
    folder = place / "rows"
    start_project(folder, "starter", "duckdb")
    write(folder, "models/mart/v.sql", "SELECT g AS n FROM generate_series(1, 1000000) AS t(g)\n")
    promote(folder)
    bare = (
        "import duckdb; c = duckdb.connect('.inchworm/dev.duckdb', read_only=True); "
        "print(c.execute('SELECT * FROM mart.v LIMIT 1').fetchall())"
    )
    rows = (*PROGRAM, "rows", "mart.v", "--first", "1", "--live")
    ours, theirs = compare([rows, (sys.executable, "-c", bare)], folder, 7)
    line("the first row of a view", ours, theirs)


@contextmanager
def receiver() -> Iterator[str]:
    """A receiver that takes everything."""

    async def take(request: Request) -> Response:
        await request.body()
        return Response(status_code=201)

    app = Starlette(routes=[Route("/rows", take, methods=["POST"])])
    server = uvicorn.Server(uvicorn.Config(app, port=8877, log_level="error"))
    thread = threading.Thread(target=server.run, daemon=True)
    thread.start()
    yield "http://127.0.0.1:8877"
    server.should_exit = True
    thread.join()


def flow(place: Path, rows: int) -> None:
    """A flow, beside a loop that posts the same rows."""
    folder = place / "flow"
    start_project(folder, "starter", "duckdb")
    with receiver() as url:
        matrix = (folder / "parameters.toml").read_text()
        write(folder, "parameters.toml", f'{matrix}\n[url]\ntype = "text"\nevery = "{url}"\n')
        write(folder, "connections/r.toml", 'kind = "http"\nurl = "${url}"\n')
        write(folder, "apis/rows.yaml", API)
        write(
            folder,
            "flows/rows.toml",
            'direction = "out"\n[from]\ntable = "mart.row"\n[to]\nconnection = "r"\n'
            'api = "apis/rows.yaml"\noperation = "postRow"\n[fields]\nn = "n"\ntext = "text"\n',
        )
        query = f"SELECT g AS n, 'row ' || g AS text FROM generate_series(1, {rows}) AS t(g)"
        write(folder, "models/mart/row.sql", f"{TABLE}{query}\n")
        promote(folder)
        bare = textwrap.dedent(
            f"""
            import duckdb, httpx
            result = duckdb.execute("{query}")
            with httpx.Client(base_url="{url}") as client:
                while some := result.fetchmany(1000):
                    for n, text in some:
                        client.post("/rows", json={{"n": n, "text": text}}).raise_for_status()
            """
        )
        theirs = measured((sys.executable, "-c", bare), folder)[0]
        ours, memory, _ = measured((*PROGRAM, "run", "rows", "--in", "dev"), folder)
    line(f"a flow of {rows:,} rows", ours, theirs, f"{memory:.0f} MB")


def main() -> None:
    """Print a line for each: both sides, and the ratio."""
    rows = int(sys.argv[1]) if len(sys.argv) > 1 else 20_000
    print(f"{'':44}{'inchworm':>11}{'bare':>11}{'ratio':>10}")
    with tempfile.TemporaryDirectory() as place:
        subprocess.run(["git", "init", "--quiet"], cwd=place, check=True)
        overhead(Path(place))
        busy(Path(place))
        first_row(Path(place))
        flow(Path(place), rows)


if __name__ == "__main__":
    main()
