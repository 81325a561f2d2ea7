"""Runs beside each other in one PostgreSQL, again and again, some of them killed.

Run it with ``python -m tests.runs_beside --seconds 60 [--seed N]``. There are pipelines that build
a table each, one that builds two of these, and a view of all of them. Several people start runs at
random instants, now and then a run is killed with SIGKILL, and now and then a promotion comes
between, while others read the view and the tables all the time. At the end every table and the view
must be there, the view must read what is live, nothing must be left beside, no run may have ended
otherwise than done or refused, and no reader may have heard of it.
"""

from __future__ import annotations

import argparse
import random
import signal
import tempfile
import threading
import time
from collections import Counter
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from dataclasses import dataclass, field
from pathlib import Path

import psycopg

from inchworm.application.starting import start_project
from tests import postgres
from tests.driver import Program
from tests.program.test_database_faults import asked

TABLES = ("a", "b", "c", "d")
TABLE = '/*---\nstore = "table"\n---*/\n'
ROWS = 20_000
READERS = 2
REFUSED = 4
KILLED = -signal.SIGKILL
LEFT = "SELECT count(*) FROM pg_class WHERE relname ~ '__(beside|kept)' AND relkind IN ('r', 'v')"


def write_project(program: Program, url: str) -> None:
    """The tables with a pipeline each, one pipeline of two of them, and a view of all."""
    program.edit("environments/dev.toml", "postgresql://localhost:5432/river_dev", url)
    for name in TABLES:
        rows = f"generate_series(1, {ROWS}) AS i"
        program.write(
            f"models/mart/{name}.sql", f"{TABLE}SELECT txid_current() AS version, i FROM {rows}\n"
        )
        program.write(
            f"pipelines/{name}.toml", f'[[steps]]\nname = "build"\nbuild = ["mart.{name}"]\n'
        )
    program.write("pipelines/two.toml", '[[steps]]\nname = "build"\nbuild = ["mart.a", "mart.b"]\n')
    columns = ", ".join(f"{n}.version AS {n}" for n in TABLES)
    joined = " JOIN ".join(["mart.a", *(f"mart.{n} USING (i)" for n in TABLES[1:])])
    program.write("models/mart/every.sql", f"SELECT i, {columns} FROM {joined}\n")


@contextmanager
def live_project(write: Callable[[Program, str], None]) -> Iterator[tuple[Program, str]]:
    """A project that is live in a server's database, and that; both go with the block.

    Args:
        write: writes the project's parts, given the address of the database.
    """
    with (
        tempfile.TemporaryDirectory() as place,
        postgres.server() as server,
        postgres.database(server) as url,
    ):
        folder = Path(place) / "river"
        start_project(folder, "river", "postgres")
        program = Program(folder)
        write(program, url)
        program.promote(program.pack(), "dev")
        yield program, url


