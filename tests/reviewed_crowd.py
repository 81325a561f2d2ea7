"""Eight people at once who draft, approve, hold, promote and roll back with one ledger.

Run it with ``python -m tests.reviewed_crowd --seconds 120``. They share a ledger and a database in
one PostgreSQL server; nothing enters without an approval. Whatever each of them tries ends with an
exit code that says why, and at the end the ledger's chain is whole, no promotion ran twice, none
without its approval, and database and ledger tell the same story.
"""

from __future__ import annotations

import argparse
import random
import tempfile
import time
from collections import Counter
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any

from inchworm.targets.databases import connect
from tests import postgres
from tests.crowd import checkout
from tests.driver import Answer, Program

PEOPLE = 8
EXPECTED = frozenset({0, 1, 2, 3, 4, 5})
"""Exit codes with a meaning; an approval of what is over already is a wrong usage, for example."""
HELD = "model:report.daily_total"


class Person:
    """Somebody with a checkout, and the chance by which they choose what to do."""

    def __init__(self, program: Program, number: int, seed: int) -> None:
        self.program = program
        self.number = number
        self.chance = random.Random(seed * PEOPLE + number)
        self.changes = 0
        self.ends: Counter[tuple[str, int]] = Counter()

    def work(self, until: float) -> None:
        """Do one thing after another, until a time."""
        deeds: list[Callable[[], Answer]] = [
            *[self.draft] * 3,
            *[self.approve] * 4,
            *[self.promote] * 4,
            self.hold,
            self.roll_back,
        ]
        while time.monotonic() < until:
            deed = self.chance.choice(deeds)
            answer = deed()
            self.ends[deed.__name__, answer.code] += 1
            assert answer.code in EXPECTED, answer.text

    def draft(self) -> Answer:
        """Change a model, and have a draft recorded."""
        self.changes += 1
        self.program.write(
            "models/report/daily_total.sql",
            "/*---\nstore = 'table'\n---*/\n"
            f"SELECT day, {self.changes * PEOPLE + self.number} AS total FROM ops.measurement",
        )
        bundle = str(self._do("pack", "--json", code=0).json["bundle"])
        return self._do("promote", bundle, "--to", "dev", "--draft", "--json")

    def approve(self) -> Answer:
        """Approve a draft that is there."""
        drafts = self._in_state("drafted")
        return self._do("approve", self.chance.choice(drafts)) if drafts else self._look()

    def promote(self) -> Answer:
        """Carry a draft out, whether it is approved or not."""
        drafts = self._in_state("drafted", "failed", "partly done")
        if not drafts:
            return self._look()
        return self._do("promote", self.chance.choice(drafts), "--yes", "--json")

    def hold(self) -> Answer:
        """Have a hold drafted, or its end."""
        more = self.chance.choice([["--because", "for a while"], ["--lift"]])
        return self._do("hold", HELD, "--in", "dev", *more, "--draft")

    def roll_back(self) -> Answer:
        """Have a rollback drafted."""
        return self._do("rollback", "dev", "--because", "to see", "--draft")

    def _look(self) -> Answer:
        return self._do("status")

    def _in_state(self, *states: str) -> list[str]:
        promotions: list[dict[str, Any]] = self._do("history", "--json").json["promotions"]
        return [each["id"] for each in promotions if each["state"] in states]

    def _do(self, *arguments: str, code: int | None = None) -> Answer:
        who = {"INCHWORM_USER": f"person {self.number}"}
        return self.program.process(*arguments, code=code, environ=who)


def reviewed_crowd(
    folder: Path, url: str, ledger: str, seconds: float, size: int = PEOPLE, seed: int = 0
) -> Counter[tuple[str, int]]:
    """Let ``size`` people work for so many seconds, and hold against each other what is left.

    Returns:
        How often each deed ended with each exit code.

    Raises:
        AssertionError: when something does not fit.
    """
    programs = [checkout(folder / f"p{n}" / "starter", url, ledger) for n in range(size)]
    for program in programs:
        settings = (program.folder / "inchworm.toml").read_text()
        program.write("inchworm.toml", f'{settings}bundles = "file://{folder}/bundles"\n')
        file = program.folder / "environments/dev.toml"
        file.write_text(f"{file.read_text()}\n[entry]\napprovals = 1\nauthors_may_approve = true\n")
    people = [Person(program, number, seed) for number, program in enumerate(programs)]
    first = str(people[0].draft().json["id"])
    for deed in (["approve", first], ["promote", first, "--yes"]):
        people[0]._do(*deed, code=0)
    until = time.monotonic() + seconds
    with ThreadPoolExecutor(size) as pool:
        list(pool.map(Person.work, people, [until] * size))
    _go_on(people[0])
    _compare(programs[0], url)
    return sum((person.ends for person in people), Counter())


def _go_on(person: Person) -> None:
    """Let what stopped half way come to its end, so that databases can be compared."""
    for id_ in person._in_state("running", "failed", "partly done"):
        person._do("promote", id_, "--yes")


def _compare(program: Program, url: str) -> None:
    """Database and ledger must tell the same story, and every entry its approval."""
    verified = program.process("ledger", "verify", "--json").json
    assert verified["wrong"] == []
    entries = [line for line in program.process("ledger", "export").out.splitlines() if line]
    assert len(entries) == verified["entries"]
    promotions = program.process("history", "--all", "--json").json["promotions"]
    ids = [each["id"] for each in promotions]
    assert sorted(ids) == sorted(set(ids)), "no number is given twice"
    database = connect(url, root=program.folder)
    recorded = [row[0] for row in database.rows("SELECT promotion FROM inchworm.promotions")]
    database.close()
    assert len(recorded) == len(set(recorded)), "nothing ran twice"
    completed = {each["id"]: each for each in promotions if each["state"] in {"done", "undone"}}
    assert {key.rpartition(":")[2] for key in recorded} == set(completed)
    for promotion in completed.values():
        verdicts = [each["verdict"] for each in promotion["approvals"]]
        assert "approved" in verdicts, f"{promotion['id']} entered without approval"


def main() -> None:
    """Print how often each deed ended with each exit code."""
    parser = argparse.ArgumentParser(description=__doc__, prog="python -m tests.reviewed_crowd")
    parser.add_argument("--seconds", type=float, default=120)
    parser.add_argument("--seed", type=int, default=0)
    given = parser.parse_args()
    with (
        tempfile.TemporaryDirectory() as folder,
        postgres.server() as server,
        postgres.database(server) as url,
        postgres.database(server) as ledger,
    ):
        ends = reviewed_crowd(Path(folder), url, ledger, given.seconds, seed=given.seed)
    for (deed, code), count in sorted(ends.items()):
        print(f"{deed:10} exit code {code}: {count}")


if __name__ == "__main__":
    main()
