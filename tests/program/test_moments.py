"""Moments with an offset: in UTC, whichever way they come in and whatever the database is."""

from __future__ import annotations

import datetime as dt
import json
import time
from collections.abc import Iterator
from pathlib import Path

import pyarrow as pa
import pytest
from pyarrow import parquet

from tests.driver import Program
from tests.forked import Started
from tests.program.test_no_harm import NOTEBOOK
from tests.program.test_receive import API, FLOW, Asked

AT = "2026-05-01T03:00:00+01:00"
TABLE = "CREATE TABLE ops.reading (gauge VARCHAR(20), taken_at TIMESTAMP, known_at {zoned});\n"
INWARD = FLOW.partition("[fields]")[0] + '[fields]\ngauge = "gauge"\ntaken_at = "time"\n'
COPIED = """
direction = "copy"
[from]
connection = "loggers"
files = "*.*"
[to]
table = "ops.reading"
[fields]
gauge = "gauge"
taken_at = "at"
known_at = "at"
"""
DESK = """
import datetime as dt, pandas as pd
from inchworm.notebook import env
at = dt.datetime.fromisoformat("2026-05-01T03:00:00+01:00")
frame = pd.DataFrame({"taken_at": [at], "known_at": [at]})
env.store("report.mine", frame, columns={"taken_at": "TIMESTAMP", "known_at": "TIMESTAMPTZ"})
"""


@pytest.fixture
def abroad(monkeypatch: pytest.MonkeyPatch, anywhere: tuple[Program, str]) -> Iterator[str]:
    """A machine and a server that have a zone of their own; what tells their moments in UTC."""
    program, url = anywhere
    with monkeypatch.context() as patched:
        patched.setenv("TZ", "Europe/Paris")
        program.environ["TZ"] = "Europe/Paris"
        time.tzset()
        if url.startswith("postgresql"):
            name = url.rpartition("/")[2]
            program.ask(url, f"ALTER DATABASE {name} SET timezone = 'Europe/Paris'", "SELECT 1")
        if url.startswith("sqlite"):
            yield "known_at"
        else:
            yield "CAST(known_at AT TIME ZONE 'UTC' AS TEXT)"
    time.tzset()


def test_a_moment_is_one_whichever_way_it_comes_in(
    anywhere: tuple[Program, str], abroad: str
) -> None:
    program, url = anywhere
    prepared(program, "TIMESTAMP" if url.startswith("sqlite") else "TIMESTAMPTZ")
    written(program.folder / "incoming")
    answer = Asked(program)("/flows/dev/readings/gauges/sent/readings", {"time": AT, "level": 1})
    assert answer.status_code == 202
    program("run", "flow:loggers", "--in", "dev", "--yes")
    desk = Started(program.folder, program.environ | {"INCHWORM_ENV": "dev"}, DESK)
    assert (desk.communicate()[1], desk.wait()) == ("", 0)
    utc = "2026-05-01 02:00:00"
    columns = f"CAST(taken_at AS TEXT), {abroad}"
    rows = program.ask(url, f"SELECT gauge, {columns} FROM ops.reading ORDER BY 1")
    assert rows == [
        *((gauge, utc, utc) for gauge in ("csv", "json", "parquet")),
        ("sent", utc, None),
    ]
    assert program.ask(url, f"SELECT {columns} FROM report.mine") == [(utc, utc)]


def prepared(program: Program, zoned: str) -> None:
    """Promote flows that take moments from requests and from files."""
    (program.folder / "incoming").mkdir()
    matrix = (program.folder / "parameters.toml").read_text()
    more = '\n[loggers_url]\ntype = "text"\nevery = "incoming"\n'
    program.write("parameters.toml", matrix + more)
    program.write("connections/loggers.toml", 'kind = "files"\nurl = "${loggers_url}"\n')
    program.write("apis/readings.yaml", API)
    program.write("flows/readings.toml", INWARD)
    program.write("flows/loggers.toml", COPIED)
    program.write("schemas/ops/migrations/0009_reading.sql", TABLE.format(zoned=zoned))
    program.write("notebooks/mine.ipynb", NOTEBOOK.format(json.dumps(DESK)))
    program.promote(program.pack(), "dev")


def written(folder: Path) -> None:
    """Write the same moment into a file of each format."""
    (folder / "a.csv").write_text(f"gauge,at\ncsv,{AT}\n")
    (folder / "b.jsonl").write_text(f'{{"gauge": "json", "at": "{AT}"}}\n')
    at = pa.array([dt.datetime.fromisoformat(AT)], pa.timestamp("us", "Europe/Paris"))
    parquet.write_table(pa.table({"gauge": ["parquet"], "at": at}), folder / "c.parquet")
