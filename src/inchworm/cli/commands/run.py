"""``inchworm run``."""

from __future__ import annotations

import datetime as dt
import json
import os
import signal
import sys
import time
from collections.abc import Mapping, Sequence
from typing import NoReturn

import click
from msgspec.structs import replace
from rich.console import Console
from rich.text import Text

from inchworm.application.running import (
    PreparedRun,
    RunRequest,
    carry_out_run,
    prepare_run,
    stop_run,
)
from inchworm.application.running_here import own_corner, put_here
from inchworm.application.workplace import Workplace
from inchworm.cli.options import PARTLY_DONE, duration
from inchworm.cli.process import collect_as_usual, shown_time, workplace
from inchworm.cli.runs import spell_step
from inchworm.cli.samples import print_failing_rows
from inchworm.cli.step_lines import StepLines
from inchworm.cli.terminal import console, rows, say, spell_seconds, word
from inchworm.cli.visible import escaped
from inchworm.core.counting import counted
from inchworm.core.errors import UsageError
from inchworm.core.execution import StepReport, StepState
from inchworm.core.parameters.values import Type
from inchworm.core.running.run import Run, RunStep
from inchworm.core.running.states import FlowTask, RunState
from inchworm.engine.reporter import Reporter
from inchworm.engine.running.runner import AnotherBundle, Due, RunReporter
from inchworm.report.runs import run_document, step_document


@click.command("run")
@click.argument("name", metavar="PIPELINE|MODEL|NOTEBOOK|FLOW", default="")
@click.option("--in", "where", metavar="ENV", help="Where it is live.")
@click.option("--here", is_flag=True, help="The tree as it is, in your own corner.")
@click.option("--upstream", is_flag=True, help="First what it depends on: models and notebooks.")
@click.option("--downstream", is_flag=True, help="Then what it affects: models and notebooks.")
@click.option("--since-failed", is_flag=True, help="Go on with the last run, where it failed.")
@click.option(
    "--dead-letters",
    "flow_task",
    flag_value=FlowTask.DEAD_LETTERS.value,
    help="Of a flow, send again what was refused.",
)
@click.option(
    "--already-taken",
    "flow_task",
    flag_value=FlowTask.ALREADY_TAKEN.value,
    help="Of a flow that copies, record the files that are there as taken, and take none.",
)
@click.option("--overwrite", is_flag=True, help="Changes made by hand to tables may be lost.")
@click.option("--day", metavar="DAY", help="With the values of that day: 2026-11-30.")
@click.option("--from", "first", metavar="DAY", help="Once for each day from this one on ...")
@click.option("--to", "last", metavar="DAY", help="... to this one; to today, if not given.")
@click.option("--values", "only_values", is_flag=True, help="Show the values, and run nothing.")
@click.option("--wait", metavar="DURATION", help="Wait so long while somebody works there: 10m.")
@click.option("--unless-paused", is_flag=True, help="Not while it is paused: for a crontab.")
@click.option("--stop", metavar="RUN", help="Stop a run, wherever it is at work: R12.")
@click.option("--because", default="", metavar="TEXT", help="Why it is stopped.")
@click.option("--schedule", hidden=True, help="The schedule that starts it.")
@click.option("--due", hidden=True, help="The time at which that was due, ISO 8601, UTC.")
@click.option("--started", hidden=True, default="hand", help="By what, where no schedule does.")
@click.option("--yes", is_flag=True, envvar="INCHWORM_YES", help="Do not ask.")
@click.option("--json", "as_json", is_flag=True, help="A line of JSON for each thing that happens.")
def command(
    name: str,
    where: str | None,
    here: bool,
    upstream: bool,
    downstream: bool,
    since_failed: bool,
    flow_task: str | None,
    overwrite: bool,
    day: str | None,
    first: str | None,
    last: str | None,
    only_values: bool,
    wait: str | None,
    unless_paused: bool,
    stop: str | None,
    because: str,
    schedule: str | None,
    due: str | None,
    started: str,
    yes: bool,
    as_json: bool,
) -> None:
    """Run what is live in ENV: a pipeline's steps, a model, a notebook or a flow.

    Tables are built beside the live ones, checked, and switched over together. Steps that do not
    need each other run side by side; one that fails keeps only those from beginning that need it.
    Ctrl-C, SIGTERM and --stop stop what runs, and nothing half done is seen.

    With --day, parameters that use today have the value of that day, and an increment whose model
    says day = COLUMN gets the rows of that day anew; views stay as they are. With --from and --to,
    it runs once for each day, the oldest first, until one fails.

    With --here, what the working tree has of it goes into your own corner of an environment first
    ({owner} in its schema_pattern), where nobody else is disturbed.
    """
    place = workplace()
    screen = console()
    if stop is not None:
        _stop(screen, place, stop, because, duration(wait) or _STOPS_WITHIN, as_json)
    if not name:
        raise click.UsageError("Say what is to run; or --stop RUN.")
    if here:
        environment = _put_here(screen, place, name, where, as_json)
    elif where is not None:
        environment = where
    else:
        raise click.UsageError("Say where: --in ENV, or --here.")
    request = RunRequest(
        name=name,
        environment=environment,
        upstream=upstream,
        downstream=downstream,
        since_failed=since_failed,
        flow_task=FlowTask(flow_task or FlowTask.NEW),
        overwrite=overwrite,
        patience=duration(wait),
        due=Due(schedule=schedule, at=due) if schedule and due else None,
        started=started,
        unless_paused=unless_paused,
    )
    days = _days(place, day, first, last)
    prepared = prepare_run(place, replace(request, day=days[0]))
    if only_values:
        _show_values(screen, prepared, as_json)
        return
    if not yes and not _agreed(prepared):
        click.echo(f"Nothing ran in {prepared.environment.name}.")
        sys.exit(1)
    signal.signal(signal.SIGTERM, _interrupt)
    collect_as_usual()
    _run_each(place, prepared, days, screen, as_json)


