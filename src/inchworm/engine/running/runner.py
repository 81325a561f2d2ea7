"""Executing a run: what is live in an environment, step by step, recorded in the ledger.

A run changes rows, and nothing that promotions answer for. What a stage builds goes live in one
transaction, or not at all; so whenever a run ends, be it by a crash, every relation has either its
former rows or its new ones. What it left beside them is removed by the next run.
"""

from __future__ import annotations

import threading
import time
from collections import defaultdict
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import ExitStack, contextmanager, suppress
from functools import cached_property
from pathlib import Path
from typing import TypeVar

from msgspec import Struct, field
from msgspec.structs import replace

from inchworm.core.counting import counted
from inchworm.core.errors import EnvironmentMoved, InchwormError, WorkedOn
from inchworm.core.execution import StepReport, StepState
from inchworm.core.identifiers import PartId, RelationName
from inchworm.core.ledger.runs import RunsAsked
from inchworm.core.promotion.composition import Composition
from inchworm.core.running.run import Run, RunId, RunPlan, RunStep
from inchworm.core.running.states import FlowTask, RunState, Work
from inchworm.engine.connections import is_shared, open_environment
from inchworm.engine.executor import Executor
from inchworm.engine.locks import Lock
from inchworm.engine.open_environment import OpenEnvironment
from inchworm.engine.preparation import Prepared
from inchworm.engine.running.actions import RunAction
from inchworm.engine.running.folder import private_folder
from inchworm.engine.running.site import RunContext, RunSite
from inchworm.store.ledger import Ledger
from inchworm.targets.deadline import deadline, ended_once
from inchworm.targets.machine import Machine

Result = TypeVar("Result")


class Due(Struct, frozen=True, kw_only=True):
    """A time at which a schedule was due.

    Attributes:
        schedule: ``pipeline.schedule``.
        at: ISO 8601, UTC.
    """

    schedule: str
    at: str


class AlreadyRan(InchwormError):
    """A run for the same due time began before."""

    exit_code = 0


_HEEDS = 1.0
"""Seconds between two looks at whether somebody wants a run to stop."""


class AnotherBundle(EnvironmentMoved):
    """What is live is another bundle than the run was planned with."""


class RunReporter:
    """Hears what happens in a run. The methods are empty: override what is wanted."""

    def reached(self, run: Run, identity: str, at: str) -> None:
        """The environment is open, the run is recorded, and nothing has been done yet."""

    def step_started(self, step: RunStep) -> None:
        """A step begins."""

    def step_ended(self, step: RunStep, report: StepReport) -> None:
        """A step has ended, or is not going to begin."""

    def waiting(self, why: str) -> None:
        """Somebody else works in the environment; the run waits."""


class RunWork(Struct, kw_only=True, dict=True):
    """Everything that executing a run needs.

    Attributes:
        prepared: the bundle that is live, made ready for the environment.
        done: how steps ended in the run that this one continues, by number.
        keep: keeps a file of a step with a run, by the run and a name, and returns its name.
        locks: the folder for lock files.
        now: the current time, ISO 8601, UTC.
        process: the number of this process, for messages to others.
        patience: seconds to wait while somebody else works in the environment.
        overwrite: whether changes that were made by hand to what is built may be lost.
        flow_task: the rows or files that flows take on.
        stop_asked: who has asked for the stop of a run, and why; empty while nobody has. Asked from
            a thread of its own.
    """

    prepared: Prepared
    plan: RunPlan
    done: Mapping[int, StepReport]
    ledger: Ledger
    machine: Machine
    keep: Callable[[Run, str, bytes], str]
    locks: Path
    by: str
    now: Callable[[], str]
    process: int = 0
    patience: float = 0.0
    overwrite: bool = False
    flow_task: FlowTask = FlowTask.NEW
    stop_asked: Callable[[RunId], str] = lambda run: ""
    due: Due | None = None
    """The schedule that started it, and the time at which it was due."""
    reporter: RunReporter = field(default_factory=RunReporter)

    @cached_property
    def is_shared(self) -> bool:
        """Whether other runs may work in the environment's database at the same time."""
        return is_shared(self.prepared.environment, self.prepared.values)


def execute(work: RunWork) -> Run:
    """Execute a run, from its record's first entry to its last.

    Raises:
        EnvironmentMoved: when somebody else works there.
        AnotherBundle: when what is live is another bundle now.
        AlreadyRan: when a run for the same due time began before.
        TargetError: when the environment cannot be reached.
        KeyboardInterrupt: after recording where it stopped.
    """
    with _alone_on_this_machine(work), _opened(work) as place:
        work.now = place.clock(work.now)
        by_hand = _check_live(work, place)
        _end_broken_off(work)
        if work.due is not None and not _claimed(work.due, place):
            raise AlreadyRan(
                f"{work.due.schedule} of {work.due.at} has run before.",
                next="There is nothing to do.",
            )
        with private_folder() as folder:
            return _Running(work, place, folder, by_hand).run()


