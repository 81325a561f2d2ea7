"""Carrying out a promotion, step by step, so that it can go on after a crash at any instant.

Every step is journalled in the ledger before and after. A database step leaves a mark in the
database's own bookkeeping within its transaction; if the ledger does not know how a step ended, the
mark tells. Service calls can be repeated without harm. So a promotion that stopped goes on at its
first step that is not done, and nothing takes effect twice.

A failure before the switch-over puts the environment back: what was built beside is removed, paused
schedules resume. Migrations that ran stay, and are said so. After the switch-over the remaining
steps are tried all the same, and the promotion ends *partly done*.
"""

from __future__ import annotations

import os
import time
from collections.abc import Callable, Collection, Iterator, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path

from inchworm.core.drafting import environment_state, values_digest
from inchworm.core.errors import EnvironmentMoved, InchwormError, TargetError, UsageError
from inchworm.core.parts import PartId
from inchworm.core.promotion import (
    BEFORE_SWITCH,
    Phase,
    Promotion,
    State,
    Step,
    StepReport,
    StepState,
)
from inchworm.engine.building import PARALLEL, THREADS, crew, needs_of, together
from inchworm.engine.connections import Lock, OpenEnvironment, open_environment
from inchworm.engine.dry_run import spelled, try_out
from inchworm.engine.promote import Prepared
from inchworm.engine.steps import Steps
from inchworm.store.ledger import Ledger


class Reporter:
    """Hears what happens. The methods are empty: override what is wanted."""

    def reached(self, identity: str, at: str) -> None:
        """The environment is open, and nothing has been done yet."""

    def step_started(self, step: Step) -> None:
        """A step begins."""

    def step_ended(self, step: Step, report: StepReport) -> None:
        """A step has ended."""


@dataclass(kw_only=True)
class Work:
    """Everything that carrying out needs.

    Attributes:
        now: the current time, ISO 8601, UTC.
        locks: the folder for lock files.
    """

    prepared: Prepared
    promotion: Promotion
    ledger: Ledger
    root: Path
    locks: Path
    by: str
    now: Callable[[], str]
    reporter: Reporter = field(default_factory=Reporter)


def carry_out(work: Work) -> Promotion:
    """Carry out a promotion, or go on with one that stopped.

    Raises:
        EnvironmentMoved: when the environment is not as drafted, or is locked.
        UsageError: when the promotion is over already.
        KeyboardInterrupt: after recording where it stopped.
    """
    promotion = work.promotion
    if promotion.state in {State.DONE, State.DROPPED}:
        raise UsageError(
            f"{promotion.id} is {promotion.state}.",
            next="Draft a new one: inchworm promote BUNDLE.",
        )
    lock = Lock(work.locks, promotion.draft.environment)
    holder = {"by": work.by, "promotion": promotion.id, "process": os.getpid()}
    prepared = work.prepared
    with (
        lock.held(holder),
        open_environment(
            prepared.environment,
            prepared.bundle.project,
            work.root,
            prepared.values,
            read_only=False,
        ) as place,
    ):
        place.database.lock(f"inchworm {prepared.bundle.project}")
        work.promotion = work.ledger.promotion(promotion.id)
        _check_unmoved(work, place)
        work.reporter.reached(place.identity, work.now())
        return _Carrier(work, place).run()


def _check_unmoved(work: Work, place: OpenEnvironment) -> None:
    """The environment must be as drafted; after a stop, nobody else may have been there."""
    promotion, draft = work.promotion, work.promotion.draft
    again = f"inchworm promote {draft.bundle} --to {draft.environment}"
    if draft.bundle_digest != work.prepared.bundle.digest:
        raise EnvironmentMoved(
            f"{draft.bundle} is not the bundle that {promotion.id} was drafted with.",
            next=f"Draft again: {again}",
        )
    if promotion.state is not State.DRAFTED:
        number = int(promotion.id[1:])
        later = [
            other.id
            for other in work.ledger.promotions()
            if int(other.id[1:]) > number
            and other.draft.environment == draft.environment
            and other.state not in {State.DRAFTED, State.DROPPED}
        ]
        if later:
            raise EnvironmentMoved(
                f"{later[-1]} went into {draft.environment} after {promotion.id} stopped.",
                next=f"Draft again: {again}",
            )
        _check_nobody_since(work, place, again)
        return
    now = environment_state(work.prepared.environment, place.composition(work.now()))
    if now != draft.environment_state or values_digest(work.prepared.values) != draft.values_digest:
        raise EnvironmentMoved(
            f"{draft.environment} moved since {promotion.id} was drafted "
            f"at {promotion.drafted_at}.",
            next=f"Draft again: {again}",
        )


