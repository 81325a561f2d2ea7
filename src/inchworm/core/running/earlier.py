"""What earlier runs tell about a new one: which steps are done, and how long each takes."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Mapping

from inchworm.core.execution import StepReport
from inchworm.core.running.run import Run, RunPlan, RunStep

_Key = tuple[str, str, str]


def _key(step: RunStep) -> _Key:
    """By which a step is known again in other runs."""
    return step.stage, step.work.value, str(step.part)


def steps_done(plan: RunPlan, before: Run) -> dict[int, StepReport]:
    """The steps of a plan that an earlier run has done, by number, each with how it ended there.

    What a stage builds goes live together; so where any step of it is left, all of it is. Where
    warnings fail a run, a step that has one is left.
    """

    def is_done(report: StepReport) -> bool:
        is_left = plan.warnings_fail and report.state.is_warning
        return report.state.is_over and not is_left

    reports = {_key(step): before.report_of(step) for step in before.plan.steps}
    stages: dict[str, list[RunStep]] = defaultdict(list)
    for step in plan.steps:
        stages[step.stage].append(step)
    return {
        step.number: reports[_key(step)]
        for steps in stages.values()
        if all(_key(step) in reports and is_done(reports[_key(step)]) for step in steps)
        for step in steps
    }


def usual_seconds(plan: RunPlan, runs: Iterable[Run]) -> Mapping[int, float]:
    """How long steps took the last time, in seconds, by number.

    Args:
        plan: the steps that are asked about.
        runs: earlier runs, the latest last.
    """
    last: dict[_Key, float] = {}
    for run in runs:
        for step in run.plan.steps:
            report = run.report_of(step)
            if report.state.is_over and report.seconds is not None:
                last[_key(step)] = report.seconds
    return {step.number: last[_key(step)] for step in plan.steps if _key(step) in last}
