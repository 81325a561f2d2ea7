"""Promotions killed at random instants, again and again, in databases of each kind.

Run it with ``python -m tests.kill --kills 500 [--seed N]``. Two checkouts with a ledger each
promote into one database by turns. Each bundle changes, adds and removes models, lets an increment
grow and brings a migration; now and then a part is on hold, or the promotion is taken back. The
process that promotes it is killed with SIGKILL at random instants
until it ends, and then the database must be exactly what an undisturbed database is that took the
same bundles: same tables, same rows, same migrations, nothing left beside.
"""

from __future__ import annotations

import argparse
import contextlib
import datetime as dt
import json
import random
import shutil
import signal
import tempfile
import time
from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path

from inchworm.application.starting import start_project
from inchworm.targets.databases import connect
from tests import postgres
from tests.driver import Program

DEV = "duckdb:///.inchworm/dev.duckdb"
GROWS = """\
/*---
store = "increment"
since = "day"
key = ["place", "day"]
on_change = "keep"
---*/
SELECT place, day, CAST(amount AS INTEGER) AS amount FROM ops.measurement
"""
KINDS = ["duckdb", "sqlite", "postgresql"]
NOTHING_BESIDE = (
    "SELECT count(*) FROM inchworm.aside WHERE purpose IN ('staging', 'reserved', 'scratch')"
)

_LOCKED = 4
_PATIENCE = 200


@dataclass
class Outcome:
    """What came of killing.

    Attributes:
        kills: processes that were killed at work.
        promotions: bundles that were promoted to the end.
        wrong: in words, where the database was not what it had to be.
    """

    kills: int = 0
    promotions: int = 0
    wrong: list[str] = field(default_factory=list)