def _key(work: Work) -> str:
    """The promotion's name in the database, different for every ledger."""
    return f"{work.ledger.id}:{work.promotion.id}"


def _check_nobody_since(work: Work, place: OpenEnvironment, again: str) -> None:
    """After a stop: the database itself says whether anybody has been there, in whatever ledger."""
    claimed_by = place.bookkeeping.claimed_by()
    if claimed_by in (None, _key(work)):
        return
    ledger, _, promotion = str(claimed_by).rpartition(":")
    whose = promotion if ledger == work.ledger.id else f"{promotion} of another ledger"
    last = place.bookkeeping.last()
    live = f" {last.bundle} by {last.by} is live there, since {last.at}." if last else ""
    raise EnvironmentMoved(
        f"{whose} went into {work.promotion.draft.environment} after {work.promotion.id} "
        f"stopped.{live}",
        next=f"Draft again: {again}",
    )


_BEGUN = frozenset({StepState.RUNNING, StepState.DONE, StepState.NOTHING_CHECKED})


class _Carrier:
    def __init__(self, work: Work, place: OpenEnvironment) -> None:
        self.work = work
        self.place = place
        self.steps = work.promotion.draft.steps
        self.key = _key(work)
        self.begun: list[Step] = []
        """Steps that have begun, and not ended."""
        self.doing = Steps(work.prepared, work.promotion, place, self.key, work.by, work.now)

    def run(self) -> Promotion:
        """All steps that are not done yet."""
        work = self.work
        before = work.promotion
        # claimed first: a promotion that the ledger says began has claimed the environment
        self._claim()
        work.promotion = work.ledger.move(before, State.RUNNING)
        marks = self.place.bookkeeping.recorded_steps(self.key)
        if not marks and not any(before.report_of(s).state in _BEGUN for s in self.steps):
            refused = try_out(self.doing)
            if refused:
                message = f"the database refuses it, before the first step:{spelled(refused)}"
                return work.ledger.move(work.promotion, State.FAILED, message)
        for group in self._outstanding(marks):
            if self.doing.failed and group[0].phase is Phase.RECORD:
                break
            try:
                failed = self._together(group) if len(group) > 1 else self._alone(group[0])
            except KeyboardInterrupt:
                self._stopped(self.begun[0] if self.begun else group[0])
                raise
            if failed is not None:
                self.doing.failed.append(failed.part)
                if failed.phase in BEFORE_SWITCH:
                    return self._put_back(failed)
        if self.doing.failed:
            message = f"{len(self.doing.failed)} of {len(self.steps)} steps failed"
            return work.ledger.move(work.promotion, State.PARTLY_DONE, message)
        return work.ledger.move(work.promotion, State.DONE)

    def _claim(self) -> None:
        """Say in the database whose turn it is, and which names this promotion will use."""
        bookkeeping = self.place.bookkeeping
        is_of_earlier_version = bookkeeping.ensure()
        with self.place.database.transaction():
            bookkeeping.claim(self.place.environment.name, self.key)
        if is_of_earlier_version:
            live = self.place.of_models(bookkeeping.parts_of_ours())
            self.doing.staging.adopt_replaced(live)
        self.doing.staging.reserve(map(self.doing.real, self.doing.building))

    def _outstanding(self, marks: Collection[int]) -> Iterator[list[Step]]:
        """The steps that are not done yet; those that can be done beside each other together."""
        together: list[Step] = []
        for step in self.steps:
            known = self.work.promotion.report_of(step).state
            if known in {StepState.DONE, StepState.NOTHING_CHECKED}:
                continue
            if step.number in marks:
                self._journal(step, StepReport(state=StepState.DONE, message="took effect before"))
            elif step.phase in PARALLEL:
                together.append(step)
            else:
                if together:
                    yield together
                    together = []
                yield [step]
        if together:
            yield together

    def _alone(self, step: Step) -> Step | None:
        """Do a step; the step itself if it failed."""
        if step.phase in PARALLEL:
            self.doing.make_schemas()
        self._begin(step)
        return None if self._end(step, _done(self.doing, step)) else step

    def _together(self, steps: Sequence[Step]) -> Step | None:
        """Do steps on several connections; the first one that failed."""
        self.doing.make_schemas()
        failed: list[Step] = []

        def end(step: Step, report: StepReport) -> bool:
            is_well = self._end(step, report)
            if not is_well:
                failed.append(step)
            return is_well

        threads = self.work.prepared.environment.database.threads or THREADS
        with crew(self.doing, min(threads, len(steps))) as workers:
            together(workers, needs_of(steps, self.doing), self._begin, _done, end)
        return failed[0] if failed else None

    def _begin(self, step: Step) -> None:
        self.begun.append(step)
        self.work.reporter.step_started(step)
        self.work.ledger.step(self.work.promotion, step.number, StepReport(state=StepState.RUNNING))

    def _end(self, step: Step, report: StepReport) -> bool:
        self.begun.remove(step)
        self._journal(step, report)
        return report.state is not StepState.FAILED

    def _journal(self, step: Step, report: StepReport) -> None:
        self.work.ledger.step(self.work.promotion, step.number, report)
        self.work.reporter.step_ended(step, report)

    # ---- stopping -----------------------------------------------------------------------------

    def _stopped(self, step: Step) -> None:
        """Somebody pressed Ctrl-C: schedules run again, what was built is kept for going on."""
        message = f"stopped by {self.work.by} at step {step.number} of {len(self.steps)}"
        message += self._unpause()
        self.work.ledger.move(self.work.promotion, State.FAILED, message)

    def _put_back(self, step: Step) -> Promotion:
        """A step failed before the switch-over: leave the environment as it was."""
        try:
            self.doing.discard_builds()
            stayed, undone = self._migrations_back()
            if stayed or undone:
                migrated = {PartId.parse(s.part) for s in self.steps if s.phase is Phase.MIGRATE}
                self.doing.structures.record_unrecorded(sorted(migrated))
        except InchwormError as error:  # the connection may be what failed
            message = (
                f"step {step.number} ({step.part}) failed, and so did clearing up: {error.what}"
            )
            return self.work.ledger.move(self.work.promotion, State.FAILED, message)
        for other in self.steps:
            if other.phase in {Phase.BUILD, Phase.CHECK} and other != step:
                self._wait_again(other)
        message = f"step {step.number} ({step.part}) failed before the switch-over"
        message += self._unpause()
        if undone:
            message += f"; these migrations were taken back: {', '.join(undone)}"
        if stayed:
            message += f"; these migrations ran and stay: {', '.join(stayed)}"
        return self.work.ledger.move(self.work.promotion, State.FAILED, message)

    def _migrations_back(self) -> tuple[list[str], list[str]]:
        """The migrations of this promotion that stay, and those taken back: the last one first.

        One that has no undo script, or whose undo script fails, stays, with all before it.
        """
        now = self.work.ledger.promotion(self.work.promotion.id)
        ran = [
            step
            for step in self.steps
            if step.phase is Phase.MIGRATE and now.report_of(step).state is StepState.DONE
        ]
        undone: list[str] = []
        while ran and self.work.prepared.environment.database.undo_migrations:
            try:
                is_undone = ran[-1].action == "run" and self.doing.undo(ran[-1])
            except TargetError as error:
                undone.append(f"{ran[-1].item} not, because {error.what}")
                break
            if not is_undone:
                break
            self._wait_again(ran[-1])
            undone.append(ran.pop().item)
        return [step.item for step in ran], undone

    def _unpause(self) -> str:
        """Let paused schedules run again; in words, which of them could not be reached."""
        paused: list[str] = []
        reason = ""
        for step in self.steps:
            if step.phase is Phase.PAUSE:
                try:
                    self.doing.unpause(step)
                except TargetError as error:
                    paused.append(f"{step.part} {step.item}")
                    reason = error.what
                    continue
                self._wait_again(step)
        return f"; still paused: {', '.join(paused)}, because {reason}" if paused else ""

    def _wait_again(self, step: Step) -> None:
        self.work.ledger.step(self.work.promotion, step.number, StepReport(state=StepState.WAITING))


def _done(doing: Steps, step: Step) -> StepReport:
    """How a step ended, and how long it took."""
    started = time.monotonic()
    try:
        report = doing.carry_out(step)
    except InchwormError as error:
        message = f"{error.what} {error.next or ''}".strip()
        report = StepReport(state=StepState.FAILED, message=message)
    return replace(report, seconds=time.monotonic() - started)