def _run_each(
    place: Workplace,
    prepared: PreparedRun,
    days: Sequence[dt.date | None],
    screen: Console,
    as_json: bool,
) -> None:
    """Run once for each day, until one fails; the first has been prepared."""
    request = prepared.request
    for number, each in enumerate(days):
        if number:
            prepared = prepare_run(place, replace(request, day=each))
        began = time.monotonic()
        prepared, run = _carried_out(place, prepared, screen, as_json)
        if as_json:
            _print_line({"event": "ended", **run_document(run)})
        else:
            _show_end(screen, prepared, run, time.monotonic() - began)
        if run.state is not RunState.DONE:
            left = days[number + 1 :]
            if left and not as_json:
                say(screen, "not started", f"{left[0]} to {left[-1]}: go on with --from {each}.")
            sys.exit(_ENDS.get(run.state, 1))


_ENDS = {RunState.DONE: 0, RunState.PARTLY_DONE: PARTLY_DONE, RunState.STOPPED: 130}

_STOPS_WITHIN = 60.0
"""Seconds to wait until a run has stopped."""


def _stop(
    screen: Console, place: Workplace, name: str, because: str, patience: float, as_json: bool
) -> NoReturn:
    """Have a run stop, and say how it ended."""
    run = stop_run(place, name, because, patience)
    if as_json:
        _print_line(run_document(run))
    elif run.state is RunState.RUNNING:
        say(screen, "warning", f"{run.id} was asked to stop, and still runs after {patience:g} s.")
    else:
        say(screen, run.state.value, f"{run.id}: {run.message}")
    sys.exit(1 if run.state is RunState.RUNNING else 0)


def _days(
    place: Workplace, day: str | None, first: str | None, last: str | None
) -> list[dt.date | None]:
    """The days that are asked for, the oldest first; None for the present one."""
    if first is None and last is None:
        return [_day("--day", day) if day else None]
    if day is not None or first is None:
        raise click.UsageError("Say --day, or --from and --to.")
    begins, ends = _day("--from", first), _day("--to", last) if last else place.today
    if ends < begins:
        raise click.UsageError(f"--to {ends} is before --from {begins}.")
    return [begins + dt.timedelta(days=number) for number in range((ends - begins).days + 1)]


