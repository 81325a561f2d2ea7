"""The ledger: nothing is lost, nothing is altered, and numbers are never given twice."""

from __future__ import annotations

import sqlite3
import subprocess
import sys
import uuid
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path

import psycopg
import pytest
from msgspec.structs import replace

from inchworm.core.errors import LedgerError, UsageError
from inchworm.core.execution import StepReport, StepState
from inchworm.core.identifiers import Kind, PartId
from inchworm.core.ledger.promotions import summary_of
from inchworm.core.ledger.runs import RunsAsked, summary_of_run
from inchworm.core.parts import Digest
from inchworm.core.promotion.promotion import Draft, Step
from inchworm.core.promotion.states import TRANSITIONS, Phase, State
from inchworm.core.running.run import RunId, RunPlan
from inchworm.core.running.states import RunState
from inchworm.store.ledger import Ledger
from inchworm.store.ledgers.postgres import PostgresLedger
from inchworm.store.ledgers.protocol import LedgerStorage
from inchworm.store.ledgers.registry import open_ledger_storage
from inchworm.store.ledgers.sqlite import SqliteLedger

A = PartId.parse("pipeline:a")
STEP = Step(
    number=1, phase=Phase.BUILD, part=PartId(Kind.MODEL, "m.a"), action="add", reason="new here"
)


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


@dataclass(frozen=True)
class Stored:
    """A ledger, and a way to its tables behind its back."""

    ledger: Ledger
    again: Callable[[], LedgerStorage]
    alter: Callable[[str], None]


@pytest.fixture(params=["sqlite", "postgresql"])
def stored(request: pytest.FixtureRequest, tmp_path: Path) -> Iterator[Stored]:
    """A ledger in each kind of place."""
    if request.param == "sqlite":
        path = tmp_path / "new" / "ledger.sqlite"

        def alter_file(sql: str) -> None:
            with sqlite3.connect(path) as connection:
                connection.execute(sql)

        yield Stored(_ledger(SqliteLedger(path)), lambda: SqliteLedger(path), alter_file)
        return
    url = str(request.getfixturevalue("postgres_url"))

    def alter_table(sql: str) -> None:
        with psycopg.connect(url, autocommit=True) as connection:
            connection.execute("SET search_path = books")
            connection.execute(sql.encode())

    storage = PostgresLedger(url, "books", None)
    yield Stored(_ledger(storage), lambda: PostgresLedger(url, "books", None), alter_table)
    storage.close()


def _ledger(storage: LedgerStorage) -> Ledger:
    return Ledger(storage, now=lambda: "2026-11-23T07:00:00", by="lena")


@pytest.fixture
def ledger(stored: Stored) -> Ledger:
    return stored.ledger


def test_looking_at_a_ledger_that_is_not_there_makes_none(ledger: Ledger, tmp_path: Path) -> None:
    """It begins with the first entry."""
    assert (ledger.entries(), ledger.promotions(), ledger.passed(Digest("x"))) == ([], [], {})
    ledger.check()
    assert list(tmp_path.iterdir()) == []


def test_a_promotion_is_what_its_entries_say(ledger: Ledger) -> None:
    """From draft to done, with each step's end."""
    promotion = ledger.draft(draft(), commit="c0ffee")
    assert (str(promotion.id), promotion.state, promotion.drafted_by) == (
        "P1",
        State.DRAFTED,
        "lena",
    )
    promotion = ledger.move(promotion, State.RUNNING)
    report = StepReport(state=StepState.DONE, message="3 rows", seconds=0.25)
    ledger.steps(promotion.id, [(1, StepReport(state=StepState.RUNNING)), (1, report)])
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
            path = {
                State.DRAFTED: [],
                State.DROPPED: [State.DROPPED],
                State.RUNNING: [State.RUNNING],
                State.UNDONE: [State.RUNNING, State.DONE, State.UNDONE],
            }.get(state, [State.RUNNING, state])
            for step in path:
                promotion = ledger.move(promotion, step)
            assert promotion.state is state
            if following in TRANSITIONS[state]:
                assert ledger.move(promotion, following).state is following
            else:
                with pytest.raises(LedgerError, match="cannot become"):
                    ledger.move(promotion, following)


