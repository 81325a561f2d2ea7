"""Carrying out a promotion, step by step, so that it can go on after a crash at any instant.

Every step is journalled in the ledger before and after. A database step leaves a mark in the
database's own bookkeeping within its transaction; if the ledger does not know how a step ended, the
mark tells. Service calls can be repeated without harm. So a promotion that stopped goes on at its
first step that is not done, and nothing takes effect twice.

A failure before the switch-over puts the environment back: what was built is removed, migrations
are taken back where that is possible and allowed, paused schedules run again. After the switch-over
the remaining steps are tried all the same, and the promotion ends *partly done*.
"""

from __future__ import annotations

import time
from collections.abc import Callable, Mapping, Sequence
from functools import partial
from pathlib import Path

from msgspec import Struct, field

from inchworm.core.checks.environment_rules import changed_by_hand
from inchworm.core.entry.judging import Admission
from inchworm.core.environments.physical_names import PhysicalNames
from inchworm.core.errors import EnvironmentMoved, InchwormError, UsageError
from inchworm.core.execution import StepReport, StepState
from inchworm.core.identifiers import Kind, PartId, promotion_key
from inchworm.core.promotion.composition import Composition
from inchworm.core.promotion.drafting.request import environment_state, values_digest
from inchworm.core.promotion.promotion import Promotion, passed_by
from inchworm.core.promotion.statements import Statements
from inchworm.core.promotion.states import TRANSITIONS, Phase, State
from inchworm.core.running.run import Run
from inchworm.core.structure.losing import Loss
from inchworm.engine.actions.base import Action, Plan, Undoing, undone_together
from inchworm.engine.actions.models import TakeBackModel
from inchworm.engine.actions.plan import planned
from inchworm.engine.connections import open_environment
from inchworm.engine.desired_schema import filled_since
from inchworm.engine.dry_run import spelled, try_out
from inchworm.engine.executor import Executor
from inchworm.engine.locks import Lock
from inchworm.engine.losses import SCRIPTED, new_losses, stakes
from inchworm.engine.open_environment import OpenEnvironment
from inchworm.engine.preparation import Prepared
from inchworm.engine.previewing import PreviewSite
from inchworm.engine.reporter import Reporter
from inchworm.engine.site import Site
from inchworm.store.ledger import Ledger
from inchworm.targets.databases.sent_rows import ensure_flows
from inchworm.targets.machine import Machine


class Work(Struct, kw_only=True):
    """Everything that carrying out needs.

    Attributes:
        now: the current time, ISO 8601, UTC; by the database's clock as soon as it is reached.
        locks: the folder for lock files.
        process: the number of this process, for messages to others.
        admission: by what it was let in, where the environment demands anything.
    """

    prepared: Prepared
    promotion: Promotion
    ledger: Ledger
    machine: Machine
    locks: Path
    by: str
    now: Callable[[], str]
    process: int = 0
    reporter: Reporter = field(default_factory=Reporter)
    admission: Admission | None = None
    run_subject: Callable[[OpenEnvironment, str], Run] | None = None
    """Runs what is in place under a name, for verifications that ask for a run of it."""


def carry_out(work: Work) -> Promotion:
    """Carry out a promotion, or go on with one that stopped.

    Raises:
        EnvironmentMoved: when the environment is not as drafted, or is locked.
        LedgerError: when the ledger lacks what the database knows of it.
        UsageError: when the promotion is over already.
        KeyboardInterrupt: after recording where it stopped.
    """
    promotion = work.promotion
    if not promotion.state.may_go_on:
        raise UsageError(
            f"{promotion.id} is {promotion.state}.",
            next="Draft a new one: inchworm promote BUNDLE.",
        )
    lock = Lock(work.locks, promotion.draft.environment)
    holder = {"by": work.by, "promotion": str(promotion.id), "process": work.process}
    prepared = work.prepared
    with (
        lock.held(holder),
        open_environment(
            prepared.environment,
            prepared.bundle.project,
            work.machine,
            prepared.values,
            read_only=False,
            sources=prepared.reading.assembly.sources,
        ) as place,
    ):
        place.database.lock(f"inchworm {prepared.bundle.project}")
        work.now = place.clock(work.now)
        work.ledger.check_behind({place.environment.name: place.bookkeeping.heads()})
        work.promotion = work.ledger.promotion(promotion.id)
        if not work.promotion.state.may_go_on:
            raise EnvironmentMoved(
                f"{promotion.id} is {work.promotion.state} by now: somebody else carried it out.",
                next=f"See what became of it: inchworm history {promotion.id}",
            )
        _check_unmoved(work, place)
        work.reporter.reached(place.identity, work.now())
        return _Promoting(work, place).run()


