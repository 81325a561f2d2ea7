"""Running what is live in an environment, and looking at what ran."""

from __future__ import annotations

import datetime as dt
import time
from collections.abc import Callable, Mapping, Sequence

from msgspec import Struct, field
from msgspec.structs import replace

from inchworm.application.promoting import prepare_bundle
from inchworm.application.signing import keep_head
from inchworm.application.workplace import LOCKS, Workplace
from inchworm.core.environments.environment import Environment
from inchworm.core.errors import BundleError, EnvironmentMoved, UsageError
from inchworm.core.execution import StepReport
from inchworm.core.identifiers import Kind, PartId
from inchworm.core.ledger.runs import RunsAsked
from inchworm.core.lineage.facts import Trait
from inchworm.core.parameters.values import Value
from inchworm.core.promotion.composition import CompletedPromotion, LivePart
from inchworm.core.running.earlier import steps_done, usual_seconds
from inchworm.core.running.pauses import Pause, pause_of
from inchworm.core.running.planning import fails_by_warnings, plan_steps, seconds_of, subject_of
from inchworm.core.running.run import Run, RunId, RunPlan
from inchworm.core.running.states import FlowTask, RunState
from inchworm.engine.connections import open_database
from inchworm.engine.open_environment import check_name
from inchworm.engine.preparation import Prepared
from inchworm.engine.running.runner import Due, RunReporter, RunWork, execute, patiently
from inchworm.targets.databases.bookkeeping import Bookkeeping


class RunRequest(Struct, frozen=True, kw_only=True):
    """What is asked of a new run.

    Attributes:
        name: a pipeline, model, notebook or flow that is live.
        environment: where.
        upstream: whether the models and notebooks run first that it depends on.
        downstream: whether those run behind it that it affects.
        since_failed: whether the last run of it there is gone on with.
        overwrite: whether changes that were made by hand to what is built may be lost.
        patience: seconds to wait while somebody else works in the environment.
        flow_task: the rows or files that a flow takes on.
        due: the schedule that starts it, and the time at which it was due.
        started: by what, where no schedule does: ``hand``, or ``call``.
        unless_paused: whether it is not to run while a schedule of it is paused.
        day: the day whose values it has, and whose rows it tells anew; None for the present one.
    """

    name: str
    environment: str
    upstream: bool = False
    downstream: bool = False
    since_failed: bool = False
    overwrite: bool = False
    patience: float = 0.0
    flow_task: FlowTask = FlowTask.NEW
    due: Due | None = None
    started: str = "hand"
    unless_paused: bool = False
    day: dt.date | None = None


class PreparedRun(Struct, frozen=True, kw_only=True):
    """A run that can begin.

    Attributes:
        done: how steps ended in the run that this one continues, by number.
        usual: how long steps took the last time, in seconds, by number.
        used: the values that its parts use.
    """

    request: RunRequest
    plan: RunPlan
    prepared: Prepared
    done: Mapping[int, StepReport] = field(default_factory=dict)
    usual: Mapping[int, float] = field(default_factory=dict)
    used: Mapping[str, Value] = field(default_factory=dict)

    @property
    def environment(self) -> Environment:
        """Where it runs."""
        return self.prepared.environment


def prepare_run(workplace: Workplace, request: RunRequest) -> PreparedRun:
    """Find what is live under a name, and the steps of a run of it. Nothing is recorded or changed.

    Raises:
        UsageError: when there is nothing of that name that is live, or nothing to go on with.
        BundleError: when the bundle that is live cannot be had here.
        TargetError: when the environment cannot be read.
    """
    environment = workplace.project.environment(request.environment)
    last, live, pauses = patiently(lambda: _read_live(workplace, environment), request.patience)
    today = request.day or workplace.today
    if today > workplace.today:
        raise UsageError(f"{today} is still to come.", next="Name a day that has begun.")
    prepared = _prepared(workplace, environment, last, today)
    bundle = prepared.bundle
    assembly = prepared.reading.assembly
    subject = subject_of(request.name, assembly)
    if request.due is not None or request.unless_paused:
        schedule = request.due.schedule if request.due else ""
        _check_not_paused(pauses, subject, schedule, environment, workplace.clock())
    if request.flow_task is not FlowTask.NEW and subject.kind is not Kind.FLOW:
        raise UsageError(f"{subject} is no flow.", next="Name a flow.")
    is_copying = subject.kind is Kind.FLOW and assembly.outlines[subject].place == "files"
    if request.flow_task is FlowTask.ALREADY_TAKEN and not is_copying:
        raise UsageError(f"{subject} takes no files.", next="Name a flow that copies files.")
    steps = plan_steps(
        subject,
        assembly,
        prepared.rendered,
        moved=_moved_views(prepared, live),
        upstream=request.upstream,
        downstream=request.downstream,
    )
    parts = dict.fromkeys(step.part for step in steps if isinstance(step.part, PartId))
    for part in (subject, *parts):
        _check_live(part, live, prepared, last)
    used = {
        use.parameter: prepared.values[use.parameter]
        for part in (subject, *parts)
        for use in assembly.outlines[part].uses
        if use.parameter in prepared.values
    }
    plan = RunPlan(
        environment=environment.name,
        subject=subject,
        bundle=bundle.name,
        bundle_digest=bundle.digest,
        commit=bundle.commit,
        today=today.isoformat(),
        day=today.isoformat() if request.day else "",
        steps=steps,
        values={name: value.text for name, value in sorted(used.items())},
        started=request.due.schedule if request.due else request.started,
        seconds=seconds_of(subject, assembly, prepared.rendered),
        warnings_fail=fails_by_warnings(subject, prepared.rendered),
        corner=environment.corner,
        process=workplace.process_name,
    )
    before = _runs_of(workplace, plan)
    done: Mapping[int, StepReport] = {}
    if request.since_failed:
        plan, done = _continued(plan, before)
    return PreparedRun(
        request=request,
        plan=plan,
        prepared=prepared,
        done=done,
        usual=usual_seconds(plan, before),
        used=used,
    )