def execute_within(work: RunWork, place: OpenEnvironment) -> Run:
    """Execute a run in an environment that a promotion has open and locked, as its last step.

    Nobody can have changed anything there by hand: the promotion has just put it in place.

    Raises:
        TargetError: when the environment cannot be reached any more.
        KeyboardInterrupt: after recording where it stopped.
    """
    _end_broken_off(work)
    live = place.of_models(place.bookkeeping.parts_of_ours())
    with private_folder() as folder:
        by_hand: _ByHand = (frozenset(), place.database.dependents(live))
        return _Running(work, place, folder, by_hand).run()


@contextmanager
def _alone_on_this_machine(work: RunWork) -> Iterator[None]:
    """Hold the environment's lock, unless its database itself keeps runs from each other's parts.

    Raises:
        EnvironmentMoved: when somebody works there for longer than the run waits.
    """
    if work.is_shared:
        yield
        return
    holder = {"by": work.by, "run": str(work.plan.subject), "process": work.process}
    lock = Lock(work.locks, work.plan.environment)
    with lock.held(holder, patience=work.patience, waiting=work.reporter.waiting):
        yield


def _claimed(due: Due, place: OpenEnvironment) -> bool:
    """Whether a due time is this run's: of two that come for it, the first one has it."""
    with place.database.transaction():
        return place.bookkeeping.claim_due(due.schedule, due.at)


@contextmanager
def _opened(work: RunWork) -> Iterator[OpenEnvironment]:
    """The environment, locked against promotions and other runs, wherever they come from.

    Raises:
        EnvironmentMoved: when somebody works there for longer than the run waits.
    """
    prepared = work.prepared
    until = time.monotonic() + max(work.patience, 0 if work.is_shared else _OPENING)
    reason = ""
    while True:
        try:
            with ExitStack() as stack:
                place = stack.enter_context(
                    open_environment(
                        prepared.environment,
                        prepared.bundle.project,
                        work.machine,
                        prepared.values,
                        read_only=False,
                        sources=prepared.reading.assembly.sources,
                    )
                )
                _lock(work, place)
                opened = stack.pop_all()
            break
        except EnvironmentMoved as error:
            if time.monotonic() > until:
                raise
            if work.patience and error.what != reason:
                reason = error.what
                work.reporter.waiting(reason)
            time.sleep(_PAUSE)
    with opened:
        yield place


def _lock(work: RunWork, place: OpenEnvironment) -> None:
    """Keep promotions out, and other runs from the parts that this one works on.

    Raises:
        EnvironmentMoved: when somebody is at work there; a run that the ledger knows is named.
    """
    project = f"inchworm {work.prepared.bundle.project}"
    if not work.is_shared:
        place.database.lock(project)
        return
    books = place.environment.database.bookkeeping  # each corner of a database has its own
    parts = {f"{part} of {books}": part for part in work.plan.works_on}
    try:
        place.database.share(project, parts.keys())
    except WorkedOn as error:
        part = parts[error.name]
        for other in _at_work(work):
            if part in other.plan.works_on:
                raise EnvironmentMoved(
                    f"{part} is worked on by {other.id}: {other.began_by} runs "
                    f"{other.plan.subject} in {work.plan.environment}.",
                    next="Wait until it has finished, and try again.",
                ) from error
        raise


def _at_work(work: RunWork) -> Iterator[Run]:
    """The runs here of which the ledger has heard no end."""
    plan = work.plan
    asked = RunsAsked(environment=plan.environment, state=RunState.RUNNING)
    for summary in work.ledger.recorded_runs(asked):
        run = work.ledger.recorded_run(summary.id)
        if run.plan.corner == plan.corner and run.state is RunState.RUNNING:
            yield run


def patiently(attempt: Callable[[], Result], patience: float) -> Result:
    """The result of an attempt, made again while somebody else has the database.

    Args:
        attempt: what is tried.
        patience: seconds to wait.

    Raises:
        EnvironmentMoved: when somebody has it for longer.
    """
    until = time.monotonic() + max(patience, _OPENING)
    while True:
        try:
            return attempt()
        except EnvironmentMoved:
            if time.monotonic() > until:
                raise
            time.sleep(_PAUSE)


_OPENING = 3.0
"""Seconds to wait at least for a database that one process at a time can open: it may only look."""

_PAUSE = 0.5
"""Seconds between two attempts to open and lock the database."""