def _check_unmoved(work: Work, place: OpenEnvironment) -> None:
    """The environment must be as drafted; after a stop, nobody else may have been there."""
    promotion, draft = work.promotion, work.promotion.draft
    again = f"inchworm promote {draft.bundle} --to {draft.environment}"
    if draft.corner != work.prepared.environment.corner:
        raise EnvironmentMoved(
            f"{promotion.id} was drafted for the corner of {draft.corner or 'nobody'}.",
            next=f"Draft one for this corner: {again}",
        )
    if draft.bundle_digest != work.prepared.bundle.digest or (
        draft.bundle_seal and draft.bundle_seal != work.prepared.bundle.seal
    ):
        raise EnvironmentMoved(
            f"{draft.bundle} is not the bundle that {promotion.id} was drafted with.",
            next=f"Draft again: {again}",
        )
    if promotion.state is not State.DRAFTED:
        _check_nobody_since(work, place, again)
        return
    composition = place.composition(work.now())
    state = environment_state(work.prepared.environment, composition)
    values = values_digest(work.prepared.values)
    if (state, values) != (draft.environment_state, draft.values_digest):
        drafted = f"{promotion.drafted_at[:16].replace('T', ' ')} UTC"
        raise EnvironmentMoved(
            f"{draft.environment} moved since {promotion.id} was drafted at {drafted}: "
            f"{'; '.join(_moves(work, composition))}.",
            next=f"Draft again: {again}",
        )
    losing = [f.message for f in new_losses(draft, work.prepared, place, composition)]
    for changes in draft.changes.values():
        for name, rows in filled_since(place.database, changes):
            losing.append(f"{name} goes with {rows} values")
    if losing:
        raise EnvironmentMoved(
            f"{draft.environment} moved since {promotion.id} was drafted: rows have come that it "
            f"takes away: {'; '.join(losing[:_NAMED])}.",
            next=f"Draft again: {again}",
        )


def _moves(work: Work, live: Composition) -> list[str]:
    """What is otherwise in an environment than when a promotion was drafted, in words."""
    draft = work.promotion.draft
    moves = []
    last = live.last
    if last is not None and (draft.runs_there is None or last != draft.runs_there):
        at = last.at[:16].replace("T", " ")
        name = last.named(work.promotion.id.ledger)
        moves.append(f"{last.by} promoted {last.bundle} there at {at} UTC ({name})")
    elif live.is_unfinished:
        moves.append("another promotion began there, and did not come to its end")
    new = [d for d in live.differences if d.mark not in draft.by_hand]
    moves += [f"{d.key} was {d.word} by hand" for d in new[:_NAMED]]
    if len(new) > _NAMED:
        moves.append(f"{len(new) - _NAMED} more changes by hand")
    values = work.prepared.values
    moves += [
        f"{name} has another value"
        for name, value in sorted(draft.values.items())
        if name in values and values[name].text != value
    ]
    return moves or ["its tables, services or settings are not as they were"]


_NAMED = 3
"""Changes made by hand that a message names."""


def _check_nobody_since(work: Work, place: OpenEnvironment, again: str) -> None:
    """After a stop: the database itself says whether anybody has been there, in whatever ledger."""
    claimed_by = place.bookkeeping.latest_claim().promotion
    if claimed_by in (None, work.promotion.id.key):
        _check_nothing_by_hand(work, place, again)
        return
    other = promotion_key(str(claimed_by))
    is_ours = other is not None and other.ledger == work.promotion.id.ledger
    whose = f"{other}" if is_ours else f"{other or claimed_by} of another ledger"
    last = place.bookkeeping.last()
    live = f" {last.bundle} by {last.by} is live there, since {last.at}." if last else ""
    raise EnvironmentMoved(
        f"{whose} went into {work.promotion.draft.environment} after {work.promotion.id} "
        f"stopped.{live}",
        next=f"Draft again: {again}",
    )