def test_what_passed_is_what_was_done_completely(ledger: Ledger) -> None:
    """By bundle, for each environment; what was taken back has not passed."""
    for environment, end in (
        ("dev", State.DONE),
        ("test", State.PARTLY_DONE),
        ("prod", State.DONE),
    ):
        running = ledger.move(ledger.draft(draft(environment), None), State.RUNNING)
        ended = ledger.move(running, end)
    ledger.move(ended, State.UNDONE)
    assert list(ledger.passed(Digest("sha256:p-1.0.0"))) == ["dev"]
    assert ledger.passed(Digest("sha256:other")) == {}


@pytest.mark.parametrize(
    "sql",
    [
        "UPDATE entries SET body = replace(body, 'test', 'prod') WHERE number = 2",
        "UPDATE entries SET at = '2020' WHERE number = 2",
        "DELETE FROM entries WHERE number = 2",
        "UPDATE entries SET number = 9 WHERE number = 2",
    ],
)
def test_no_entry_can_be_altered_unseen(stored: Stored, sql: str) -> None:
    """Neither changed, nor taken out, nor moved."""
    for _ in range(3):
        stored.ledger.draft(draft(), None)
    stored.alter(sql)
    with pytest.raises(LedgerError, match="entry 2"):
        stored.ledger.check()


def test_questions_about_many_are_answered_as_the_entries_say(stored: Stored) -> None:
    """Also when another version of the program appended, and the index lags behind or is gone."""
    ledger = stored.ledger
    for environment in ("dev", "test", "dev"):
        running = ledger.move(ledger.draft(draft(environment), None), State.RUNNING)
        ledger.steps(running.id, [(1, StepReport(state=StepState.DONE, seconds=0.5))])
        ledger.move(running, State.DONE)
    expected = [summary_of(promotion, 0) for promotion in ledger.promotions()]
    for sql in (
        "SELECT 1",
        "DELETE FROM promotions WHERE number = 2",
        "UPDATE promotions SET state = 'running', through = 2 WHERE number = 3",
        "DELETE FROM promotions",
    ):
        stored.alter(sql)
        asked = _ledger(stored.again()).summaries()
        assert [replace(summary, through=0) for summary in asked] == expected
        assert [summary.steps_over for summary in asked] == [1, 1, 1]
        assert [summary.seconds for summary in asked] == [0.5] * 3


def run_through(ledger: Ledger) -> None:
    """Four runs, of which the second failed and the third has not ended."""
    for name, subject, state in (
        ("dev", "pipeline:a", RunState.DONE),
        ("test", "pipeline:a", RunState.FAILED),
        ("dev", "pipeline:b", RunState.RUNNING),
        ("dev", "pipeline:a", RunState.DONE),
    ):
        run = ledger.start_run(
            RunPlan(
                environment=name,
                subject=PartId.parse(subject),
                bundle="p-1.0.0",
                bundle_digest=Digest("sha256:p"),
                commit=None,
                today="2026-11-23",
                steps=(),
            )
        )
        if state is not RunState.RUNNING:
            ledger.end_run(run.id, state, "said")