def _check_not_paused(
    pauses: Sequence[Pause],
    subject: PartId,
    schedule: str,
    environment: Environment,
    now: dt.datetime,
) -> None:
    """Whether nobody has paused what a schedule, or a scheduler of others, wants to start."""
    paused = pause_of(pauses, subject, schedule, now)
    if paused is not None:
        what = f"{environment.name} {paused.what}".strip()
        raise EnvironmentMoved(
            f"{schedule or subject} is paused, {paused.in_words}.",
            next=f"inchworm pause {what} --resume",
        )


def _moved_views(prepared: Prepared, live: Mapping[PartId, LivePart]) -> list[PartId]:
    """The views whose values are others today than those that they were put in place with."""
    outlines = prepared.reading.assembly.outlines
    return [
        part
        for part, outline in outlines.items()
        if Trait.VIEW in outline.traits
        and outline.uses
        and part in live
        and prepared.rendered.digest(part) != live[part].digest
    ]


def _prepared(
    workplace: Workplace, environment: Environment, last: CompletedPromotion, today: dt.date
) -> Prepared:
    """The bundle that is live, with the values of a day."""
    if last.bundle not in workplace.bundles.names():
        packed = f"git checkout {last.commit[:12]} && inchworm pack" if last.commit else ""
        raise BundleError(
            f"{last.bundle} is live in {environment.name}, and is not in the bundle store here.",
            where=workplace.project.settings.storage.bundles,
            next="Write the bundle store of whoever promoted it into inchworm.toml, under "
            f"[storage] bundles{f', or pack it again: {packed}' if packed else ''}.",
        )
    bundle = workplace.bundles.get(last.bundle)
    if bundle.digest != last.digest:
        raise BundleError(
            f"{last.bundle} in the bundle store is not the one that is live in {environment.name}.",
            next="Use the bundle store of whoever promoted it there.",
        )
    sources = {PartId.parse(part): name for part, name in last.mixture.sources.items()}
    overrides = _overrides(workplace, last)
    return prepare_bundle(workplace, bundle, environment, today, overrides, sources)


def _read_live(
    workplace: Workplace, environment: Environment
) -> tuple[CompletedPromotion, dict[PartId, LivePart], tuple[Pause, ...]]:
    """The promotion that is live in an environment, its parts, and the pauses of schedules."""
    project = workplace.project.settings.name
    values = workplace.values(environment)
    with open_database(environment, workplace.machine, values, read_only=True) as database:
        bookkeeping = Bookkeeping(database, project, environment.database.bookkeeping)
        check_name(environment, project, bookkeeping.environment())
        last = bookkeeping.last()
        live = {part.part: part for part in bookkeeping.parts_of_ours()}
        pauses = bookkeeping.pauses()
    if last is None:
        raise UsageError(
            f"Nothing is live in {environment.name} ({environment.protection}): nothing was "
            "promoted there yet.",
            next=f"inchworm promote BUNDLE --to {environment.name}",
        )
    return last, live, pauses


def _overrides(workplace: Workplace, last: CompletedPromotion) -> Mapping[str, str]:
    """The values that were given for once at the promotion that is live, if our ledger has it."""
    ledger = workplace.ledger
    if last.id is None or not ledger.exists or last.id.ledger != ledger.id:
        return {}
    return ledger.overrides(last.id)


