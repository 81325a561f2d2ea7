"""Which runs a host starts, and when: worked out from what environments say, without any clock."""

from __future__ import annotations

import datetime as dt
from collections.abc import Iterator, Mapping

from msgspec import Struct
from msgspec.structs import replace

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
        due: when the schedule was due; None also where it was by a clock that was moved: no
            environment remembers that.
    """

    environment: str
    name: str
    schedule: str = ""
    due: dt.datetime | None = None

    def repeats(self, other: Job) -> bool:
        """Whether it runs the same for the same schedule, or call, whenever each was due."""
        return replace(self, due=None) == replace(other, due=None)

    @property
    def arguments(self) -> list[str]:
        """The arguments of the program that runs it."""
        command = ["run", self.name, "--in", self.environment, "--yes", "--json", "--wait", "10m"]
        if self.due is None:
            return [*command, "--started", self.schedule or "call"]
        return [*command, "--schedule", self.schedule, "--due", self.due.isoformat()]


def jobs_due(
    live: LiveEnvironment,
    since: dt.datetime,
    now: dt.datetime,
    considered: Mapping[str, dt.datetime],
    tried: Mapping[str, frozenset[ListedFile]] = _NOTHING_TRIED,
    since_by_clock: dt.datetime | None = None,
) -> Iterator[tuple[LiveSchedule, dt.datetime, bool]]:
    """The schedules of an environment that are due, each with the time and whether it runs.

    Args:
        live: the environment; only schedules that are on count.
        since: when the host began to watch it. Earlier times were missed; they count only where a
            run for an earlier one of the same schedule is known.
        now: the present time.
        considered: by schedule, the latest due time that the host has dealt with already.
        tried: by schedule, the files for which the host has started a run already.
        since_by_clock: when it began to watch, by the environment's own clock, where that is
            another one; ``cron`` goes by that.
    """
    for schedule in live.schedules:
        if not schedule.starts:
            continue
        began, last = since, _last(schedule, live, considered)
        if schedule.scheduled.cron:
            began = since_by_clock or since
            due = latest_due(schedule.scheduled, last or began, now + live.ahead)
        elif schedule.scheduled.arrives:
            due = _arrived(schedule, live, last, now, tried.get(schedule.name, frozenset()))
        else:
            due = _ended(schedule, live, last or began)
        if due is None:
            continue
        if schedule.paused_until is not None:  # what was due in a pause was missed
            began = max(began, schedule.paused_until + live.ahead)
        was_missed = due <= began and not schedule.scheduled.arrives  # files wait, and can be taken
        yield schedule, due, not (was_missed and schedule.missed is Missed.SKIP)


def _last(
    schedule: LiveSchedule, live: LiveEnvironment, considered: Mapping[str, dt.datetime]
) -> dt.datetime | None:
    """The latest due time that was dealt with; by a moved clock, only the host knows it."""
    known = [considered.get(schedule.name)]
    if not (schedule.scheduled.cron and live.ahead):
        known.append(live.due_times.get(schedule.name))
    return max((time for time in known if time is not None), default=None)


def _ended(schedule: LiveSchedule, live: LiveEnvironment, after: dt.datetime) -> dt.datetime | None:
    """When the pipeline ended that a schedule comes behind; None where that was before."""
    ended = live.ended.get(PartId(Kind.PIPELINE, schedule.scheduled.after))
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
