"""Runs on the screen: many in a line each, or one step by step."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from rich.console import Console
from rich.padding import Padding
from rich.text import Text

from inchworm.cli.process import shown_time
from inchworm.cli.samples import print_failing_rows
from inchworm.cli.step_lines import listed
from inchworm.cli.terminal import STYLES, rows, spell_seconds, spell_whole_seconds, word
from inchworm.core.identifiers import PartId
from inchworm.core.ledger.runs import RunSummary
from inchworm.core.running.run import Run, RunId, RunStep
from inchworm.core.running.states import RunState


def spell_step(step: RunStep) -> str:
    """``build model:a.b  (levels)``; a notebook is named as one once."""
    stage = f"  ({step.stage})" if step.stage != str(step.part) else ""
    is_said = isinstance(step.part, PartId) and step.part.kind.value == step.work.value
    what = str(step.part) if is_said else f"{step.work.value} {step.part}"
    return f"{what}{stage}"


def print_runs(screen: Console, runs: Sequence[RunSummary], usual: Mapping[RunId, float]) -> None:
    """A line for each, with how long it took, and how long runs of the same usually took."""
    headings = ("", "in", "what", "state", "began, UTC", "took", "usually", "by", "started")
    lines = [
        (
            str(run.id),
            run.environment,
            str(run.subject),
            _state(run.state, run.message),
            shown_time(run.began_at),
            _took(run.took, usual.get(run.id)),
            spell_whole_seconds(usual.get(run.id)),
            run.began_by,
            run.started,
        )
        for run in runs
    ]
    screen.print(rows(headings, lines, right=(5, 6)))


def _took(seconds: float | None, usual: float | None) -> Text:
    """A duration; one that is much longer than usual stands out."""
    is_slow = seconds is not None and usual is not None and seconds > max(2 * usual, usual + 10)
    return Text(spell_whole_seconds(seconds), STYLES["warning"] if is_slow else "")


def _state(state: RunState, message: str) -> Text:
    """A state, with the warnings of a run that is done."""
    if state is RunState.DONE and message:
        return Text.assemble(word(state.value), (f", with {message}", STYLES["warning"]))
    return word(state.value)


def print_run(screen: Console, run: Run, everything: bool) -> None:
    """One run, step by step, with what each step said; of very many steps, some or all."""
    plan = run.plan
    screen.print(
        Text.assemble(
            (f"{run.id}  {plan.subject}", "bold"),
            f" of {plan.bundle} in ",
            (plan.environment, "bold"),
            f" for {plan.day}  " if plan.day else "  ",
            _state(run.state, run.message),
        )
    )
    went_on = f", goes on with R{plan.continues}" if plan.continues is not None else ""
    screen.print(
        f"began {shown_time(run.began_at)} UTC by {run.began_by}, started by {plan.started}, "
        f"commit {(plan.commit or '-')[:7]}{went_on}",
        style="dim",
    )
    if run.message:
        screen.print(run.message)
    screen.print()
    lines = []
    steps, rest = listed(plan.steps, run.report_of, everything=everything)
    for step in steps:
        report = run.report_of(step)
        state, took = word(report.state.value), spell_seconds(report.seconds)
        lines.append((str(step.number), spell_step(step), state, took, report.message))
    screen.print(rows(("", "step", "state", "took", ""), lines, right=(0, 3)))
    if rest:
        screen.print(rest, style="dim")
    for step in plan.steps:
        _print_details(screen, run, step)


def _print_details(screen: Console, run: Run, step: RunStep) -> None:
    report = run.report_of(step)
    measures = [f"{name} = {value:g}" for name, value in report.measures.items()]
    if not (report.log or measures or report.output or report.kept or report.samples):
        return
    screen.print()
    screen.print(Text(f"step {step.number}, {step.part}", style="bold"))
    for line in measures:
        screen.print(Padding(Text(f"measured {line}"), (0, 0, 0, 2)))
    if report.output:
        screen.print(Padding(Text(f"kept as {report.output}", style="dim"), (0, 0, 0, 2)))
    for name in report.kept:
        command = f"inchworm history {run.id} --kept {name} --into FILE"
        screen.print(Padding(Text(f"kept {name}: {command}"), (0, 0, 0, 2)))
    if report.log:
        screen.print(Padding(Text(report.log), (0, 0, 0, 2)))
    print_failing_rows(screen, step.part, report, run.plan.environment, run.plan.bundle)