def _check_live(
    part: PartId, live: Mapping[PartId, LivePart], prepared: Prepared, last: CompletedPromotion
) -> None:
    """Whether a part is live as it is in the bundle; it may not be after a failed promotion."""
    live_part = live.get(part)
    environment = prepared.environment.name
    if live_part is None:
        raise UsageError(
            f"{part} is not live in {environment}.",
            next=f"Promote it first: inchworm promote {last.bundle} --to {environment}",
        )
    if live_part.content != prepared.reading.assembly.parts[part].digest:
        raise UsageError(
            f"{part} is live in {environment} as in {live_part.bundle}, and the rest as in "
            f"{last.bundle}: a promotion did not come to its end.",
            next="See inchworm history, and go on with it: inchworm promote PROMOTION",
        )


def _runs_of(workplace: Workplace, plan: RunPlan) -> list[Run]:
    """The latest runs of the same part in the same environment, the latest last."""
    if not workplace.ledger.exists:
        return []
    asked = RunsAsked(environment=plan.environment, subject=plan.subject, latest=_LOOKED_AT)
    return [workplace.ledger.run(run.id) for run in workplace.ledger.runs(asked)]


_LOOKED_AT = 5
"""How many earlier runs are asked how long steps take."""


def _continued(plan: RunPlan, before: Sequence[Run]) -> tuple[RunPlan, Mapping[int, StepReport]]:
    """The plan of a run that goes on with the last one, and the steps that are done.

    Raises:
        UsageError: when there is none to go on with.
    """
    last = before[-1] if before else None
    again = f"inchworm run {plan.subject} --in {plan.environment}"
    if last is None or not last.state.can_go_on:
        how = f"{last.id} is {last.state.value}" if last else "it did not run there yet"
        raise UsageError(
            f"There is nothing to go on with: {how}.", next=f"Run it from the beginning: {again}"
        )
    if last.plan.day != plan.day:
        of, this = last.plan.day or "the day it ran", plan.day or "today"
        raise UsageError(
            f"{last.id} was for {of}, and this is for {this}.",
            next=f"Run it from the beginning: {again}",
        )
    if last.plan.bundle_digest != plan.bundle_digest:
        raise UsageError(
            f"{last.id} ran {last.plan.bundle}, and {plan.bundle} is live now.",
            next=f"Run it from the beginning: {again}",
        )
    return replace(plan, continues=last.id.number), steps_done(plan, last)


def prepare_live(workplace: Workplace, environment: str) -> Prepared:
    """The bundle that is live in an environment, made ready for it with the values of today.

    Raises:
        UsageError: when nothing is live there.
        BundleError: when the bundle that is live cannot be had here.
        TargetError: when the environment cannot be read.
    """
    declared = workplace.project.environment(environment)
    last, _, _ = patiently(lambda: _read_live(workplace, declared), 0)
    return _prepared(workplace, declared, last, workplace.today)


def keep_output(workplace: Workplace) -> Callable[[Run, str, bytes], str]:
    """Keeps files of steps, such as executed notebooks, with their runs."""
    return lambda run, name, content: workplace.outputs.keep(
        f"{run.id.ledger}-{run.id}-{name}", content
    )


def stop_asked(workplace: Workplace) -> Callable[[RunId], str]:
    """Tells who has asked for the stop of a run; with a ledger opened for whoever asks."""
    beside = replace(workplace)  # what that has opened stays with its own thread
    return lambda run: beside.ledger.recorded_run(run).stop_asked


def stop_run(workplace: Workplace, name: str, because: str, patience: float) -> Run:
    """Ask for the stop of a run, whoever began it and wherever, and wait for it.

    Args:
        workplace: where the ledger is that knows it.
        name: the run's id.
        because: the reason.
        patience: seconds to wait at most.

    Returns:
        How it stands then.

    Raises:
        UsageError: when there is no such run, or it is not at work any more.
    """
    run = workplace.ledger.run(name)
    workplace.ledger.ask_to_stop(run.id, because)
    until = time.monotonic() + patience
    while run.state is RunState.RUNNING and time.monotonic() < until:
        time.sleep(_LOOKS)
        run = workplace.ledger.run(run.id)
    return run


_LOOKS = 0.2
"""Seconds between two looks at a run that is to stop."""


def carry_out_run(workplace: Workplace, prepared: PreparedRun, reporter: RunReporter) -> Run:
    """Execute a run.

    Raises:
        EnvironmentMoved: when somebody else works there.
        AnotherBundle: when what is live is another bundle now.
        KeyboardInterrupt: after recording where it stopped.
    """
    prepared.prepared.bundle.verify()
    run = execute(
        RunWork(
            prepared=prepared.prepared,
            plan=prepared.plan,
            done=prepared.done,
            ledger=workplace.ledger,
            machine=workplace.machine,
            keep=keep_output(workplace),
            locks=workplace.root / LOCKS,
            by=workplace.user,
            now=workplace.now,
            process=workplace.process,
            patience=prepared.request.patience,
            overwrite=prepared.request.overwrite,
            flow_task=prepared.request.flow_task,
            due=prepared.request.due,
            stop_asked=stop_asked(workplace),
            reporter=reporter,
        )
    )
    keep_head(workplace)
    return run
