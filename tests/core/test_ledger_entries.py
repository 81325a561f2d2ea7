"""The ledger's chain and its entries, and promotions as they are worked out from them."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st
from msgspec.structs import replace

from inchworm.core.errors import LedgerError, UsageError
from inchworm.core.execution import StepReport, StepState
from inchworm.core.identifiers import (
    Kind,
    PartId,
    PromotionId,
    Whole,
    promotion_key,
    promotion_number,
    subject_named,
)
from inchworm.core.ledger.entries import GENESIS, Entry, Row, first_break
from inchworm.core.ledger.events import (
    Drafted,
    Event,
    HeadSigned,
    LedgerStarted,
    Packed,
    StateChanged,
    StepReported,
    event_of,
)
from inchworm.core.ledger.promotions import promotion_of, summary_of
from inchworm.core.parts import Digest
from inchworm.core.promotion.promotion import Draft
from inchworm.core.promotion.states import State
from tests.core.test_whole_drafts import whole_draft

LEDGER = "0123"
TEXT = st.text(max_size=12)
REPORTS = st.builds(
    StepReport,
    state=st.sampled_from(StepState),
    message=TEXT,
    seconds=st.none() | st.integers(0, 10**6).map(lambda n: n / 1000),
    rows=st.none() | st.integers(0, 10**9),
    size=st.none() | st.integers(0, 10**12),
)
EVENTS = st.one_of(
    st.builds(LedgerStarted, ledger=TEXT),
    st.builds(Packed, digest=TEXT.map(Digest), commit=st.none() | TEXT, snapshot=st.booleans()),
    st.builds(StateChanged, state=st.sampled_from(State), message=TEXT),
    st.builds(
        HeadSigned, number=st.integers(0, 10**6), hash=TEXT, envelope=st.dictionaries(TEXT, TEXT)
    ),
    st.builds(StepReported, step=st.integers(1, 10**4), report=REPORTS),
)


def entry(event: Event, number: int = 1, before: str = GENESIS, **more: Any) -> Entry:
    made = Entry(
        number=number,
        at=f"2026-11-26T09:00:0{number % 10}+00:00",
        by=f"person {number}",
        kind=event.kind,
        about="P7",
        body=event.body,
        before=before,
    )
    return replace(made, **more)


def chain(*events: Event) -> list[Entry]:
    entries: list[Entry] = []
    for number, event in enumerate(events, start=1):
        entries.append(entry(event, number, entries[-1].hash if entries else GENESIS))
    return entries


@given(EVENTS, TEXT, TEXT)
def test_an_event_is_read_as_it_was_written(event: Event, by: str, about: str) -> None:
    """Through the row that a database stores, whatever the texts."""
    written = entry(event, by=by, about=about)
    assert written.row.entry == written
    assert event_of(written.row.entry) == event


def test_a_draft_is_read_as_it_was_written() -> None:
    """With every step, finding, value and change."""
    drafted = Drafted(draft=whole_draft(), commit="c0ffee")
    assert drafted.draft.findings
    assert drafted.draft.changes
    assert event_of(entry(drafted).row.entry) == drafted


def test_what_a_step_does_not_know_is_left_out() -> None:
    """Ledgers are long."""
    waiting = StepReported(step=3, report=StepReport(state=StepState.WAITING))
    assert waiting.body == {"step": 3, "state": "waiting"}
    done = StepReport(state=StepState.DONE, message="m", seconds=1.23456, rows=0, size=0)
    assert StepReported(step=3, report=done).body == {
        "step": 3,
        "state": "done",
        "message": "m",
        "seconds": 1.235,
        "rows": 0,
        "size": 0,
    }


@pytest.mark.parametrize("more", [{"kind": "other"}, {"body": {"ledger": "x", "version": 2}}])
def test_an_entry_of_a_newer_version_is_refused(more: dict[str, Any]) -> None:
    """By kind, or by the version of the kind."""
    with pytest.raises(LedgerError) as raised:
        event_of(entry(LedgerStarted(ledger="x"), 4, **more))
    kind = more.get("kind", "ledger-started")
    assert str(raised.value) == (
        f"entry 4 ({kind}) was written by a newer version of Inchworm. "
        "Use that version, or a newer one."
    )


CHAIN = chain(*(StateChanged(state=State.RUNNING, message=str(n)) for n in range(5)))


def test_a_whole_chain_is_whole() -> None:
    """Also one without entries."""
    assert first_break([]) is None
    assert first_break([e.row for e in CHAIN]) is None


@pytest.mark.parametrize("place", range(5))
@pytest.mark.parametrize("field", range(8))
def test_whatever_is_altered_in_an_entry_is_found(place: int, field: int) -> None:
    """The number of the entry is told."""
    rows = [e.row for e in CHAIN]
    altered: list[Any] = list(rows[place])
    altered[field] = altered[field] + 1 if field == 0 else f"{altered[field]} "
    rows[place] = Row(*altered)
    assert first_break(rows) == place + 1


DISORDER: dict[str, Callable[[list[Row]], list[Row]]] = {
    "first gone": lambda rows: rows[1:],
    "one gone": lambda rows: [*rows[:2], *rows[3:]],
    "turned": lambda rows: [rows[1], rows[0], *rows[2:]],
    "twice": lambda rows: [rows[0], *rows],
}


@pytest.mark.parametrize(
    ("disorder", "broken"),
    list(zip(DISORDER.values(), (1, 3, 1, 2), strict=True)),
    ids=DISORDER.keys(),
)
def test_entries_that_are_missing_or_out_of_order_are_found(
    disorder: Callable[[list[Row]], list[Row]], broken: int
) -> None:
    """Although each of them is whole."""
    assert first_break(disorder([e.row for e in CHAIN])) == broken


def test_a_promotion_is_worked_out_from_its_entries() -> None:
    """The last word on each step counts, and the last state."""
    draft = whole_draft()
    done = StepReport(state=StepState.DONE, seconds=2.5, rows=10)
    entries = chain(
        Drafted(draft=draft, commit="c0ffee"),
        StateChanged(state=State.RUNNING),
        StepReported(step=1, report=StepReport(state=StepState.RUNNING)),
        StepReported(step=1, report=done),
        StepReported(step=2, report=StepReport(state=StepState.FAILED, message="m", seconds=1)),
        StateChanged(state=State.FAILED, message="why"),
    )
    first = promotion_of(LEDGER, entries[:1])
    assert (first.state, first.steps, first.message) == (State.DRAFTED, {}, "")
    assert (first.drafted_at, first.changed_at) == (entries[0].at, entries[0].at)
    last = promotion_of(LEDGER, entries)
    assert last.id == PromotionId(LEDGER, 7)
    assert (last.draft, last.commit) == (draft, "c0ffee")
    assert (last.state, last.message) == (State.FAILED, "why")
    assert (last.drafted_at, last.drafted_by) == (entries[0].at, "person 1")
    assert (last.changed_at, last.changed_by) == (entries[5].at, "person 6")
    assert last.steps[1] == done
    assert set(last.steps) == {1, 2}
    summary = summary_of(last, 6)
    assert (summary.id, summary.through, summary.state) == (last.id, 6, State.FAILED)
    assert (summary.environment, summary.bundle) == ("test", "p-1.0.0")
    assert summary.bundle_digest == draft.bundle_digest
    assert (summary.changed_at, summary.changed_by) == (entries[5].at, "person 6")
    assert (summary.steps, summary.steps_over, summary.seconds) == (len(draft.steps), 1, 3.5)


def test_a_draft_covers_everything_that_its_digest_is_over() -> None:
    """Another bundle, value, state, step or statement gives another one; another day does not."""
    base = whole_draft()
    others = [
        replace(base, environment="prod"),
        replace(base, bundle_digest=base.values_digest),
        replace(base, values_digest=base.environment_state),
        replace(base, environment_state=base.values_digest),
        replace(base, steps=base.steps[:-1]),
        replace(base, changes=dict.fromkeys(base.changes, ())),
    ]
    digests = {each.digest for each in (base, *others)}
    assert len(digests) == 1 + len(others)
    assert replace(base, today="2030-01-01").digest == base.digest
    assert Draft.from_json(base.to_json()) == base


@pytest.mark.parametrize(
    ("text", "number"),
    [("P12", 12), (" p12 ", 12), ("P0", None), ("P01", None), ("12", None), ("XP1", None)],
)
def test_promotions_by_name(text: str, number: int | None) -> None:
    """Case and blanks do not count."""
    assert promotion_number(text) == number


@pytest.mark.parametrize("ledger", ["0123", "a:b"])
def test_the_key_of_a_promotion_names_its_ledger(ledger: str) -> None:
    """So that promotions of two ledgers are told apart in one database."""
    promotion = PromotionId(ledger, 12)
    assert str(promotion) == "P12"
    assert promotion.key == f"{ledger}:P12"
    assert promotion_key(promotion.key) == promotion
    assert promotion_key("P12") is None
    assert promotion_key(f"{ledger}:12") is None


@given(st.sampled_from(Kind), st.text(min_size=1, max_size=8))
def test_parts_are_read_as_they_are_written(kind: Kind, name: str) -> None:
    """Whatever the name."""
    part = PartId(kind, name)
    assert PartId.parse(str(part)) == part
    assert subject_named(str(part)) == part
    assert Kind.named(kind.value) is kind


@pytest.mark.parametrize("whole", Whole)
def test_subjects_that_are_no_part(whole: Whole) -> None:
    """Steps on the whole environment keep theirs."""
    assert subject_named(whole.value) is whole


@pytest.mark.parametrize("text", ["model", "model:", "gadget:x", ""])
def test_what_is_no_part_is_refused(text: str) -> None:
    """With the kinds that there are."""
    with pytest.raises(UsageError) as raised:
        PartId.parse(text)
    assert str(raised.value) == (
        f"{text!r} is not a part. "
        "Write kind:name; kinds: schema, model, check, notebook, pipeline, connection, flow, "
        "library, consumer."
    )
