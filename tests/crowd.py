"""Eight people at once, with two ledgers, promoting into one database.

Run it with ``python -m tests.crowd --seconds 120``, against PostgreSQL. Each of them has a
checkout, changes a model and promotes, again and again; four share a ledger, four another one. A
promotion ends done or is refused with exit code 4, and at the end the database, both ledgers and
what they say of each other fit together.
"""

from __future__ import annotations

import argparse
import json
import tempfile
import time
from collections import Counter
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

from inchworm.application.starting import start_project
from inchworm.targets.databases import connect
from tests import postgres
from tests.driver import Program

DEV = "duckdb:///.inchworm/dev.duckdb"
PEOPLE = 8
MOVED = 4


def checkout(folder: Path, url: str, ledger: str) -> Program:
    """A checkout of one project, with the address or file of a ledger."""
    start_project(folder, "starter", "duckdb")
    program = Program(folder)
    program.edit("environments/dev.toml", DEV, url)
    settings = (folder / "inchworm.toml").read_text()
    program.write("inchworm.toml", f'{settings}[storage]\nledger = "{ledger}"\n')
    for path in (folder / "pipelines").iterdir():
        path.unlink()  # each checkout has a workspace of its own
    return program


def work(program: Program, person: int, until: float) -> Counter[int]:
    """Change the model and promote it, until a time; how often each exit code came."""
    codes: Counter[int] = Counter()
    number = 0
    while time.monotonic() < until:
        number += 1
        program.write(
            "models/report/daily_total.sql",
            f"/*---\nstore = 'table'\n---*/\nSELECT day, {number * PEOPLE + person} AS total "
            "FROM ops.measurement WHERE day >= :oldest_day",
        )
        bundle = json.loads(program.process("pack", "--json").out)["bundle"]
        answer = program.process("promote", bundle, "--to", "dev", "--yes", "--json", code=None)
        codes[answer.code] += 1
        if answer.code not in {0, MOVED}:
            raise AssertionError(answer.text)
    return codes


def crowd(
    folder: Path, url: str, ledgers: tuple[str, str], seconds: float, size: int = PEOPLE
) -> Counter[int]:
    """Let ``size`` people work for so many seconds, and hold against each other what is left.

    Returns:
        How often a promotion ended with each exit code.

    Raises:
        AssertionError: when something does not fit.
    """
    people = [checkout(folder / f"p{n}" / "starter", url, ledgers[n % 2]) for n in range(size)]
    people[0].process("promote", people[0].pack(), "--to", "dev", "--yes")
    until = time.monotonic() + seconds
    with ThreadPoolExecutor(size) as pool:
        counts = list(pool.map(work, people, range(size), [until] * size))
    codes = sum(counts, Counter())
    database = connect(url, root=folder)
    numbers = [
        int(row[0])
        for row in database.rows("SELECT number FROM inchworm.promotions ORDER BY number")
    ]
    assert len(numbers) == len(set(numbers)) == codes[0] + 1, (numbers, codes)
    ((last,),) = database.rows(
        "SELECT bundle FROM inchworm.promotions ORDER BY number DESC LIMIT 1"
    )
    totals = {row[0] for row in database.rows("SELECT total FROM report.daily_total")}
    database.close()
    done = 0
    for person in people[:2]:
        person.process("status")
        answer = person.process("history", "--all", "--json").json
        of_bundle = [p for p in answer["promotions"] if p["bundle"] == last]
        done += sum(p["state"] == "done" for p in answer["promotions"])
        states = {p["state"] for p in answer["promotions"]}
        assert states <= {"done", "drafted", "dropped"}, answer
        assert len(answer["of_other_ledgers"]) + sum(
            p["state"] == "done" for p in answer["promotions"]
        ) == len(numbers)
        assert of_bundle or any(p["bundle"] == last for p in answer["of_other_ledgers"])
        assert person.process("drift", "dev", "--json").json["drifted"] == []
    assert done == len(numbers)
    assert len(totals) == 1, totals
    return codes


def main() -> None:
    """Print how often a promotion ended with each exit code."""
    parser = argparse.ArgumentParser(description=__doc__, prog="python -m tests.crowd")
    parser.add_argument("--seconds", type=float, default=120)
    seconds = parser.parse_args().seconds
    with (
        tempfile.TemporaryDirectory() as folder,
        postgres.server() as server,
        postgres.database(server) as url,
        postgres.database(server) as one,
        postgres.database(server) as other,
    ):
        codes = crowd(Path(folder), url, (one, other), seconds)
    print(f"{codes[0]} done, {codes[MOVED]} refused because somebody else was there")


if __name__ == "__main__":
    main()
