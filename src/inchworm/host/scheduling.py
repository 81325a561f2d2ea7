"""Which runs a host starts, and when: worked out from what environments say, without any clock."""

from __future__ import annotations

import datetime as dt
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass

from inchworm.application.schedules import LiveEnvironment, LiveSchedule
from inchworm.core.running.schedules import Missed, latest_due


@dataclass(frozen=True, kw_only=True)
class Job:
    """A run that a host is going to start.

    Attributes:
        name: what runs.
        schedule: ``pipeline.schedule``; empty where somebody called for the run.
        due: when the schedule was due.
    """

    environment: str
    name: str
    schedule: str = ""
    due: dt.datetime | None = None

    @property
    def arguments(self) -> list[str]:
        """The arguments of the program that runs it."""
        command = ["run", self.name, "--in", self.environment, "--yes", "--json", "--wait", "10m"]
        if self.due is None:
            return [*command, "--started", "call"]
        return [*command, "--schedule", self.schedule, "--due", self.due.isoformat()]


def jobs_due(
    live: LiveEnvironment,
    since: dt.datetime,
    now: dt.datetime,
    considered: Mapping[str, dt.datetime],
) -> Iterator[tuple[LiveSchedule, dt.datetime, bool]]:
    """The schedules of an environment that are due, each with the time and whether it runs.

    Args:
        live: the environment; only schedules that are on count.
        since: when the host began to watch it. Earlier times were missed; they count only where a
            run for an earlier one of the same schedule is known.
        now: the present time.
        considered: by schedule, the latest due time that the host has dealt with already.
    """
    for schedule in live.schedules:
        if schedule.state != "on":
            continue
        known = [live.due_times.get(schedule.name), considered.get(schedule.name)]
        after = max((time for time in known if time is not None), default=since)
        due = latest_due(schedule.scheduled, after, now)
        if due is None:
            continue
        was_missed = due <= since
        yield schedule, due, not (was_missed and schedule.missed is Missed.SKIP)


def next_due(environments: Iterable[LiveEnvironment], now: dt.datetime) -> dt.datetime | None:
    """The next time at which any schedule that is on is due."""
    from inchworm.core.running.schedules import next_times

    times = [
        time
        for live in environments
        for schedule in live.schedules
        if schedule.state == "on"
        for time in next_times(schedule.scheduled, now, 1)
    ]
    return min(times, default=None)
