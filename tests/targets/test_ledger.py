"""The ledger: nothing is lost, nothing is altered, and numbers are never given twice."""

from __future__ import annotations

import sqlite3
import subprocess
import sys
from pathlib import Path

import pytest

from inchworm.core.errors import LedgerError, UsageError
from inchworm.core.parts import Digest
from inchworm.core.promotion import TRANSITIONS, Draft, Phase, State, Step, StepReport, StepState
from inchworm.store.ledger import Ledger

STEP = Step(number=1, phase=Phase.BUILD, part="model:m.a", action="add", reason="new here")


def draft(environment: str = "test", bundle: str = "p-1.0.0") -> Draft:
    return Draft(
        environment=environment,
        bundle=bundle,
        bundle_digest=Digest(f"sha256:{bundle}"),
        today="2026-11-23",
        environment_state=Digest("sha256:1"),
        values_digest=Digest("sha256:2"),
        steps=(STEP,),
    )


@pytest.fixture
def ledger(tmp_path: Path) -> Ledger:
    return Ledger(tmp_path / "new" / "ledger.sqlite", now=lambda: "2026-11-23T07:00:00", by="lena")


def test_looking_at_a_ledger_that_is_not_there_makes_none(ledger: Ledger, tmp_path: Path) -> None:
    """It begins with the first entry."""
    assert (ledger.entries(), ledger.promotions(), ledger.passed("x")) == ([], [], {})
    ledger.check()
    assert list(tmp_path.iterdir()) == []


def test_a_promotion_is_what_its_entries_say(ledger: Ledger) -> None:
    """From draft to done, with each step's end."""
    promotion = ledger.draft(draft(), commit="c0ffee")
    assert (promotion.id, promotion.state, promotion.drafted_by) == ("P1", State.DRAFTED, "lena")
    promotion = ledger.move(promotion, State.RUNNING)
    report = StepReport(state=StepState.DONE, message="3 rows", seconds=0.25)
    ledger.step(promotion, 1, StepReport(state=StepState.RUNNING))
    ledger.step(promotion, 1, report)
    promotion = ledger.move(promotion, State.DONE)
    assert ledger.promotion("p1") == promotion
    assert promotion.report_of(STEP) == report
    assert promotion.draft == draft()
    ledger.check()


def test_only_what_may_follow_follows(ledger: Ledger) -> None:
    """As the table of transitions says, for every pair."""
    for state in State:
        for following in State:
            promotion = ledger.draft(draft(), None)
            path = {State.DRAFTED: [], State.DROPPED: [State.DROPPED]}.get(
                state, [State.RUNNING] + ([state] if state is not State.RUNNING else [])
            )
            for step in path:
                promotion = ledger.move(promotion, step)
            assert promotion.state is state
            if following in TRANSITIONS[state]:
                assert ledger.move(promotion, following).state is following
            else:
                with pytest.raises(LedgerError, match="cannot become"):
                    ledger.move(promotion, following)


def test_what_passed_is_what_was_done_completely(ledger: Ledger) -> None:
    """By bundle, for each environment."""
    for environment, end in (("dev", State.DONE), ("test", State.PARTLY_DONE)):
        running = ledger.move(ledger.draft(draft(environment), None), State.RUNNING)
        ledger.move(running, end)
    assert list(ledger.passed("sha256:p-1.0.0")) == ["dev"]
    assert ledger.passed("sha256:other") == {}


@pytest.mark.parametrize(
    "sql",
    [
        "UPDATE entries SET body = replace(body, 'test', 'prod') WHERE number = 2",
        "UPDATE entries SET at = '2020' WHERE number = 2",
        "DELETE FROM entries WHERE number = 2",
        "UPDATE entries SET number = 9 WHERE number = 2",
    ],
)
def test_no_entry_can_be_altered_unseen(ledger: Ledger, tmp_path: Path, sql: str) -> None:
    """Neither changed, nor taken out, nor moved."""
    for _ in range(3):
        ledger.draft(draft(), None)
    with sqlite3.connect(tmp_path / "new/ledger.sqlite") as connection:
        connection.execute(sql)
    with pytest.raises(LedgerError, match="entry 2"):
        ledger.check()


APPEND = """
import sys
from pathlib import Path
from inchworm.store.ledger import Ledger
from tests.targets.test_ledger import draft
ledger = Ledger(Path(sys.argv[1]), now=lambda: "now", by=sys.argv[2])
for _ in range(10):
    print(ledger.draft(draft(), None).id)
"""


def test_several_at_once_never_get_one_number(tmp_path: Path) -> None:
    """Each process goes behind the other, and the chain holds."""
    path = tmp_path / "ledger.sqlite"
    processes = [
        subprocess.Popen(
            [sys.executable, "-c", APPEND, str(path), name],
            cwd=Path(__file__).parents[2],
            stdout=subprocess.PIPE,
            text=True,
        )
        for name in ("lena", "tom", "ada")
    ]
    given = [id_ for process in processes for id_ in process.communicate()[0].split()]
    assert sorted(given, key=lambda id_: int(id_[1:])) == [f"P{i}" for i in range(1, 31)]
    Ledger(path, now=str, by="x").check()


def test_a_file_that_is_no_ledger(tmp_path: Path) -> None:
    """Is an error that says so; the file stays as it is."""
    path = tmp_path / "ledger.sqlite"
    path.write_bytes(b"something else entirely" * 100)
    with pytest.raises(LedgerError, match="not a database"):
        Ledger(path, now=str, by="x").entries()
    assert path.read_bytes().startswith(b"something else")


def test_a_promotion_that_is_not_there(ledger: Ledger) -> None:
    """The nearest one is offered."""
    ledger.draft(draft(), None)
    with pytest.raises(UsageError, match="Did you mean P1"):
        ledger.promotion("P11")