class Place:
    """Two checkouts that promote into one database, and one that takes the same undisturbed.

    Args:
        folder: an empty folder.
        url: the address of an empty database.
        undisturbed: that of another one of the same kind.
        seed: of all chance.
    """

    def __init__(self, folder: Path, url: str, undisturbed: str, seed: int) -> None:
        self.chance = random.Random(seed)
        self.url = url
        first = self._checkout(folder / "first", url)
        self.checkouts = [first, Program(folder / "second")]
        shutil.copytree(first.folder, self.checkouts[1].folder)
        self.calm = self._checkout(folder / "calm", undisturbed)
        self.calm_url = undisturbed
        self.steps = 0
        self.took = 1.0
        """Seconds that a promotion takes undisturbed."""

    @staticmethod
    def _checkout(folder: Path, url: str) -> Program:
        start_project(folder, "starter", "duckdb")
        program = Program(folder)
        program.edit("environments/dev.toml", DEV, url)
        program.write("models/report/grows.sql", GROWS)
        return program

    def change(self) -> None:
        """The next version of the project, the same in every checkout."""
        self.steps += 1
        number = self.steps
        factor = self.chance.randint(2, 99)
        gone = self.chance.randint(0, number)
        for program in (*self.checkouts, self.calm):
            program.write(
                "models/report/daily_total.sql",
                f"/*---\nstore = 'table'\n---*/\nSELECT day, {factor} * sum(amount) AS total "
                "FROM ops.measurement WHERE day >= :oldest_day GROUP BY day",
            )
            program.write(
                f"models/report/m{number}.sql",
                f"/*---\nstore = 'table'\n---*/\nSELECT day, total + {number} AS total "
                "FROM report.daily_total",
            )
            program.write(
                f"models/report/v{number}.sql",
                f"SELECT sum(total) AS total FROM report.m{number}",
            )
            for kind in "vm":
                (program.folder / f"models/report/{kind}{gone}.sql").unlink(missing_ok=True)
            program.write(
                f"schemas/ops/migrations/{number + 1:04}_row.sql",
                f"INSERT INTO ops.measurement VALUES ('east', '{_FIRST_DAY + number * _DAY}', "
                f"{number});",
            )
            program.edit("inchworm.toml", f'"0.1.{number - 1}"', f'"0.1.{number}"')

    def promote_calmly(self) -> None:
        """Promote without being killed, and see how long that takes."""
        bundle = self.calm.pack()
        started = time.monotonic()
        self.calm.process("promote", bundle, "--to", "dev", "--yes")
        self.took = time.monotonic() - started

    def promote_killing(self, outcome: Outcome, most: int) -> None:
        """Promote from one of the checkouts, killing the process up to ``most`` times."""
        for each in self.checkouts:  # either of them may have to take it back
            bundle = each.pack()
        program = self.chance.choice(self.checkouts)
        self._carry_out(program, ["promote", bundle, "--to", "dev"], outcome, most)

    def hold_calmly(self, part: str) -> None:
        """Put a part on hold in both databases, undisturbed."""
        for program in (self.calm, self.checkouts[0]):
            hold = ("hold", part, "--in", "dev", "--because", "to see what stays", "--yes")
            program(*hold)

    def lift_calmly(self, part: str) -> None:
        """Lift the hold of a part in both databases."""
        for program in (self.calm, self.checkouts[0]):
            program("hold", part, "--in", "dev", "--lift", "--yes")

    def roll_back_calmly(self) -> None:
        """Take the last promotion back, without being killed."""
        self.calm("rollback", "dev", "--because", "to see", "--yes")

    def roll_back_killing(self, outcome: Outcome, most: int) -> None:
        """Take the last promotion back, killing the process up to ``most`` times."""
        program = self.chance.choice(self.checkouts)
        self._carry_out(program, ["rollback", "dev", "--because", "to see"], outcome, most)

    def _carry_out(self, program: Program, command: list[str], outcome: Outcome, most: int) -> None:
        """Have a command done, killing it up to ``most`` times, and going on with what it began."""
        before = self._completed(program)
        for _ in range(most):
            if not self._killed(program, [*self._next(program, command), "--yes"]):
                break
            outcome.kills += 1
            if self._completed(program) != before:
                break
        for _ in range(_PATIENCE):
            if self._completed(program) != before:
                break
            answer = program.process(*self._next(program, command), "--yes", code=None)
            if answer.code not in (0, _LOCKED):
                outcome.wrong.append(f"version {self.steps}: {answer.text}")
                break
            if answer.code == 0:
                break
            time.sleep(0.1)  # the server has not noticed yet that its client is dead
        else:
            outcome.wrong.append(f"version {self.steps}: it never came to an end: {answer.text}")
        outcome.promotions += 1

    def _next(self, program: Program, command: list[str]) -> list[str]:
        unfinished = self._unfinished(program)
        return ["promote", *unfinished] if unfinished else command

    @staticmethod
    def _completed(program: Program) -> int:
        """How many promotions of a checkout's ledger are done, or were taken back since."""
        told = program("history", "--all", "--json").json["promotions"]
        return sum(each["state"] in {"done", "undone"} for each in told)

    def _killed(self, program: Program, command: list[str]) -> bool:
        """Start a command and kill it at a random instant; whether it was still at work."""
        process = program.start(*command)
        with contextlib.suppress(TimeoutError):
            process.wait(self.chance.uniform(0.2, 1.1) * self.took)
            return False
        process.send_signal(signal.SIGKILL)
        process.communicate()
        return True

    @staticmethod
    def _unfinished(program: Program) -> list[str]:
        """The latest promotion, where it is not over."""
        answer = program("history", "--json").json["promotions"]
        latest = answer[0] if answer else {"state": "done"}
        return [latest["id"]] if latest["state"] in {"running", "failed", "partly done"} else []

    def compare(self, outcome: Outcome) -> None:
        """Hold the database against the undisturbed one."""
        ours, calm = _content(self.url, self.calm.folder), _content(self.calm_url, self.calm.folder)
        for name in sorted({*ours, *calm}):
            if ours.get(name) != calm.get(name):
                outcome.wrong.append(f"version {self.steps}: {name} differs")
        database = connect(self.url, root=self.calm.folder)
        if database.rows(NOTHING_BESIDE) != [(0,)]:
            rows = database.rows("SELECT * FROM inchworm.aside")
            outcome.wrong.append(f"version {self.steps}: something is left beside: {rows}")
        database.close()
        for program in self.checkouts:
            drifted = program("drift", "dev", "--json", code=None).json["drifted"]
            if [d for d in drifted if d["part"].startswith(("model", "schema"))]:
                outcome.wrong.append(f"version {self.steps}: {json.dumps(drifted)}")


