"""The actions of a run: each step of its plan, with its limits."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from contextlib import contextmanager
from typing import TYPE_CHECKING, ClassVar

from msgspec import Struct
from msgspec.structs import replace

from inchworm.core.counting import counted
from inchworm.core.errors import EnvironmentMoved, InchwormError, TargetError
from inchworm.core.execution import StepReport, StepState
from inchworm.core.identifiers import Kind, PartId, RelationName
from inchworm.core.running.run import RunStep
from inchworm.core.running.states import Work
from inchworm.engine.executor import Mode
from inchworm.engine.running.failure import StepFailed
from inchworm.engine.running.site import RunSite
from inchworm.engine.running.switching import switch_over
from inchworm.targets.deadline import deadline

if TYPE_CHECKING:
    from tenacity import RetryCallState

_LONGEST_PAUSE = 60.0
"""Seconds between two attempts, at most."""


class RunAction(Struct, frozen=True):
    """One step of a run, as the executor performs it."""

    step: RunStep
    stage: Sequence[PartId]
    """The models that are built in its stage."""

    mode: ClassVar[Mode] = Mode.BESIDE
    stops_on_failure: ClassVar[bool] = False
    needs_success: ClassVar[bool] = False
    only_judges: ClassVar[bool] = False
    holds_back: ClassVar[bool] = True

    @property
    def number(self) -> int:
        """The number of the step."""
        return self.step.number

    def needs(self, site: RunSite) -> Collection[int]:
        """The numbers of the steps that have to succeed before it begins."""
        return self.step.needs

    def make_ready(self, site: RunSite) -> None:
        """Nothing has to be done before all of them begin."""

    def perform_together(self, others: Sequence[int], site: RunSite) -> list[StepReport]:
        """It takes effect alone."""
        return [self.perform(site)]

    def perform(self, site: RunSite) -> StepReport:
        """Do it within its limits, and again when it failed, as often as it may be.

        Raises:
            InchwormError: when the last attempt failed, too.
        """
        attempts: list[str] = []
        attempt = _retrying(self.step, site, attempts) if self.step.limits.retries else _once
        try:
            report = attempt(self._attempt, site)
        except InchwormError as error:
            return _failed(error, attempts)
        return (
            replace(report, log="\n".join([*attempts, report.log]).strip()) if attempts else report
        )

    def _attempt(self, site: RunSite) -> StepReport:
        """Do it once, within the time that it may take."""
        with _limited(self.step, site):
            site.revive()
            return _PERFORM[self.step.work](self, site)

    def _model(self) -> PartId:
        assert isinstance(self.step.part, PartId)
        return self.step.part

    @property
    def _tables(self) -> frozenset[RelationName]:
        return frozenset(part.relation for part in self.stage)


_Attempt = Callable[["RunSite"], StepReport]


def _once(attempt: _Attempt, site: RunSite) -> StepReport:
    return attempt(site)


def _retrying(
    step: RunStep, site: RunSite, attempts: list[str]
) -> Callable[[_Attempt, RunSite], StepReport]:
    """Makes attempts until one succeeds, as many as the step may; notes those that failed."""
    from tenacity import Retrying, retry_if_exception, stop_after_attempt  # few steps need it
    from tenacity.wait import wait_random_exponential

    def note(state: RetryCallState) -> None:
        error = state.outcome.exception() if state.outcome else None
        attempts.append(f"attempt {state.attempt_number} failed: {error}")

    return Retrying(
        stop=stop_after_attempt(step.limits.retries + 1),
        wait=wait_random_exponential(multiplier=1, max=_LONGEST_PAUSE),
        retry=retry_if_exception(lambda error: _can_pass(error, site)),
        sleep=site.pause,
        before_sleep=note,
        reraise=True,
    )


def _can_pass(error: BaseException, site: RunSite) -> bool:
    """Whether a failure may be another one next time."""
    return isinstance(error, TargetError | EnvironmentMoved) and not site.context.stopping.is_set()


def _failed(error: InchwormError, attempts: Sequence[str]) -> StepReport:
    message = f"{error.what} {error.next or ''}".strip()
    log, output = (error.log, error.output) if isinstance(error, StepFailed) else ("", "")
    return StepReport(
        state=StepState.FAILED,
        message=message,
        log="\n".join([*attempts, log]).strip(),
        output=output,
    )


@contextmanager
def _limited(step: RunStep, site: RunSite) -> Iterator[None]:
    """Have what a block does fail once the time that the step may take is over."""
    if site.context.stopping.is_set():
        raise TargetError("the run was stopped.")
    with deadline(step.limits.seconds, site.cancel) as over:
        try:
            yield
        except InchwormError as error:
            if not over.is_set():
                raise
            log, output = (error.log, error.output) if isinstance(error, StepFailed) else ("", "")
            raise StepFailed(
                f"took longer than {step.limits.seconds:g} s, and was ended.",
                next="Nothing went live by it. Give the step a longer timeout, or make it do less.",
                log=log,
                output=output,
            ) from error


def _build(action: RunAction, site: RunSite) -> StepReport:
    from inchworm.engine.model_build import ModelBuild

    site = site.reading_staged(action._tables)
    model = action._model()
    physical = site.physical(model.relation)
    if hindrances := site.context.hindrances.get(physical):
        raise StepFailed(
            f"{', '.join(hindrances)} on {physical} cannot be carried along when it gets another "
            "table's place.",
            next="Nothing was built. Make it a model, or drop it and make it again by hand.",
        )
    site.ensure_schema(physical.schema)
    build = ModelBuild(model, site)
    limits = action.step.limits
    with site.database.limited_to(limits.memory, limits.threads), site.database.transaction():
        rows = build.build()
    return build.report(rows)


def _check(action: RunAction, site: RunSite) -> StepReport:
    from inchworm.engine.row_checks import judge_file, judge_model

    site = site.reading_staged(action._tables)
    part = action._model()
    with site.database.reading():
        return judge_file(part, site) if part.kind is Kind.CHECK else judge_model(part, site)


def _switch(action: RunAction, site: RunSite) -> StepReport:
    tables, renewed, other = [], [], []
    for part in action.stage:
        if not site.rendered.model(part).is_view:
            tables.append(part.relation)
        elif site.assembly.outlines[part].uses and site.day is None:
            # its values may be those of another day; one that was asked for is nobody's to see
            renewed.append(part)
        else:
            other.append(part.relation)
    switch_over(tables, renewed, other, site)
    message = f"{counted(len(tables), 'table')} live"
    if renewed:
        message += f", {counted(len(renewed), 'view')} with the values of today"
    return StepReport(state=StepState.DONE, message=message)


def _notebook(action: RunAction, site: RunSite) -> StepReport:
    from inchworm.engine.running.notebooks import run_notebook

    return run_notebook(action._model(), action.step.limits, site)


def _flow(action: RunAction, site: RunSite) -> StepReport:
    from inchworm.engine.running.flows import run_flow

    return run_flow(action._model(), site)


_PERFORM: Mapping[Work, Callable[[RunAction, RunSite], StepReport]] = {
    Work.BUILD: _build,
    Work.CHECK: _check,
    Work.SWITCH: _switch,
    Work.NOTEBOOK: _notebook,
    Work.FLOW: _flow,
}