def test_runs_are_told_as_their_entries_say(stored: Stored) -> None:
    """Also when the index lags behind, lost some, or is that of a version which had none."""
    run_through(stored.ledger)
    for sql in (
        "SELECT 1",
        "DELETE FROM runs WHERE number = 2",
        "DELETE FROM runs WHERE number >= 3",
        "UPDATE runs SET through = 2, state = 'running' WHERE number = 4",
        "DELETE FROM runs",
        "DROP TABLE runs",
    ):
        stored.alter(sql)
        ledger = _ledger(stored.again())
        told = [
            (run.id.number, run.environment, str(run.subject), run.state) for run in ledger.runs()
        ]
        assert told == [
            (1, "dev", "pipeline:a", RunState.DONE),
            (2, "test", "pipeline:a", RunState.FAILED),
            (3, "dev", "pipeline:b", RunState.RUNNING),
            (4, "dev", "pipeline:a", RunState.DONE),
        ], sql
        for run in ledger.runs():
            assert run == summary_of_run(ledger.run(run.id), run.through)
    stored.alter("DELETE FROM runs WHERE number = 1")
    stored.ledger.end_run(RunId(stored.ledger.id, 3), RunState.DONE)
    assert [run.state.value for run in stored.ledger.runs()] == ["done", "failed", "done", "done"]


@pytest.mark.parametrize("is_made_by_owner", [True, False])
def test_who_may_write_to_a_ledger_of_an_earlier_version_may_go_on(
    postgres_server: str, postgres_url: str, is_made_by_owner: bool
) -> None:
    """Whoever makes the table that it lacked, its owner or somebody else."""
    owner, other = (f"r{uuid.uuid4().hex[:8]}" for _ in range(2))

    def ledger_of(name: str) -> Ledger:
        return _ledger(PostgresLedger(postgres_url.replace("river@", f"{name}@"), "books", None))

    with psycopg.connect(postgres_url, autocommit=True) as server:

        def run(*statements: str) -> None:
            for statement in statements:
                server.execute(statement.encode())

        run(*(f"CREATE ROLE {name} LOGIN" for name in (owner, other)))
        try:
            run(f"CREATE SCHEMA books AUTHORIZATION {owner}")
            run_through(ledger_of(owner))
            run(
                "DROP TABLE books.runs",
                f"GRANT USAGE, CREATE ON SCHEMA books TO {other}",
                f"GRANT SELECT, INSERT, UPDATE, DELETE ON ALL TABLES IN SCHEMA books TO {other}",
            )
            maker, user = (owner, other) if is_made_by_owner else (other, owner)
            ledger_of(maker).runs()
            ledger = ledger_of(user)
            ledger.end_run(RunId(ledger.id, 3), RunState.DONE)
            assert [run.state.value for run in ledger.runs()] == ["done", "failed", "done", "done"]
        finally:
            run(*(f"DROP OWNED BY {name} CASCADE" for name in (owner, other)))
            run(*(f"DROP ROLE {name}" for name in (owner, other)))


@pytest.mark.parametrize(
    ("asked", "expected"),
    [
        (RunsAsked(), [1, 2, 3, 4]),
        (RunsAsked(environment="dev"), [1, 3, 4]),
        (RunsAsked(environment="dev", subject=A), [1, 4]),
        (RunsAsked(state=RunState.RUNNING), [3]),
        (RunsAsked(latest=2), [3, 4]),
        (RunsAsked(environment="dev", latest=2), [3, 4]),
        (RunsAsked(subject=A, latest=1), [4]),
        (RunsAsked(latest=0), []),
        (RunsAsked(environment="nowhere"), []),
    ],
)
def test_some_runs_are_asked_for(tmp_path: Path, asked: RunsAsked, expected: list[int]) -> None:
    """Where the index can be written, and where it cannot."""
    path = tmp_path / "ledger.sqlite"
    run_through(_ledger(SqliteLedger(path)))
    assert [run.id.number for run in _ledger(SqliteLedger(path)).runs(asked)] == expected

    class ReadOnly(SqliteLedger):
        def begin(self) -> None:
            raise LedgerError("it cannot be written")

    assert [run.id.number for run in _ledger(ReadOnly(path)).runs(asked)] == expected


