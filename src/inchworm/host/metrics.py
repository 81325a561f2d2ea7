"""The metrics of a host, in the OpenMetrics text format 1.0."""

from __future__ import annotations

import datetime as dt
from collections import Counter
from collections.abc import Iterable, Iterator

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
    runs = [run for run in runs if run.environment in names]
    yield "# TYPE inchworm_environment_readable gauge"
    yield "# HELP inchworm_environment_readable Whether the environment could be read last."
    for each in watched:
        readable = int(each.live is not None and not each.problem)
        yield f"inchworm_environment_readable{_labels(environment=each.name)} {readable}"
    yield "# TYPE inchworm_running gauge"
    yield "# HELP inchworm_running Runs at work."
    for each in watched:
        yield f"inchworm_running{_labels(environment=each.name)} {len(each.jobs)}"
    yield "# TYPE inchworm_not_begun gauge"
    yield "# HELP inchworm_not_begun Runs that were due or called for and could not begin."
    for each in watched:
        yield f"inchworm_not_begun{_labels(environment=each.name)} {len(each.not_begun)}"
    yield "# TYPE inchworm_runs counter"
    yield "# HELP inchworm_runs Runs that have ended, by how they ended."
    ended = [run for run in runs if run.state is not RunState.RUNNING]
    counts = Counter((r.environment, str(r.subject), _ending(r)) for r in ended)
    for (environment, name, state), count in sorted(counts.items()):
        labels = _labels(environment=environment, name=name, state=state)
        yield f"inchworm_runs_total{labels} {count}"
    yield "# TYPE inchworm_last_run_timestamp_seconds gauge"
    yield "# UNIT inchworm_last_run_timestamp_seconds seconds"
    yield "# HELP inchworm_last_run_timestamp_seconds When the last run began."
    last = {(r.environment, str(r.subject)): r for r in runs}
    for (environment, name), run in sorted(last.items()):
        began = dt.datetime.fromisoformat(run.began_at).timestamp()
        labels = _labels(environment=environment, name=name)
        yield f"inchworm_last_run_timestamp_seconds{labels} {began:.0f}"
    yield "# TYPE inchworm_last_success_timestamp_seconds gauge"
    yield "# UNIT inchworm_last_success_timestamp_seconds seconds"
    yield "# HELP inchworm_last_success_timestamp_seconds When the last run that succeeded ended."
    done = {(r.environment, str(r.subject)): r for r in ended if r.state is RunState.DONE}
    for (environment, name), run in sorted(done.items()):
        at = dt.datetime.fromisoformat(run.changed_at).timestamp()
        labels = _labels(environment=environment, name=name)
        yield f"inchworm_last_success_timestamp_seconds{labels} {at:.0f}"
    yield "# TYPE inchworm_last_run_duration_seconds gauge"
    yield "# UNIT inchworm_last_run_duration_seconds seconds"
    yield "# HELP inchworm_last_run_duration_seconds How long the last run that has ended took."
    timed = {(r.environment, str(r.subject)): r.took for r in ended if r.took is not None}
    for (environment, name), took in sorted(timed.items()):
        labels = _labels(environment=environment, name=name)
        yield f"inchworm_last_run_duration_seconds{labels} {took:.0f}"
    yield "# TYPE inchworm_paused gauge"
    yield "# HELP inchworm_paused Whether a schedule that is on is paused."
    for live in filter(None, (each.live for each in watched)):
        for schedule in live.schedules:
            if schedule.state == "on":
                labels = _labels(environment=live.environment.name, schedule=schedule.name)
                yield f"inchworm_paused{labels} {int(schedule.pause is not None)}"
    yield "# TYPE inchworm_due_timestamp_seconds gauge"
    yield "# UNIT inchworm_due_timestamp_seconds seconds"
    yield "# HELP inchworm_due_timestamp_seconds When a schedule that is on is due next."
    for live in filter(None, (each.live for each in watched)):
        for schedule in live.schedules:
            if schedule.starts:
                labels = _labels(environment=live.environment.name, schedule=schedule.name)
                for due in next_times(schedule.scheduled, now + live.ahead, 1):
                    at = (due - live.ahead).timestamp()
                    yield f"inchworm_due_timestamp_seconds{labels} {at:.0f}"


def _ending(run: RunSummary) -> str:
    """How it ended; one that is done and has something to say is not done without a word."""
    is_warned = run.state is RunState.DONE and run.message
    return "done with warnings" if is_warned else run.state.value


def _labels(**labels: str) -> str:
    quoted = ",".join(f'{name}="{_escaped(value)}"' for name, value in labels.items())
    return f"{{{quoted}}}"


def _escaped(value: str) -> str:
    return value.replace("\\", "\\\\").replace('"', '\\"').replace("\n", "\\n")
