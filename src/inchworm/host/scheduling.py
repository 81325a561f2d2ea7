"""Which runs a host starts, and when: worked out from what environments say, without any clock."""

from __future__ import annotations

import datetime as dt
from collections.abc import Iterable, Iterator, Mapping

from msgspec import Struct

from inchworm.application.schedules import LiveEnvironment, LiveSchedule
from inchworm.core.identifiers import Kind, PartId
from inchworm.core.running.copying import ListedFile
from inchworm.core.running.schedules import Missed, latest_due

_NOTHING_TRIED: Mapping[str, frozenset[ListedFile]] = {}


class Job(Struct, frozen=True, kw_only=True):
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
    tried: Mapping[str, frozenset[ListedFile]] = _NOTHING_TRIED,
) -> Iterator[tuple[LiveSchedule, dt.datetime, bool]]:
    """The schedules of an environment that are due, each with the time and whether it runs.

    Args:
        live: the environment; only schedules that are on count.
        since: when the host began to watch it. Earlier times were missed; they count only where a
            run for an earlier one of the same schedule is known.
        now: the present time.
        considered: by schedule, the latest due time that the host has dealt with already.
        tried: by schedule, the files for which the host has started a run already.
    """
    for schedule in live.schedules:
        if schedule.state != "on":
            continue
        known = [live.due_times.get(schedule.name), considered.get(schedule.name)]
        last = max((time for time in known if time is not None), default=None)
        if schedule.scheduled.arrives:
            due = _arrived(schedule, live, last, now, tried.get(schedule.name, frozenset()))
        else:
            due = _due(schedule, live, last or since, now)
        if due is None:
            continue
        was_missed = due <= since and not schedule.scheduled.arrives  # files wait, and can be taken
        yield schedule, due, not (was_missed and schedule.missed is Missed.SKIP)


def _due(
    schedule: LiveSchedule, live: LiveEnvironment, after: dt.datetime, now: dt.datetime
) -> dt.datetime | None:
    """The latest time after one at which a schedule was due; None where it was not."""
    scheduled = schedule.scheduled
    if scheduled.cron:
        return latest_due(scheduled, after, now)
    ended = live.ended.get(PartId(Kind.PIPELINE, scheduled.after))
    return ended if ended is not None and ended > after else None


def _arrived(
    schedule: LiveSchedule,
    live: LiveEnvironment,
    last: dt.datetime | None,
    now: dt.datetime,
    tried: frozenset[ListedFile],
) -> dt.datetime | None:
    """When a schedule that waits for files was due; None where it was not.

    It is due when there are files for which no run was started yet: when the last of them was
    written, or now, where a run for that time was started before.
    """
    scheduled = schedule.scheduled
    new = [file for file in live.arrived.get(scheduled.arrives, ()) if file not in tried]
    if not new:
        return None
    written = [dt.datetime.fromisoformat(file.changed_at) for file in new if file.changed_at]
    latest = max(written, default=now)
    return latest if latest <= now and (last is None or last < latest) else now


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