def _check_nothing_by_hand(work: Work, place: OpenEnvironment, again: str) -> None:
    """After a stop: nothing may be lost that was changed by hand, and that the draft did not see.

    Only models are replaced. What the promotion itself put in place is no difference: it was
    recorded in the same transaction. Tables of schemas are left to whoever mends what made the
    promotion fail.
    """
    draft = work.promotion.draft
    names = PhysicalNames(work.prepared.reading.assembly, place.environment, place.database.dialect)
    replaced = {
        names.table(step.part.relation)
        for step in draft.steps
        if isinstance(step.part, PartId) and step.phase in {Phase.BUILD, Phase.SWITCH}
    }
    by_hand = [
        each
        for each in place.composition(work.now(), is_for_draft=False).differences
        if each.name in replaced and each.what == "changed" and each.mark not in draft.by_hand
    ]
    if by_hand:
        listed = ", ".join(f"{each.key} is {each.word}" for each in by_hand[:3])
        more = f", and {len(by_hand) - 3} more" if len(by_hand) > 3 else ""
        raise EnvironmentMoved(
            f"{work.promotion.draft.environment} was changed by hand since {work.promotion.id} was "
            f"drafted: {listed}{more}.",
            next=f"Look at it: inchworm drift {work.promotion.draft.environment}. Put it back and "
            f"go on, or draft again: {again}",
        )


class _Journal:
    """The journal of a promotion: in the ledger, with the marks of the database behind it.

    Why entries may wait. An entry about a step that leaves a mark in the database is written with
    the next ones, at the latest when another second has passed, when the executor waits, or when it
    comes to a step without a mark. If the process dies before, the mark says that the step took
    effect, and what has no mark had none; only the step's duration is lost. An entry about a step
    of a service is written at once.
    """

    def __init__(self, work: Work, plan: Plan, marks: frozenset[int]) -> None:
        self._work = work
        self._plan = plan
        self._marks = marks
        self._before = work.promotion
        self._steps = {step.number: step for step in work.promotion.draft.steps}
        self._waiting: list[tuple[int, StepReport]] = []
        self._written = time.monotonic()

    def state(self, number: int) -> StepState:
        """How a step stood when the promotion stopped."""
        return self._before.report_of(self._steps[number]).state

    def took_effect(self, number: int) -> bool:
        """Whether the database has the step's mark."""
        return number in self._marks

    def began(self, numbers: Sequence[int]) -> None:
        """Journal that steps begin, and tell the reporter."""
        for number in numbers:
            self._work.reporter.step_started(self._steps[number])
        self._write([(number, StepReport(state=StepState.RUNNING)) for number in numbers])

    def ended(self, reports: Mapping[int, StepReport]) -> None:
        """Journal how steps ended, and tell the reporter."""
        self._write(list(reports.items()))
        for number, report in reports.items():
            self._work.reporter.step_ended(self._steps[number], report)

    def _write(self, reports: Sequence[tuple[int, StepReport]]) -> None:
        self._waiting += reports
        may_wait = all(
            self._plan.numbered[number].leaves_mark and report.state is not StepState.FAILED
            for number, report in reports
        )
        if not may_wait or time.monotonic() - self._written > _LONGEST_WAIT:
            self.settle()

    def settle(self) -> None:
        """Write what waits."""
        waiting, self._waiting = self._waiting, []
        if waiting:
            self._work.ledger.steps(self._work.promotion.id, waiting)
        self._written = time.monotonic()