def _day(option: str, text: str) -> dt.date:
    try:
        return dt.date.fromisoformat(text)
    except ValueError as error:
        raise click.UsageError(f"{option}: {text} is no day. Write it as 2026-11-30.") from error


def _carried_out(
    place: Workplace, prepared: PreparedRun, screen: Console, as_json: bool
) -> tuple[PreparedRun, Run]:
    """The run, and what it was prepared with.

    What waited behind a promotion runs what is live once that is done.
    """
    while True:
        reporter = _Lines() if as_json else _Progress(screen, prepared)
        try:
            return prepared, carry_out_run(place, prepared, reporter)
        except AnotherBundle:
            if not prepared.request.patience:
                raise
            prepared = prepare_run(place, prepared.request)
        except KeyboardInterrupt:
            reporter.close()
            stopped = f"{reporter.run} was stopped. See inchworm history {reporter.run}."
            click.echo(stopped, err=True)
            raise
        finally:
            reporter.close()


def _put_here(
    screen: Console, place: Workplace, name: str, where: str | None, as_json: bool
) -> str:
    """Put the working tree into one's own corner; the environment's name."""
    corner = own_corner(place, where)
    promotion = put_here(place, name, corner, Reporter())
    if as_json:
        return corner.name
    named = f"{corner.name} ({corner.protection})"
    if promotion is None:
        say(screen, "nothing to do", f"{named} has it as the tree has it")
    else:
        steps = counted(len(promotion.draft.steps), "step")
        say(screen, "done", f"{promotion.draft.bundle} is in {named}: {promotion.id}, {steps}")
    return corner.name


def _interrupt(number: int, frame: object) -> None:
    raise KeyboardInterrupt


def _agreed(prepared: PreparedRun) -> bool:
    """Whether a run in a protected environment is meant; others are not asked about."""
    environment = prepared.environment
    if not environment.protected:
        return True
    if not sys.stdin.isatty():
        raise UsageError(
            f"{environment.name} is protected, and nobody can be asked here.",
            where=environment.file,
            next="If this is meant, say --yes.",
        )
    typed = click.prompt(
        f"{environment.name} is protected. Type its name to run {prepared.plan.subject}",
        default="",
        show_default=False,
        err=True,
    )
    return bool(typed.strip() == environment.name)


# ---- what is shown -----------------------------------------------------------------------------


def _show_values(screen: Console, prepared: PreparedRun, as_json: bool) -> None:
    if as_json:
        _print_line({"event": "values", "values": dict(prepared.plan.values)})
        return
    screen.print(_title(prepared))
    screen.print()
    lines = [
        (name, value.text, "kept there; never shown" if value.type is Type.SECRET else "")
        for name, value in sorted(prepared.used.items())
    ]
    if lines:
        screen.print(rows(("value used", f"in {prepared.environment.name}", ""), lines))
    else:
        screen.print("It uses no values.")


def _title(prepared: PreparedRun) -> Text:
    environment = prepared.environment
    return Text.assemble(
        (str(prepared.plan.subject), "bold"),
        f" of {prepared.plan.bundle}, live in ",
        (environment.name, "bold"),
        " (",
        word(environment.protection),
        ")",
        f", for {prepared.plan.day}" if prepared.plan.day else "",
    )


