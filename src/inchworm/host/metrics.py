"""The metrics of a host, in the OpenMetrics text format 1.0."""

from __future__ import annotations

import datetime as dt
from collections import Counter
from collections.abc import Iterable, Iterator, Mapping

from inchworm.application.schedules import LiveEnvironment
from inchworm.core.ledger.runs import RunSummary
from inchworm.core.running.schedules import next_times
from inchworm.core.running.states import RunState
from inchworm.host.host import Watched


def metrics(watched: Iterable[Watched], runs: Iterable[RunSummary], now: dt.datetime) -> str:
    """Everything that a monitor may want to know of a host.

    Args:
        watched: its environments.
        runs: all runs of the ledger, the latest last.
        now: the present time, with a zone.
    """
    return "\n".join([*_lines(list(watched), list(runs), now), "# EOF", ""])


def _lines(watched: list[Watched], runs: list[RunSummary], now: dt.datetime) -> Iterator[str]:
    names = {each.name for each in watched}
    yield from _of_environments(watched)
    yield from _of_runs([run for run in runs if run.environment in names])
    yield from _of_schedules([each.live for each in watched if each.live is not None], now)


def _of_environments(watched: list[Watched]) -> Iterator[str]:
    yield from _gauge(
        "environment_readable",
        "Whether the environment could be read last.",
        [({"environment": w.name}, w.live is not None and not w.problem) for w in watched],
    )
    yield from _gauge(
        "running", "Runs at work.", [({"environment": w.name}, len(w.jobs)) for w in watched]
    )
    yield from _gauge(
        "not_begun",
        "Runs that were due or called for and could not begin.",
        [({"environment": w.name}, len(w.not_begun)) for w in watched],
    )


def _of_runs(runs: list[RunSummary]) -> Iterator[str]:
    ended = [run for run in runs if run.state is not RunState.RUNNING]
    yield "# TYPE inchworm_runs counter"
    yield "# HELP inchworm_runs Runs that have ended, by how they ended."
    counts = Counter((r.environment, str(r.subject), _ending(r)) for r in ended)
    for (environment, name, state), count in sorted(counts.items()):
        labels = _labels(environment=environment, name=name, state=state)
        yield f"inchworm_runs_total{labels} {count}"
    yield from _gauge(
        "last_run_timestamp_seconds",
        "When the last run began.",
        [(labels, _seconds(run.began_at)) for labels, run in _last_of_each(runs)],
    )
    succeeded = [run for run in ended if run.state is RunState.DONE]
    yield from _gauge(
        "last_success_timestamp_seconds",
        "When the last run that succeeded ended.",
        [(labels, _seconds(run.changed_at)) for labels, run in _last_of_each(succeeded)],
    )
    timed = [run for run in ended if run.took is not None]
    yield from _gauge(
        "last_run_duration_seconds",
        "How long the last run that has ended took.",
        [(labels, run.took or 0) for labels, run in _last_of_each(timed)],
    )


def _of_schedules(environments: list[LiveEnvironment], now: dt.datetime) -> Iterator[str]:
    on = [
        ({"environment": live.environment.name, "schedule": schedule.name}, live, schedule)
        for live in environments
        for schedule in live.schedules
        if schedule.state == "on"
    ]
    yield from _gauge(
        "paused",
        "Whether a schedule that is on is paused.",
        [(labels, schedule.pause is not None) for labels, _, schedule in on],
    )
    yield from _gauge(
        "due_timestamp_seconds",
        "When a schedule that is on is due next.",
        [
            (labels, (due - live.ahead).timestamp())
            for labels, live, schedule in on
            if schedule.starts
            for due in next_times(schedule.scheduled, now + live.ahead, 1)
        ],
    )


def _gauge(
    name: str, means: str, values: Iterable[tuple[Mapping[str, str], float]]
) -> Iterator[str]:
    """A number for each thing that has those labels; its name ends with its unit, if it has one."""
    yield f"# TYPE inchworm_{name} gauge"
    if name.endswith("_seconds"):
        yield f"# UNIT inchworm_{name} seconds"
    yield f"# HELP inchworm_{name} {means}"
    for labels, value in values:
        yield f"inchworm_{name}{_labels(**labels)} {value:.0f}"


def _last_of_each(runs: Iterable[RunSummary]) -> list[tuple[Mapping[str, str], RunSummary]]:
    """The latest run of each part in each environment, with the labels of that."""
    last = {(run.environment, str(run.subject)): run for run in runs}
    return [
        ({"environment": environment, "name": name}, run)
        for (environment, name), run in sorted(last.items())
    ]


def _seconds(moment: str) -> float:
    return dt.datetime.fromisoformat(moment).timestamp()


def _ending(run: RunSummary) -> str:
    """How it ended; one that is done and has something to say is not done without a word."""
    is_warned = run.state is RunState.DONE and run.message
    return "done with warnings" if is_warned else run.state.value


def _labels(**labels: str) -> str:
    quoted = ",".join(f'{name}="{_escaped(value)}"' for name, value in labels.items())
    return f"{{{quoted}}}"


def _escaped(value: str) -> str:
    return value.replace("\\", "\\\\").replace('"', '\\"').replace("\n", "\\n")