def _content(url: str, root: Path) -> dict[str, object]:
    """Every table and view with its rows, and which migrations ran."""
    database = connect(url, root=root)
    kept = {str(row[0]) for row in database.rows("SELECT name FROM inchworm.aside")}
    content: dict[str, object] = {
        name: sorted(map(str, database.rows(f"SELECT * FROM {name}")))
        for name in database.kinds()
        if name.startswith(("report.", "ops.")) and name not in kept
    }
    ran = "SELECT schema_name, name, checksum, count(*) FROM inchworm.migrations GROUP BY 1, 2, 3"
    content["migrations"] = sorted(map(str, database.rows(ran)))
    content["parts"] = sorted(
        map(str, database.rows("SELECT part, digest FROM inchworm.parts ORDER BY 1"))
    )
    database.close()
    return content


def kill(place: Place, kills: int) -> Outcome:
    """Promote version after version until so many processes were killed."""
    outcome = Outcome()
    while outcome.kills < kills and not outcome.wrong:
        place.change()
        holds = place.steps > 1 and place.chance.random() < _HOW_OFTEN
        if holds:
            place.hold_calmly(HELD)
        place.promote_calmly()
        place.promote_killing(outcome, min(6, kills - outcome.kills))
        place.compare(outcome)
        if place.steps > 1 and not outcome.wrong and place.chance.random() < _HOW_OFTEN:
            place.roll_back_calmly()
            place.roll_back_killing(outcome, min(3, kills - outcome.kills))
            place.compare(outcome)
        if holds:
            place.lift_calmly(HELD)
    return outcome


HELD = "model:report.daily_total"
_FIRST_DAY, _DAY = dt.date(2026, 3, 1), dt.timedelta(days=1)
"""Each version brings a row of another day: rows of the model that grows are unique by day."""

_HOW_OFTEN = 0.4
"""How often, of all versions, a part is on hold, or the promotion is taken back."""


@contextlib.contextmanager
def databases(kind: str, folder: Path) -> Iterator[tuple[str, str]]:
    """The addresses of two empty databases of a kind."""
    if kind != "postgresql":
        yield f"{kind}:///{folder}/one.{kind}", f"{kind}:///{folder}/calm.{kind}"
        return
    with (
        postgres.server() as server,
        postgres.database(server) as one,
        postgres.database(server) as calm,
    ):
        yield one, calm


def main() -> int:
    """Print what came of it; 1 if a database was not what it had to be."""
    parser = argparse.ArgumentParser(description=__doc__, prog="python -m tests.kill")
    parser.add_argument("--kills", type=int, default=500)
    parser.add_argument("--seed", type=int, default=0)
    parser.add_argument("--database", choices=KINDS, action="append")
    given = parser.parse_args()
    kinds = given.database or KINDS
    wrong: list[str] = []
    for kind in kinds:
        with tempfile.TemporaryDirectory() as folder, databases(kind, Path(folder)) as urls:
            place = Place(Path(folder), *urls, given.seed)
            outcome = kill(place, given.kills // len(kinds))
        print(f"{kind}: {outcome.kills} kills in {outcome.promotions} promotions", flush=True)
        told = outcome.wrong or ["every time as an undisturbed one"]
        print("\n".join(f"{kind}: {each}" for each in told), flush=True)
        wrong += outcome.wrong
    return 1 if wrong else 0


if __name__ == "__main__":
    raise SystemExit(main())
