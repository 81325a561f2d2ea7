"""When schedules are due: cron expressions in time zones, right across daylight-saving changes.

The rules are those that cron has had since Vixie's version 4. A schedule with certain hours is due
once on each day that fits: a time that does not exist, because clocks are put forward past it, is
due at the moment of the change; of a time that comes twice, the first counts. A schedule whose hour
begins with ``*`` is due by the time that passes: whenever clocks show a time that fits.
"""

from __future__ import annotations

import datetime as dt
from bisect import bisect_left
from collections.abc import Iterator
from enum import StrEnum
from heapq import heappop, heappush
from itertools import islice
from zoneinfo import ZoneInfo

from inchworm.core.lineage.facts import Scheduled

_SECOND = dt.timedelta(seconds=1)
_LONGEST_SHIFT = dt.timedelta(days=1)
"""No clock was ever put forward or back by more."""


class Missed(StrEnum):
    """What becomes of a time that passed while nobody ran schedules."""

    RUN_ONCE = "run once"
    """However many passed, the pipeline runs once."""
    SKIP = "skip"


def due_times(schedule: Scheduled, after: dt.datetime) -> Iterator[dt.datetime]:
    """The times at which a schedule is due, without end, in UTC.

    Args:
        schedule: the cron expression of five fields, and its zone.
        after: a time with a zone; only later ones count.

    Raises:
        CroniterBadDateError: when the expression never comes.
    """
    zone = ZoneInfo(schedule.timezone)
    passes = schedule.cron.split()[1].startswith("*")
    local = after.astimezone(zone).replace(tzinfo=None)
    waiting: list[dt.datetime] = []
    last = after.astimezone(dt.UTC)
    for wall in _wall_times(schedule.cron, local - _LONGEST_SHIFT):
        moments = _passing(wall, zone) if passes else [_fixed(wall, zone)]
        # whatever comes of later wall times is not before the first moment of this one
        while moments and waiting and waiting[0] <= moments[0]:
            due = heappop(waiting)
            if due > last:
                last = due
                yield due
        for moment in moments:
            heappush(waiting, moment)


def next_times(schedule: Scheduled, after: dt.datetime, count: int) -> list[dt.datetime]:
    """The next times at which a schedule is due, in UTC; none where no clock starts it."""
    if not schedule.cron:
        return []
    return list(islice(due_times(schedule, after), count))


def latest_due(schedule: Scheduled, since: dt.datetime, until: dt.datetime) -> dt.datetime | None:
    """The latest time after ``since`` and not after ``until`` at which a schedule was due."""
    latest = None
    for due in due_times(schedule, since):
        if due > until:
            break
        latest = due
    return latest


def _wall_times(cron: str, after: dt.datetime) -> Iterator[dt.datetime]:
    """What clocks on the wall show when an expression fits, without any zone."""
    from croniter import croniter

    times = croniter(cron, after, ret_type=dt.datetime)
    while True:
        wall: dt.datetime = times.get_next()
        yield wall


def _passing(wall: dt.datetime, zone: ZoneInfo) -> list[dt.datetime]:
    """Every moment at which clocks show a time: none, one or two."""
    moments = {wall.replace(tzinfo=zone, fold=fold).astimezone(dt.UTC) for fold in (0, 1)}
    shown = [m for m in moments if m.astimezone(zone).replace(tzinfo=None) == wall]
    return sorted(shown)


def _fixed(wall: dt.datetime, zone: ZoneInfo) -> dt.datetime:
    """The first moment at which clocks show a time, or else that at which they pass it."""
    moments = _passing(wall, zone)
    if moments:
        return moments[0]
    # the offset before the change puts it behind the change, and the one after it before
    late, early = (wall.replace(tzinfo=zone, fold=fold).astimezone(dt.UTC) for fold in (0, 1))
    before = early.astimezone(zone).utcoffset()

    def is_changed(seconds: int) -> bool:
        return (early + seconds * _SECOND).astimezone(zone).utcoffset() != before

    return early + bisect_left(range((late - early) // _SECOND), True, key=is_changed) * _SECOND