def _show_end(screen: Console, prepared: PreparedRun, run: Run, seconds: float) -> None:
    screen.print()
    counts: dict[str, int] = {}
    for step in run.plan.steps:
        state = run.report_of(step).state.value
        counts[state] = counts.get(state, 0) + 1
    outcomes = ", ".join(f"{n} {state}" for state, n in counts.items())
    environment = prepared.environment
    warned = f", with {run.message}" if run.state is RunState.DONE and run.message else ""
    say(
        screen,
        run.state.value,
        f"{run.id}: {run.plan.subject} in {environment.name} ({environment.protection}){warned}; "
        f"steps: {outcomes}; {spell_seconds(seconds)}.",
    )
    for step in run.plan.steps:
        report = run.report_of(step)
        is_worth_saying = report.state in {StepState.FAILED, StepState.NOT_STARTED}
        if is_worth_saying or report.state.is_warning:
            say(screen, report.state.value, f"{spell_step(step)}: {report.message}")
            print_failing_rows(screen, step.part, report, environment.name, run.plan.bundle)
    for (part, name), value in run.measures.items():
        say(screen, "measured", f"{part}: {name} = {value:g}")
    if run.state is not RunState.DONE:
        screen.print(run.message)
        again = f"inchworm run {run.plan.subject} --in {environment.name} --since-failed"
        screen.print(f"next   See inchworm history {run.id}. Mend the reason, then go on: {again}")


class _Reporter(RunReporter):
    """A reporter that can be closed, and knows the run."""

    def __init__(self) -> None:
        self.run = ""

    def reached(self, run: Run, identity: str, at: str) -> None:
        """Remember the run's number."""
        self.run = str(run.id)

    def close(self) -> None:
        """Take away what stands on the screen only for a while."""


class _Lines(_Reporter):
    """A line of JSON for each thing that happens."""

    def reached(self, run: Run, identity: str, at: str) -> None:
        """The first line."""
        super().reached(run, identity, at)
        steps = [step_document(step, run.report_of(step)) for step in run.plan.steps]
        _print_line(
            {
                "event": "began",
                "format": "inchworm/run/1",
                "id": str(run.id),
                "environment": run.plan.environment,
                "identity": identity,
                "at": at,
                "steps": steps,
            }
        )

    def step_started(self, step: RunStep) -> None:
        """A line when a step begins."""
        _print_line({"event": "step began", "id": self.run, "number": step.number})

    def step_ended(self, step: RunStep, report: StepReport) -> None:
        """A line when a step has ended."""
        _print_line({"event": "step ended", "id": self.run, **step_document(step, report)})

    def waiting(self, why: str) -> None:
        """A line when somebody else works there."""
        _print_line({"event": "waiting", "because": why})


class _Progress(_Reporter):
    """One line per step when it ends; while it runs, how long already and how long usually."""

    def __init__(self, screen: Console, prepared: PreparedRun) -> None:
        super().__init__()
        steps = prepared.plan.steps
        self._screen = screen
        self._prepared = prepared
        width = max((len(spell_step(step)) for step in steps), default=0)
        self._lines = StepLines(screen, "", len(steps), width)

    def reached(self, run: Run, identity: str, at: str) -> None:
        """Say what runs, and who is at work where."""
        super().reached(run, identity, at)
        self._screen.print(Text.assemble((f"{run.id}  ", "bold"), _title(self._prepared)))
        self._screen.print(f"as {identity}, opened {shown_time(at)} UTC", style="dim")
        if run.plan.continues is not None:
            done = counted(len(self._prepared.done), "step")
            self._screen.print(f"goes on with R{run.plan.continues}: {done} done before")
        self._screen.print()

    def waiting(self, why: str) -> None:
        """Say once who is in the way."""
        say(self._screen, "waiting", f"{self._prepared.environment.name}: {why}")

    def step_started(self, step: RunStep) -> None:
        """Show the step while it runs, where that can be erased again."""
        usual = self._prepared.usual.get(step.number)
        self._lines.started(step.number, spell_step(step), usual)

    def step_ended(self, step: RunStep, report: StepReport) -> None:
        """One line for good."""
        self._lines.ended(step.number, spell_step(step), report)

    def close(self) -> None:
        """Take the running lines away, where there are any."""
        self._lines.close()


def _print_line(document: Mapping[str, object]) -> None:
    """Print a line; where nobody reads any more, the run goes on all the same."""
    try:
        sys.stdout.write(escaped(json.dumps(document, ensure_ascii=False)) + "\n")
        sys.stdout.flush()
    except BrokenPipeError:
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