_ByHand = tuple[frozenset[str], Mapping[str, tuple[str, ...]]]
"""The physical names of what is built and was changed by hand, where that may be lost; and what
hangs on relations and cannot be carried along."""


def _check_live(work: RunWork, place: OpenEnvironment) -> _ByHand:
    """What is live must be what the run was planned with, and nobody's change may be lost."""
    last = place.bookkeeping.last()
    plan = work.plan
    if last is None or last.digest != plan.bundle_digest:
        raise AnotherBundle(
            f"{last.bundle if last else 'nothing'} is live in {plan.environment} now, and not "
            f"{plan.bundle}.",
            next=f"Run it again: inchworm run {plan.subject} --in {plan.environment}",
        )
    live = place.composition(work.now(), with_notebooks=False)
    return _changed_by_hand(work, live), live.dependents


def _changed_by_hand(work: RunWork, live: Composition) -> frozenset[str]:
    """The physical names of what is built and was changed by hand, where that may be lost."""
    address = work.prepared.environment.database
    built = {
        address.physical_table(step.part.relation): step.part
        for step in work.plan.steps
        if step.work is Work.BUILD and isinstance(step.part, PartId)
    }
    changed = [d for d in live.differences if d.name in built and d.what == "changed"]
    if changed and not work.overwrite:
        part, environment = built[RelationName(changed[0].name)], work.plan.environment
        more = f", and {len(changed) - 1} more" if len(changed) > 1 else ""
        raise EnvironmentMoved(
            f"{part} was changed by hand in {environment}: {changed[0].key} is "
            f"{changed[0].word}{more}. Building it anew would lose that.",
            next=f"Look at it: inchworm drift {environment}. Then put it back, or run with "
            "--overwrite.",
        )
    return frozenset(difference.name for difference in changed)


def _end_broken_off(work: RunWork) -> None:
    """Runs here that nobody heard of again are over: whoever holds the locks knows.

    Where runs work beside each other, that is known of those that worked on the same parts.
    """
    for run in list(_at_work(work)):
        if not work.is_shared or not run.plan.works_on.isdisjoint(work.plan.works_on):
            work.ledger.end_run(run.id, RunState.BROKEN_OFF, run.plan.gone)


class _Journal:
    """The journal of a run: in the ledger."""

    def __init__(self, work: RunWork, run: Run) -> None:
        self._work = work
        self._run = run
        self._steps = {step.number: step for step in run.plan.steps}
        self.reports: dict[int, StepReport] = dict(work.done)

    def state(self, number: int) -> StepState:
        """How a step stands; those that succeeded in the run before are over."""
        report = self.reports.get(number)
        return report.state if report is not None else StepState.WAITING

    def took_effect(self, number: int) -> bool:
        """Nothing took effect that was not heard of: a run begins once."""
        return False

    def began(self, numbers: Sequence[int]) -> None:
        """Steps begin."""
        for number in numbers:
            self._work.reporter.step_started(self._steps[number])

    def ended(self, reports: Mapping[int, StepReport]) -> None:
        """Steps have ended, or are not going to begin."""
        self.reports.update(reports)
        self._work.ledger.run_steps(self._run.id, list(reports.items()))
        for number, report in reports.items():
            self._work.reporter.step_ended(self._steps[number], report)

    def settle(self) -> None:
        """Nothing waits: of a run, no more is recorded than how its steps ended."""