def test_an_entry_of_a_newer_version_is_not_misunderstood(stored: Stored) -> None:
    """It is named, and so is the way on."""
    stored.ledger.draft(draft(), None)

    def say(number: int, kind: str) -> None:
        """Give an entry another kind, and the hash that goes with it."""
        (row,) = (r for r in stored.again().rows() if r.number == number)
        entry = replace(row.entry, kind=kind)
        stored.alter(
            f"UPDATE entries SET kind = '{kind}', hash = '{entry.hash}' WHERE number = {number}"
        )

    say(2, "approved")
    with pytest.raises(UsageError, match="no promotion P1"):
        stored.ledger.promotion("P1")
    say(2, "drafted")
    stored.ledger.move(stored.ledger.promotion("P1"), State.DROPPED)
    say(3, "approved")
    with pytest.raises(LedgerError, match=r"entry 3 \(approved\) was written by a newer version"):
        stored.ledger.promotion("P1")


APPEND = """
import sys
from pathlib import Path
from inchworm.store.ledger import Ledger
from inchworm.store.ledgers.registry import open_ledger_storage
from tests.targets.test_ledger import draft
storage = open_ledger_storage(sys.argv[1], Path(), "books", lambda: None)
ledger = Ledger(storage, now=lambda: "now", by=sys.argv[2])
for _ in range(10):
    print(ledger.draft(draft(), None).id)
"""


@pytest.mark.parametrize("kind", ["sqlite", "postgresql"])
def test_several_at_once_never_get_one_number(
    kind: str, tmp_path: Path, request: pytest.FixtureRequest
) -> None:
    """Each process goes behind the other, and the chain holds."""
    is_file = kind == "sqlite"
    path = str(tmp_path / "l.sqlite") if is_file else str(request.getfixturevalue("postgres_url"))
    processes = [
        subprocess.Popen(
            [sys.executable, "-c", APPEND, path, name],
            cwd=Path(__file__).parents[2],
            stdout=subprocess.PIPE,
            text=True,
        )
        for name in ("lena", "tom", "ada")
    ]
    given = [id_ for process in processes for id_ in process.communicate()[0].split()]
    assert sorted(given, key=lambda id_: int(id_[1:])) == [f"P{i}" for i in range(1, 31)]
    ledger = _ledger(open_ledger_storage(path, Path(), "books", lambda: None))
    ledger.check()
    assert [summary.id.number for summary in ledger.summaries()] == list(range(1, 31))


def test_a_file_that_is_no_ledger(tmp_path: Path) -> None:
    """Is an error that says so; the file stays as it is."""
    path = tmp_path / "ledger.sqlite"
    path.write_bytes(b"something else entirely" * 100)
    with pytest.raises(LedgerError, match="not a database"):
        _ledger(SqliteLedger(path)).entries()
    assert path.read_bytes().startswith(b"something else")


def test_a_promotion_that_is_not_there(ledger: Ledger) -> None:
    """The nearest one is offered."""
    ledger.draft(draft(), None)
    with pytest.raises(UsageError, match="The latest is P1"):
        ledger.promotion("P11")


def test_a_run_that_ends_while_somebody_looks_is_not_broken_off(tmp_path: Path) -> None:
    """Its process records the end before it goes."""
    ended = False

    def is_gone(process: str) -> bool:
        nonlocal ended
        if not ended:
            ended = True
            ledger.end_run(run.id, RunState.DONE)
        return True

    storage = SqliteLedger(tmp_path / "ledger.sqlite")
    ledger = Ledger(storage, now=lambda: "2026-01-01T00:00:00+00:00", by="lena", is_gone=is_gone)
    plan = RunPlan(
        environment="dev",
        subject=A,
        bundle="p-1.0.0",
        bundle_digest=Digest("sha256:p"),
        commit=None,
        today="2026-11-23",
        steps=(),
        process="7/1@wharf",
    )
    run = ledger.start_run(plan)
    assert ledger.run(run.id).state is RunState.DONE
    other = ledger.start_run(plan)
    assert ledger.run(other.id).state is RunState.BROKEN_OFF
    states = [each.state for each in ledger.runs(RunsAsked(state=RunState.BROKEN_OFF))]
    assert states == [RunState.BROKEN_OFF]
    assert ledger.runs(RunsAsked(state=RunState.RUNNING)) == []
