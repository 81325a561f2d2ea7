"""The ledger: what is recorded of promotions and runs, and what is asked about them.

It is a :class:`~inchworm.store.chain.Chain` of entries, wherever they are stored. A promotion is
worked out from its own entries whenever it is asked for, and so is a run; questions about many are
answered from the index.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from contextlib import suppress
from typing import Any, TypeVar

from msgspec.structs import replace

from inchworm.core.entry.approvals import Approval
from inchworm.core.entry.judging import Admission
from inchworm.core.environments.environment import Environment
from inchworm.core.errors import LedgerError, UsageError, did_you_mean
from inchworm.core.execution import StepReport
from inchworm.core.identifiers import PromotionId, promotion_number
from inchworm.core.ledger.entries import Entry
from inchworm.core.ledger.events import (
    Drafted,
    Event,
    Heard,
    HeardPart,
    Judgement,
    Packed,
    PartsHeard,
    RunEnded,
    RunStarted,
    RunStepReported,
    RunStopAsked,
    StateChanged,
    StatementsRecorded,
    StepReported,
    event_of,
)
from inchworm.core.ledger.promotions import HeardPromotion, Summary, promotion_of, summary_of
from inchworm.core.ledger.runs import RunsAsked, RunSummary, run_of, summary_of_run
from inchworm.core.parts import Digest
from inchworm.core.promotion.composition import CompletedPromotion
from inchworm.core.promotion.promotion import Draft, Promotion
from inchworm.core.promotion.statements import Statements
from inchworm.core.promotion.states import TRANSITIONS, State
from inchworm.core.running.run import Measured, Run, RunId, RunPlan, run_number
from inchworm.core.running.states import TRANSITIONS as RUN_TRANSITIONS
from inchworm.core.running.states import RunState
from inchworm.store.chain import Chain
from inchworm.store.ledger_index import (
    is_asked_for,
    put_into_index,
    put_runs_into_index,
    run_in,
    summary_in,
)
from inchworm.store.ledgers.protocol import Tail, damaged_index

T = TypeVar("T")


class Ledger(Chain):
    """The record of everything: promotions, runs, and what other ledgers did."""

    # ---- promotions ---------------------------------------------------------------------------

    def packed(self, bundle: str, event: Packed) -> None:
        """Record that a bundle was packed."""
        self.append(bundle, event)

    def draft(self, draft: Draft, commit: str | None) -> Promotion:
        """Record a draft under the next promotion number."""
        (entry,) = self.append(_next_promotion, Drafted(draft=draft, commit=commit))
        return promotion_of(self.id, [entry])

    def move(
        self,
        promotion: Promotion,
        state: State,
        message: str = "",
        admission: Admission | None = None,
    ) -> Promotion:
        """Record that a promotion is in another state now, and by what it was let in.

        Raises:
            LedgerError: when that state may not follow the present one.
        """
        if state not in TRANSITIONS[promotion.state]:
            raise LedgerError(
                f"{promotion.id} is {promotion.state}; it cannot become {state}.",
                next="See inchworm history.",
            )
        event = StateChanged(state=state, message=message, admission=admission)
        self.append(str(promotion.id), event)
        return self.promotion(promotion.id)

    def judge(self, promotion: PromotionId, approval: Approval) -> Promotion:
        """Record what somebody said about a draft."""
        self.append(str(promotion), Judgement(approval=approval))
        return self.promotion(promotion)

    def steps(self, promotion: PromotionId, reports: Sequence[tuple[int, StepReport]]) -> None:
        """Record how steps stand, all at once, and the SQL that only running them told."""
        if reports:
            events: list[Event] = [StepReported(step=n, report=report) for n, report in reports]
            ran = {number: report.ran for number, report in reports if report.ran}
            if ran:
                events.append(StatementsRecorded(statements=Statements.of(ran)))
            self.append(str(promotion), *events)

    def record_statements(self, promotion: PromotionId, statements: Statements) -> None:
        """Record the SQL that steps are about to run."""
        self.append(str(promotion), StatementsRecorded(statements=statements))

    def promotion(self, id_: PromotionId | str) -> Promotion:
        """A promotion by its id; case does not count.

        Raises:
            UsageError: when there is none.
        """
        number = id_.number if isinstance(id_, PromotionId) else promotion_number(id_)
        entries = self.entries(about=f"P{number}") if number is not None else []
        if not entries or entries[0].kind != Drafted.kind:
            known = [entry.about for entry in self.entries(kind=Drafted.kind)]
            latest = f"The latest is {known[-1]}. " if known else ""
            raise UsageError(f"There is no promotion {id_}.", next=f"{latest}See inchworm history.")
        return promotion_of(self.id, entries)

    def completed(self, id_: PromotionId) -> Entry | None:
        """The entry with which a promotion was completed; None when it was not."""
        for entry in self.entries(kind=StateChanged.kind, about=str(id_)):
            if entry.body["state"] == State.DONE.value:
                return entry
        return None

    # ---- runs ---------------------------------------------------------------------------------

    def start_run(self, plan: RunPlan) -> Run:
        """Record that a run begins, under the next number."""
        (entry,) = self.append(_next_run, RunStarted(plan=plan))
        return run_of(self.id, [entry])

    def run_steps(self, run: RunId, reports: Sequence[tuple[int, StepReport]]) -> None:
        """Record how steps of a run stand, all at once."""
        if reports:
            self.append(str(run), *(RunStepReported(step=n, report=r) for n, r in reports))

    def ask_to_stop(self, run: RunId, because: str) -> None:
        """Record that somebody wants a run to stop.

        Raises:
            UsageError: when it is not at work any more.
        """
        present = self.run(run)
        if present.state is not RunState.RUNNING:
            raise UsageError(f"{run} is {present.state}.", next="See inchworm history --runs.")
        self.append(str(run), RunStopAsked(because=because))

    def end_run(self, run: RunId, state: RunState, message: str = "") -> Run:
        """Record how a run ended.

        Raises:
            LedgerError: when it has ended already.
        """
        present = self.recorded_run(run).state
        if state not in RUN_TRANSITIONS[present]:
            raise LedgerError(f"{run} is {present}.", next="See inchworm history --runs.")
        self.append(str(run), RunEnded(state=state, message=message))
        return self.run(run)

    def run(self, id_: RunId | str) -> Run:
        """A run by its id, as it stands: one whose process is gone is broken off.

        Raises:
            UsageError: when there is none.
        """
        run = self.recorded_run(id_)
        if run.state is RunState.RUNNING and self._is_gone(run.plan.process):
            run = self.recorded_run(id_)  # it may have ended since it was read, and said so
        if run.state is RunState.RUNNING and self._is_gone(run.plan.process):
            return replace(run, state=RunState.BROKEN_OFF, message=run.plan.gone)
        return run

    def recorded_run(self, id_: RunId | str) -> Run:
        """A run as far as it was recorded; case of the id does not count.

        Raises:
            UsageError: when there is none.
        """
        number = id_.number if isinstance(id_, RunId) else run_number(id_)
        entries = self.entries(about=f"R{number}") if number is not None else []
        if not entries or entries[0].kind != RunStarted.kind:
            known = [entry.about for entry in self.entries(kind=RunStarted.kind)]
            near = did_you_mean(str(id_).upper(), known, "See inchworm history --runs.")
            raise UsageError(f"There is no run {id_}.", next=near)
        return run_of(self.id, entries)

    def runs(self, asked: RunsAsked | None = None) -> list[RunSummary]:
        """All runs in one line each, or those that are asked for, by number.

        One whose process is gone is broken off, though nobody has recorded it yet.
        """
        asked = asked or RunsAsked()
        runs = self.recorded_runs(asked)
        if asked.state is RunState.BROKEN_OFF:
            at_work = self.recorded_runs(replace(asked, state=RunState.RUNNING))
            runs = sorted([*runs, *at_work], key=lambda run: run.id.number)
        seen = [self._seen(run) for run in runs]
        return [run for run in seen if asked.state in {None, run.state}]

    def _seen(self, summary: RunSummary) -> RunSummary:
        if summary.state is not RunState.RUNNING:
            return summary
        run = self.run(summary.id)
        return replace(summary, state=run.state, message=run.message)

    def recorded_runs(self, asked: RunsAsked) -> list[RunSummary]:
        """Those runs that are asked for, as far as they were recorded."""
        if not self.exists:
            return []
        try:
            self._make_ready()
            lacking = self._storage.runs_not_indexed()
            if lacking:
                with self._storage.transaction() as transaction:
                    put_runs_into_index(transaction, self.id, lacking)
        except LedgerError:  # we may read, but not write
            runs = [run for run in self._worked_out_runs() if is_asked_for(run, asked)]
            return runs if asked.latest is None else runs[::-1][: asked.latest][::-1]
        return [self._in_index(run_in, row) for row in self._storage.runs(asked)]

    def measured(self) -> list[Measured]:
        """All numbers that notebooks measured, in the order of their runs.

        What a run took over from the one that it goes on with is that one's, and left out.
        """
        runs: dict[str, Run] = {}
        measured: list[Measured] = []
        for entry in self.entries(kind=RunStepReported.kind, containing='"measures"'):
            if entry.body.get("measures"):
                if entry.about not in runs:
                    runs[entry.about] = self.run(entry.about)
                run, event = runs[entry.about], event_of(entry)
                assert isinstance(event, RunStepReported)
                step = next(s for s in run.plan.steps if s.number == event.step)
                measured += [
                    Measured(
                        run=run.id,
                        environment=run.plan.environment,
                        bundle_digest=run.plan.bundle_digest,
                        part=str(step.part),
                        name=name,
                        value=value,
                        at=entry.at,
                    )
                    for name, value in event.report.measures.items()
                ]
        return measured

    def overrides(self, id_: PromotionId) -> dict[str, str]:
        """The values that a promotion was given for once; its steps are not looked at."""
        entries = self.entries(kind=Drafted.kind, about=str(id_))
        return dict(entries[0].body["draft"].get("overrides", {})) if entries else {}

    def summaries(self) -> list[Summary]:
        """All promotions in one line each, the oldest first.

        Of one that runs, the line says how many steps were over when it began.
        """
        if not self.exists:
            return []
        try:
            self._catch_up()
        except LedgerError:  # we may read, but not write
            return [summary_of(p, 0) for p in self._worked_out()]
        return [self._in_index(summary_in, row) for row in self._storage.index()]

    def unknown_there(
        self, environment: Environment, promotions: Iterable[CompletedPromotion]
    ) -> Summary | None:
        """The latest promotion that was completed in an environment, if its database lacks it.

        Args:
            environment: the environment.
            promotions: those that its database tells of.
        """
        keys = {promotion.promotion for promotion in promotions}
        for summary in reversed(self.summaries()):
            is_over = summary.state in {State.DONE, State.UNDONE}
            if not is_over or summary.environment not in environment.names:
                continue
            if summary.id.key in keys:
                return None
            if self.promotion(summary.id).draft.corner == environment.corner:
                return summary
        return None

    def promotions(self) -> list[Promotion]:
        """All promotions, the oldest first, each from its own entries."""
        return self._worked_out()

    def passed(self, bundle_digest: Digest) -> dict[str, PromotionId]:
        """The environments that a bundle went into completely, each with the latest promotion.

        The index says which may be meant, their own entries whether that is so.
        """
        of_bundle = [
            self.promotion(summary.id)
            for summary in self.summaries()
            if summary.state is State.DONE and summary.bundle_digest == bundle_digest
        ]
        return {
            promotion.draft.environment: promotion.id
            for promotion in of_bundle
            if promotion.state is State.DONE
            and promotion.draft.bundle_digest == bundle_digest
            and not promotion.draft.is_choice
        }

    def check_index(self, summaries: Iterable[Summary]) -> None:
        """Hold lines of the index against the entries that they are made from.

        Raises:
            LedgerError: when one is not what its entries are.
        """
        for summary in summaries:
            if self._summed_through(summary) != summary:
                what = f"it tells {summary.id} otherwise than its entries do"
                raise damaged_index(self._storage.place, what)

    def _in_index(self, read: Callable[[str, Any], T], row: object) -> T:
        """What a row of the index is.

        Raises:
            LedgerError: when it is damaged.
        """
        try:
            return read(self.id, row)
        except (ValueError, TypeError, UsageError) as error:
            raise damaged_index(self._storage.place, str(error)) from error

    def _summed_through(self, summary: Summary) -> Summary | None:
        """A line of the index, made again from the entries that it was made from; None without any.

        Later entries tell of steps: a line is made when a promotion is drafted or moves on.
        """
        entries = [e for e in self.entries(about=str(summary.id)) if e.number <= summary.through]
        if not entries or entries[0].kind != Drafted.kind or entries[-1].number != summary.through:
            return None
        return summary_of(promotion_of(self.id, entries), summary.through)

    def packers(self, digest: Digest) -> set[str]:
        """Whoever packed a bundle of some content."""
        packed = self.entries(kind=Packed.kind, containing=digest)
        return {entry.by for entry in packed}

    # ---- other ledgers ------------------------------------------------------------------------

    def hear(self, environment: str, promotions: Sequence[CompletedPromotion]) -> None:
        """Record promotions of other ledgers that an environment's database tells of.

        What was heard before is not recorded again; a ledger that was never begun, or that cannot
        be written, hears nothing.
        """
        if not self.exists:
            return
        foreign = [p for p in promotions if p.id is not None and p.id.ledger != self.id]
        if not foreign:
            return
        heard = {h.promotion.promotion for h in self.heard() if h.environment == environment}
        news = tuple(p for p in foreign if p.promotion not in heard)
        if news:
            with suppress(LedgerError):  # we may read, but not write
                self.append(environment, Heard(promotions=news))

    def heard(self) -> list[HeardPromotion]:
        """The promotions of other ledgers that databases have told of, in that order.

        Two that listen at the same time may both have recorded one.
        """
        heard: dict[tuple[str, str], HeardPromotion] = {}
        for entry in self.entries(kind=Heard.kind):
            event = event_of(entry)
            assert isinstance(event, Heard)
            for promotion in event.promotions:
                one = HeardPromotion(
                    environment=entry.about, promotion=promotion, entry=entry.number
                )
                heard.setdefault((entry.about, promotion.promotion), one)
        return list(heard.values())

    def heard_parts(self) -> list[HeardPart]:
        """The parts that databases told of when this ledger was rebuilt."""
        events = map(event_of, self.entries(kind=PartsHeard.kind))
        return [part for event in events if isinstance(event, PartsHeard) for part in event.parts]

    def has(self, id_: str) -> bool:
        """Return True if a promotion of that name is in this ledger."""
        return bool(self.entries(kind=Drafted.kind, about=id_.strip().upper()))

    def digests(self, bundle: str) -> set[Digest]:
        """The content digests of all bundles of a name that were packed or promoted."""
        packed = (event_of(entry) for entry in self.entries(kind=Packed.kind, about=bundle))
        drafted = (
            event_of(entry) for entry in self.entries(kind=Drafted.kind, containing=f'"{bundle}"')
        )
        return {
            *(event.digest for event in packed if isinstance(event, Packed)),
            *(
                event.draft.bundle_digest
                for event in drafted
                if isinstance(event, Drafted) and event.draft.bundle == bundle
            ),
        }

    def index_faults(self) -> list[str]:
        """What the index says otherwise than the entries do, in words."""
        if not self.exists:
            return []
        summaries = self.summaries()
        faults = [f"promotion {s.id}" for s in summaries if self._summed_through(s) != s]
        drafted = {entry.about for entry in self.entries(kind=Drafted.kind)}
        faults += [f"promotion {id_}" for id_ in drafted - {str(s.id) for s in summaries}]
        indexed = {run.id: run for run in self.runs()}
        right = {run.id: run for run in self._worked_out_runs()}
        faults += [
            f"run {id_}"
            for id_ in sorted(indexed.keys() | right.keys())
            if indexed.get(id_) != right.get(id_)
        ]
        return faults

    # ---- from entries -------------------------------------------------------------------------

    def _worked_out(self) -> list[Promotion]:
        """All promotions, from all entries."""
        by_id: dict[str, list[Entry]] = {}
        for entry in self.entries():
            if entry.kind in _OF_PROMOTIONS:
                by_id.setdefault(entry.about, []).append(entry)
        return [promotion_of(self.id, entries) for entries in by_id.values()]

    def _worked_out_runs(self) -> list[RunSummary]:
        """All runs, from their first and last entries."""
        by_id: dict[str, list[Entry]] = {}
        for entry in self.entries(kind=RunStarted.kind):
            by_id[entry.about] = [entry]
        for entry in self.entries(kind=RunEnded.kind):
            by_id[entry.about].append(entry)
        return [
            summary_of_run(run_of(self.id, entries), entries[-1].number)
            for entries in by_id.values()
        ]

    def _catch_up(self) -> None:
        """Bring the index up to date with entries that an older version of the program wrote."""
        self._make_ready()
        lacking = self._storage.not_indexed()
        if lacking:
            with self._storage.transaction() as transaction:
                for about in lacking:
                    put_into_index(transaction, self.id, about)


_OF_PROMOTIONS = {Drafted.kind, StateChanged.kind, StepReported.kind, Judgement.kind}


def _next_promotion(tail: Tail) -> str:
    """The next promotion's id; nobody else can add one before ours is there."""
    return f"P{tail.count(Drafted.kind) + 1}"


def _next_run(tail: Tail) -> str:
    """The next run's id."""
    return f"R{tail.count(RunStarted.kind) + 1}"