@dataclass
class Crowd:
    """Whoever runs things at random.

    Attributes:
        outcomes: how often a process ended with each exit code.
        wrong: what should not have happened, in words.
    """

    program: Program
    url: str
    until: float
    seed: int
    answered: int = 0
    """How many queries of readers were answered."""
    outcomes: Counter[int] = field(default_factory=Counter)
    wrong: list[str] = field(default_factory=list)
    _lock: threading.Lock = field(default_factory=threading.Lock)
    _promoting: threading.Lock = field(default_factory=threading.Lock)

    def work(self, number: int) -> None:
        """Start runs, and now and then a promotion, until the time is over."""
        chance = random.Random(self.seed * 1000 + number)
        while time.monotonic() < self.until:
            if chance.random() < 0.06:
                self._promote(chance)
            else:
                name = chance.choice((*TABLES, "two"))
                self._process(["run", f"pipeline:{name}", "--in", "dev"], chance)

    def read(self, number: int) -> None:
        """Read the view, or the tables in some order, until the time is over."""
        chance = random.Random(self.seed * 1000 + number)
        with psycopg.connect(self.url, autocommit=True) as connection:
            while time.monotonic() < self.until:
                joined = " JOIN ".join(
                    f"mart.{name}{' USING (i)' if at else ''}"
                    for at, name in enumerate(chance.sample(TABLES, len(TABLES)))
                )
                source = chance.choice(["mart.every", joined])
                try:
                    ((rows,),) = connection.execute(f"SELECT count(*) FROM {source}".encode())
                except psycopg.Error as error:
                    with self._lock:
                        self.wrong.append(f"a reader of {source} heard: {error}")
                else:
                    if rows != ROWS:
                        self.wrong.append(f"a reader of {source} got {rows} rows")
                    self.answered += 1

    def _promote(self, chance: random.Random) -> None:
        with self._promoting:  # the working tree is one
            model = f"models/mart/{chance.choice(TABLES)}.sql"
            text = (self.program.folder / model).read_text()
            self.program.write(model, text + f"-- {chance.random()}\n")
            bundle = self.program.pack()
            self._process(["promote", bundle, "--to", "dev", "--yes"], None)

    def _process(self, arguments: list[str], chance: random.Random | None) -> None:
        process = self.program.start(*arguments)
        if chance is not None and chance.random() < 0.2:
            time.sleep(chance.uniform(0, 1.5))
            process.send_signal(signal.SIGKILL)
        out, err = process.communicate(timeout=120)
        code = process.returncode or 0
        with self._lock:
            self.outcomes[code] += 1
            if code not in {0, REFUSED, KILLED}:
                self.wrong.append(f"{' '.join(arguments)} ended with {code}:\n{out}{err}")


def judge(program: Program, url: str) -> list[str]:
    """What is wrong once everybody has gone, and each pipeline has run once more."""
    wrong = []
    for name in TABLES:
        answer = program("run", f"pipeline:{name}", "--in", "dev", "--wait", "1m", code=None)
        if answer.code != 0:
            wrong.append(f"{name} does not run any more:\n{answer.text}")
    ((definition,),) = asked(url, "SELECT pg_get_viewdef('mart.every'::regclass)")
    if "__" in definition:
        wrong.append(f"the view reads what is not live:\n{definition}")
    versions = asked(url, f"SELECT DISTINCT {', '.join(TABLES)} FROM mart.every")
    live = tuple(asked(url, f"SELECT DISTINCT version FROM mart.{n}")[0][0] for n in TABLES)
    if versions != [live]:
        wrong.append(f"the view tells {versions}, and the tables {live}")
    ((left,),) = asked(url, LEFT)
    kept = len(asked(url, "SELECT 1 FROM inchworm.aside WHERE purpose = 'replaced'"))
    if left != kept:
        wrong.append(f"{left} relations are left beside, of which {kept} are kept on purpose")
    running = [
        each["id"]
        for each in program("history", "--runs", "--all", "--json").json["runs"]
        if each["state"] == "running"
    ]
    if running:
        wrong.append(f"{', '.join(running)} are said to run")
    verified = program("ledger", "verify", code=None)
    if verified.code != 0:
        wrong.append(verified.text)
    return wrong


def main() -> None:
    """Let a crowd work, and print what came of it; exit code 1 where something is wrong."""
    parser = argparse.ArgumentParser(description=__doc__, prog="python -m tests.runs_beside")
    parser.add_argument("--seconds", type=float, default=60)
    parser.add_argument("--people", type=int, default=6)
    parser.add_argument("--seed", type=int, default=0)
    given = parser.parse_args()
    with live_project(write_project) as (program, url):
        crowd = Crowd(program, url, time.monotonic() + given.seconds, given.seed)
        with ThreadPoolExecutor(given.people + READERS) as people:
            reading = [people.submit(crowd.read, -number) for number in range(1, READERS + 1)]
            list(people.map(crowd.work, range(given.people)))
            for reader in reading:
                reader.result()
        wrong = [*crowd.wrong, *judge(program, url)]
    outcomes = crowd.outcomes
    print(
        f"{outcomes[0]} done, {outcomes[REFUSED]} refused, {outcomes[KILLED]} killed, "
        f"{crowd.answered} queries of readers; {len(wrong)} wrong"
    )
    for each in wrong:
        print(each)
    raise SystemExit(bool(wrong))


if __name__ == "__main__":
    main()