class _Promoting:
    """One promotion at work in an open environment."""

    def __init__(self, work: Work, place: OpenEnvironment) -> None:
        self.work = work
        self.place = place
        self.before = work.promotion
        self.steps = work.promotion.draft.steps
        self.plan = planned(self.steps)
        work.prepared.recall(place.bookkeeping.parts_of_ours())
        self.site = Site(
            prepared=work.prepared,
            place=place,
            changes=work.promotion.draft.changes,
            id=work.promotion.id,
            undone=work.promotion.draft.undone,
            exception=work.admission.exception if work.admission else "",
            circumstances=self.before.draft.circumstances,
            is_choice=work.promotion.draft.is_choice,
            rules=work.promotion.draft.rules,
            changed_by_hand=changed_by_hand(work.promotion.draft.findings),
            run_subject=partial(work.run_subject, place) if work.run_subject else None,
            undoes=rollback.undoes if (rollback := work.promotion.draft.rollback) else (),
            building=frozenset(part.relation for part in self.plan.building),
            taking_back=frozenset(
                a.part.relation for a in self.plan if isinstance(a, TakeBackModel)
            ),
            by=work.by,
            now=work.now,
            stakes=self._stakes(),
        )

    def _stakes(self) -> dict[int, tuple[Loss, ...]]:
        """What may not go with a script, though the draft found nothing in it."""
        draft = self.before.draft
        if not any(step.phase in SCRIPTED for step in self.steps):
            return {}
        live = self.place.composition(self.work.now(), is_for_draft=False)
        return stakes(draft, self.work.prepared, self.place, live)

    def run(self) -> Promotion:
        """All steps that are not done yet."""
        # claimed first: a promotion that the ledger says began has claimed the environment
        marks = self._claim()
        self.work.promotion = self.work.ledger.move(
            self.before, State.RUNNING, admission=self.work.admission
        )
        marks = self._without_lost_builds(marks)
        journal = _Journal(self.work, self.plan, marks)
        is_tried = self.before.draft.is_tried
        if (
            not is_tried
            and not marks
            and all(journal.state(s.number) not in _BEGUN for s in self.steps)
        ):
            refused = try_out(self.site, self.plan)
            if refused:
                message = f"the database refuses it, before the first step:{spelled(refused)}"
                return self._move(State.FAILED, message)
        self._record_statements(journal)
        executor = Executor(
            site=self.site,
            journal=journal,
            crew=lambda size: self.site.crew(
                min(size, self.work.prepared.environment.database.at_once)
            ),
            interrupt=lambda site: site.database.interrupt(),
            failed=self.site.failed,
        )
        try:
            is_complete = executor.run(self.plan)
        except KeyboardInterrupt:
            journal.settle()
            self._stopped(executor.running)
            raise
        journal.settle()
        if not is_complete:
            return self._put_back(executor.failed[0])
        if executor.failed:
            message = f"{len(executor.failed)} of {len(self.steps)} steps failed"
            return self._move(State.PARTLY_DONE, message)
        done = self._move(State.DONE)
        self._say_undone()
        self._drop_passed()
        with self.place.database.transaction():
            self._anchor()
        return done

    def _record_statements(self, journal: _Journal) -> None:
        """Record the SQL of all steps that are still to be done, before the first of them."""
        site = PreviewSite.of(self.site)
        statements = {
            action.number: tuple(action.statements(site))
            for action in self.plan
            if not journal.state(action.number).is_over
        }
        self.work.ledger.record_statements(self.before.id, Statements.of(statements))

    def _move(self, state: State, message: str = "") -> Promotion:
        return self.work.ledger.move(self.work.promotion, state, message)

    def _say_undone(self) -> None:
        """Record of the promotions that a rollback took back, and that this ledger knows, so."""
        rollback, ledger = self.before.draft.rollback, self.work.ledger
        for key in rollback.undoes if rollback else ():
            id_ = promotion_key(key)
            if id_ is not None and id_.ledger == ledger.id:
                undone = ledger.promotion(id_)
                if State.UNDONE in TRANSITIONS[undone.state]:
                    ledger.move(undone, State.UNDONE, f"taken back by {self.before.id}")

    def _drop_passed(self) -> None:
        """Drop the drafts that cannot be carried out any more, as the environment moved."""
        ledger, environment = self.work.ledger, self.before.draft.environment
        for summary in ledger.summaries():
            if summary.environment == environment and summary.state is State.DRAFTED:
                draft = ledger.promotion(summary.id)
                if draft.draft.corner == self.before.draft.corner:
                    ledger.move(draft, State.DROPPED, passed_by(self.before.id))

    def _claim(self) -> frozenset[int]:
        """Say in the database whose turn it is, and which names this promotion will use.

        Returns:
            The numbers of the steps of which the database has a mark.
        """
        bookkeeping = self.place.bookkeeping
        bookkeeping.ensure()
        if flows := self.site.assembly.of_kind(Kind.FLOW):
            project = self.site.prepared.bundle.project
            ensure_flows(self.place.database, bookkeeping.schema, project, flows[0].name)
        with self.place.database.transaction():
            # versions that did not record whose environment it is recorded no tables aside either
            recorded_less = bookkeeping.environment() is None
            corner = self.place.environment.database.corner
            owner = corner.user if corner is not None else ""
            bookkeeping.claim(self.place.environment.name, self.site.id.key, owner)
            self._anchor()
            if recorded_less:
                live = self.place.of_models(bookkeeping.parts_of_ours())
                self.site.staging.adopt_replaced(live)
        marks = frozenset(bookkeeping.recorded_steps(self.site.id.key))
        if not any(action.number in marks for action in self.plan if action.phase is Phase.SWITCH):
            anew = self.site.building - self.site.taking_back
            self.site.staging.reserve(map(self.site.physical, anew))
        return marks

    def _without_lost_builds(self, marks: frozenset[int]) -> frozenset[int]:
        """Have models built again of which a run has replaced the rows while this one had stopped.

        What was built of others may have been built from them, so all of it is built again.

        Args:
            marks: the numbers of the steps of which the database has a mark.

        Returns:
            Those that it still has.
        """
        reports = self.work.ledger.promotion(self.before.id).steps
        over = {number for number, report in reports.items() if report.state.is_over} | marks
        if any(a.number in over for a in self.plan if a.phase is Phase.SWITCH):
            return marks
        built = [a for a in self.plan if a.phase is Phase.BUILD and a.number in over]
        if not built:
            return marks
        present = self.site.staging.present
        if all(self.site.physical(action.part.relation) in present for action in built):
            return marks
        undoing = Undoing(done=frozenset(over))
        again = [a for a in self.plan if a.phase in {Phase.BUILD, Phase.CHECK} and a.number in over]
        for first, *others in undone_together(reversed(again)):
            first.undo_together(others, self.site, undoing)
        self._wait_again(again)
        self.work.promotion = self.before = self.work.ledger.promotion(self.before.id)
        return frozenset(self.place.bookkeeping.recorded_steps(self.site.id.key))

    def _anchor(self) -> None:
        """Have the database know the end of the ledger's chain. Called inside a transaction."""
        ledger = self.work.ledger
        self.place.bookkeeping.anchor(ledger.id, ledger.head)

    # ---- stopping -----------------------------------------------------------------------------

    def _stopped(self, running: Sequence[int]) -> None:
        """Somebody pressed Ctrl-C: schedules run again, what was built is kept for going on."""
        reports = self.work.ledger.promotion(self.before.id).steps
        over = [n for n, report in reports.items() if report.state.is_over]
        at = min(running) if running else max(over, default=0) + 1
        message = f"stopped by {self.work.by} at step {at} of {len(self.steps)}"
        pauses = [action for action in self.plan if action.phase is Phase.PAUSE]
        message += self._undo(pauses, Undoing(done=frozenset(over)))
        self._move(State.FAILED, message)

    def _put_back(self, failed: int) -> Promotion:
        """A step failed before the switch-over: leave the environment as it was."""
        reports = self.work.ledger.promotion(self.before.id).steps
        begun = [a for a in self.plan if a.number in reports and reports[a.number].state in _BEGUN]
        undoing = Undoing(done=frozenset(n for n, r in reports.items() if r.state.is_over))
        failing = self.plan.numbered[failed]
        message = f"step {failed} ({failing.step.part}) failed before the switch-over"
        hindered = self._undo([*begun, failing], undoing)
        try:
            self.site.structures.record_unrecorded(sorted(undoing.schemas))
        except InchwormError as error:  # the connection may be what failed
            hindered += f"; clearing up failed, too: {error.what}"
        if undoing.undone:
            message += f"; these migrations were taken back: {', '.join(undoing.undone)}"
        if undoing.stayed:
            message += f"; these migrations ran and stay: {', '.join(undoing.stayed)}"
        return self._move(State.FAILED, message + hindered)

    def _undo(self, actions: Sequence[Action], undoing: Undoing) -> str:
        """Undo actions, the last one first; in words, what could not be undone.

        Once the database has refused, nothing more is undone in it: what it has then, and what the
        journal says, belong together, and the promotion can go on from there.
        """
        backwards = sorted(actions, key=lambda action: action.number, reverse=True)
        hindered = self._undo_in_database([a for a in backwards if not a.is_of_service], undoing)
        for action in (action for action in backwards if action.is_of_service):
            try:
                is_undone = action.undo_together((), self.site, undoing)
            except InchwormError as error:
                hindered.setdefault(error.what, []).append(action.left_behind)
                continue
            self._wait_again([action] if is_undone else [])
        return "".join(f"; {', '.join(what)}, because {why}" for why, what in hindered.items())

    def _undo_in_database(
        self, backwards: Sequence[Action], undoing: Undoing
    ) -> dict[str, list[str]]:
        """Undo actions until the database refuses; what is left behind, by the reason."""
        again: list[Action] = []
        """Actions that have only read; they have to be done again if what they read is undone."""
        for first, *others in undone_together(backwards):
            try:
                is_undone = first.undo_together(others, self.site, undoing)
            except InchwormError as error:
                return {error.what: [first.left_behind]}
            if is_undone:
                again += [first, *others]
            if first.leaves_mark:
                self._wait_again(again)
                again = []
        self._wait_again(again)
        return {}

    def _wait_again(self, actions: Sequence[Action]) -> None:
        """Journal that actions have to be done again; how one failed stays to be seen."""
        waiting = StepReport(state=StepState.WAITING)
        numbers = [a.number for a in actions if a.number not in self.site.failed]
        self.work.ledger.steps(self.before.id, [(number, waiting) for number in numbers])


_BEGUN = frozenset({StepState.RUNNING, StepState.DONE, StepState.WARNED, StepState.NOTHING_CHECKED})

_LONGEST_WAIT = 1.0
"""Seconds after which entries of the journal are written that may wait."""