class _Running:
    """One run at work in an open environment."""

    def __init__(
        self, work: RunWork, place: OpenEnvironment, folder: Path, by_hand: _ByHand
    ) -> None:
        self._work = work
        self._place = place
        self._run = work.ledger.start_run(work.plan)
        self._stops_for = ""
        """Who has asked for its stop, and why, once somebody has."""
        self._stages: dict[str, list[PartId]] = defaultdict(list)
        for step in work.plan.steps:
            if step.work is Work.BUILD and isinstance(step.part, PartId):
                self._stages[step.stage].append(step.part)
        context = RunContext(
            id=self._run.id,
            plan=work.plan,
            machine=work.machine,
            folder=folder,
            keep=lambda name, content: work.keep(self._run, name, content),
            by=work.by,
            now=work.now,
            changed_by_hand=by_hand[0],
            hindrances=by_hand[1],
            flow_task=work.flow_task,
            is_shared=work.is_shared,
            live=last.promotion if (last := place.bookkeeping.last()) else "",
        )
        self._site = RunSite(work.prepared, place, context)

    def run(self) -> Run:
        """Every step, and the record of its end."""
        self._work.reporter.reached(self._run, self._place.identity, self._work.now())
        journal = _Journal(self._work, self._run)
        if journal.reports:
            taken_over = {
                number: replace(report, measures={}, log="")
                for number, report in journal.reports.items()
            }
            self._work.ledger.run_steps(self._run.id, sorted(taken_over.items()))
        executor = Executor(
            site=self._site,
            journal=journal,
            crew=lambda size: self._site.crew(
                min(size, self._work.prepared.environment.database.at_once)
            ),
            interrupt=lambda site: site.stop(),
        )
        try:
            self._stage()
            with (
                deadline(self._work.plan.seconds, self._site.stop) as over,
                ended_once(self._is_to_stop, self._site.stop),
            ):
                executor.run([RunAction(s, self._stages[s.stage]) for s in self._work.plan.steps])
        except KeyboardInterrupt:
            self._site.stop()
            self._stopped(journal, executor.running, self._work.by)
            raise
        except InchwormError as error:
            left = self._clear()
            self._work.ledger.end_run(self._run.id, RunState.FAILED, f"{error}{left}")
            raise
        if self._stops_for and executor.failed:  # or it was done by then
            return self._stopped(journal, executor.running, self._stops_for)
        left = self._clear()
        self._not_started(journal)
        return self._end(journal, left, is_late=over.is_set())

    def _is_to_stop(self, done: threading.Event) -> bool:
        """Wait until somebody wants the run to stop, or it is done."""
        while not done.wait(_HEEDS):
            with suppress(InchwormError):  # a ledger that cannot be read now can be later
                if who := self._work.stop_asked(self._run.id):
                    self._stops_for = who
                    return True
        return False

    def _stage(self) -> None:
        """Record the names of staging relations before anything is made."""
        site = self._site
        notebooks = [s.part for s in self._work.plan.steps if s.work is Work.NOTEBOOK]
        tables = {part.relation for parts in self._stages.values() for part in parts}
        tables |= {t for part in notebooks if isinstance(part, PartId) for t in site.store_of(part)}
        site.staging.reserve(map(site.physical, tables), beside_others=self._work.is_shared)
        site.context.staged_names = site.staging.names

    def _clear(self) -> str:
        """Remove what was built and did not go live; what is left, for the end of a sentence."""
        try:
            self._site.revive()
            self._site.staging.clear()
        except InchwormError as error:  # the ledger is to hear of the end all the same
            return f"; what it had built is removed by the next run: {error.what}"
        return ""

    def _not_started(self, journal: _Journal) -> None:
        """Say of each step that did not begin what kept it back."""
        steps = {step.number: step for step in self._work.plan.steps}
        left: dict[int, StepReport] = {}
        for number, step in steps.items():
            if number in journal.reports:
                continue
            reports = journal.reports | left
            failed = [n for n in step.needs if not reports[n].state.is_over]
            cause = steps[failed[0]]
            why = f"step {cause.number} ({cause.part}) failed"
            if reports[cause.number].state is StepState.NOT_STARTED:
                why = reports[cause.number].message
            left[number] = StepReport(state=StepState.NOT_STARTED, message=why)
        if left:
            journal.ended(left)

    def _stopped(self, journal: _Journal, running: Sequence[int], by: str) -> Run:
        """Somebody stopped the run: what was at work failed, and the rest does not begin."""
        why = f"stopped by {by}"
        stopped = StepReport(state=StepState.FAILED, message=why)
        journal.ended(dict.fromkeys(running, stopped))
        for _ in range(2):  # an interrupt that came late ends the first attempt
            left = self._clear()
            if not left:
                break
        rest = [s.number for s in self._work.plan.steps if s.number not in journal.reports]
        not_started = StepReport(state=StepState.NOT_STARTED, message=f"stopped by {by}")
        journal.ended(dict.fromkeys(rest, not_started))
        return self._work.ledger.end_run(self._run.id, RunState.STOPPED, f"{why}{left}")

    def _end(self, journal: _Journal, left: str, *, is_late: bool) -> Run:
        states = [report.state for report in journal.reports.values()]
        failed = states.count(StepState.FAILED)
        if not failed:
            warned = sum(state.is_warning for state in states)
            message = counted(warned, "warning") if warned else ""
            fails = warned and self._work.plan.warnings_fail
            state = RunState.PARTLY_DONE if fails else RunState.DONE
            if fails:
                message += ", and warnings fail this pipeline"
            message = f"{message}{left}".removeprefix("; ")
            return self._work.ledger.end_run(self._run.id, state, message)
        effective = {
            step.number
            for step in self._work.plan.steps
            if step.work not in {Work.BUILD, Work.CHECK}
            and journal.reports[step.number].state.is_over
        }
        state = RunState.PARTLY_DONE if effective else RunState.FAILED
        message = f"{failed} of {len(states)} steps failed"
        if is_late:
            message = f"it took longer than {self._work.plan.seconds:g} s, and was ended; {message}"
        return self._work.ledger.end_run(self._run.id, state, f"{message}{left}")
