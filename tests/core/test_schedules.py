"""When schedules are due, held against every minute of the days around changes of the clock."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable
from itertools import pairwise
from zoneinfo import ZoneInfo

import pytest
from hypothesis import given
from hypothesis import strategies as st

from inchworm.core.lineage.facts import Scheduled
from inchworm.core.running.schedules import due_times, latest_due, next_times

ZONES = ("Europe/Dublin", "America/New_York", "Australia/Lord_Howe", "Asia/Kolkata", "UTC")
CHANGES = (
    dt.datetime(2026, 3, 29, 1, tzinfo=dt.UTC),
    dt.datetime(2026, 10, 25, 1, tzinfo=dt.UTC),
    dt.datetime(2026, 3, 8, 7, tzinfo=dt.UTC),
    dt.datetime(2026, 11, 1, 6, tzinfo=dt.UTC),
    dt.datetime(2026, 4, 4, 15, tzinfo=dt.UTC),
    dt.datetime(2026, 10, 3, 15, 30, tzinfo=dt.UTC),
)
"""Moments near which some of the zones put their clocks forward or back."""


def schedule(cron: str, zone: str) -> Scheduled:
    return Scheduled("s", cron, zone)


def until(cron: str, zone: str, after: dt.datetime, end: dt.datetime) -> list[dt.datetime]:
    found: list[dt.datetime] = []
    for due in due_times(schedule(cron, zone), after):
        if due > end:
            return found
        found.append(due)
    return found


def minutes(after: dt.datetime, end: dt.datetime) -> list[dt.datetime]:
    count = int((end - after).total_seconds() // 60)
    return [after + dt.timedelta(minutes=n) for n in range(1, count + 1)]


HOUR = dt.timedelta(hours=1)
DAYS = dt.timedelta(days=2)
BY_TIME: dict[str, Callable[[dt.datetime], bool]] = {
    "*/20 * * * *": lambda shown: shown.minute % 20 == 0,
    "7 */3 * * *": lambda shown: shown.minute == 7 and shown.hour % 3 == 0,
    "30 * * * 0": lambda shown: shown.minute == 30 and shown.isoweekday() == 7,
    "0,45 *  * * *": lambda shown: shown.minute in {0, 45},
}
"""Expressions, and what clocks show when they fit."""


@given(
    st.sampled_from(CHANGES),
    st.sampled_from(ZONES),
    st.sampled_from(list(BY_TIME)),
)
def test_what_goes_by_time_is_due_whenever_clocks_show_it(
    change: dt.datetime, zone: str, cron: str
) -> None:
    expected = [
        minute
        for minute in minutes(change - DAYS, change + DAYS)
        if BY_TIME[cron](minute.astimezone(ZoneInfo(zone)))
    ]
    assert until(cron, zone, change - DAYS, change + DAYS) == expected


@given(
    st.sampled_from(CHANGES),
    st.sampled_from(ZONES),
    st.integers(0, 23),
    st.integers(0, 59),
)
def test_a_certain_time_is_due_once_a_day(
    change: dt.datetime, zone: str, hour: int, minute: int
) -> None:
    after, end = change - 2 * DAYS, change + 2 * DAYS
    due = until(f"{minute} {hour} * * *", zone, after, end)
    assert due == sorted(set(due))
    wall = dt.time(hour, minute)
    for moment in due:
        shown = moment.astimezone(ZoneInfo(zone)).replace(tzinfo=None)
        if shown.time() != wall:  # clocks were put forward past it, just then
            before = (moment - dt.timedelta(minutes=1)).astimezone(ZoneInfo(zone))
            assert before.replace(tzinfo=None).time() < wall < shown.time()
            continue
        earlier = moment - dt.timedelta(hours=1)
        assert earlier.astimezone(ZoneInfo(zone)).replace(tzinfo=None) != shown, "the first counts"
    days = [moment.astimezone(ZoneInfo(zone)).date() for moment in due]
    assert all(other - one == dt.timedelta(days=1) for one, other in pairwise(days))
    assert len(days) in {7, 8, 9}


def test_a_time_that_does_not_exist_is_due_when_clocks_change() -> None:
    after = dt.datetime(2026, 3, 28, 12, tzinfo=dt.UTC)
    due = next_times(schedule("15 1 * * *", "Europe/Dublin"), after, 2)
    assert due == [
        dt.datetime(2026, 3, 29, 1, 0, tzinfo=dt.UTC),  # 02:00 there: there was no 01:15
        dt.datetime(2026, 3, 30, 0, 15, tzinfo=dt.UTC),
    ]


@pytest.mark.parametrize(
    ("zone", "change", "gap"),
    [
        ("Europe/Dublin", dt.datetime(2026, 3, 29, 1, 0, tzinfo=dt.UTC), 60),
        ("America/New_York", dt.datetime(2026, 3, 8, 7, 0, tzinfo=dt.UTC), 60),
        ("Australia/Lord_Howe", dt.datetime(2026, 10, 3, 15, 30, tzinfo=dt.UTC), 30),
    ],
)
def test_every_time_that_does_not_exist_is_due_at_the_same_moment(
    zone: str, change: dt.datetime, gap: int
) -> None:
    begin = (change - dt.timedelta(minutes=1)).astimezone(ZoneInfo(zone)).replace(tzinfo=None)
    for minute in range(1, gap + 1):
        wall = begin + minute * dt.timedelta(minutes=1)
        cron = f"{wall.minute} {wall.hour} * * *"
        assert next_times(schedule(cron, zone), change - 12 * HOUR, 1) == [change], cron


def test_a_time_that_comes_twice_is_due_the_first_time() -> None:
    after = dt.datetime(2026, 10, 24, 12, tzinfo=dt.UTC)
    due = next_times(schedule("15 1 * * *", "Europe/Dublin"), after, 2)
    assert due == [
        dt.datetime(2026, 10, 25, 0, 15, tzinfo=dt.UTC),
        dt.datetime(2026, 10, 26, 1, 15, tzinfo=dt.UTC),
    ]


def test_two_times_that_do_not_exist_are_due_once() -> None:
    after = dt.datetime(2026, 3, 28, 12, tzinfo=dt.UTC)
    due = next_times(schedule("15,45 1 * * *", "Europe/Dublin"), after, 2)
    assert due == [
        dt.datetime(2026, 3, 29, 1, 0, tzinfo=dt.UTC),
        dt.datetime(2026, 3, 30, 0, 15, tzinfo=dt.UTC),
    ]


def test_the_latest_of_those_that_passed() -> None:
    nightly = schedule("0 2 * * *", "UTC")
    day = dt.datetime(2026, 5, 1, tzinfo=dt.UTC)
    assert latest_due(nightly, day, day + dt.timedelta(hours=1)) is None
    assert latest_due(nightly, day, day + dt.timedelta(days=3, hours=2)) == dt.datetime(
        2026, 5, 4, 2, tzinfo=dt.UTC
    )
    assert latest_due(nightly, day, day + dt.timedelta(hours=2)) == day.replace(hour=2)


@pytest.mark.parametrize("zone", ZONES)
def test_times_come_in_order_for_years(zone: str) -> None:
    after = dt.datetime(2026, 1, 1, tzinfo=dt.UTC)
    due = next_times(schedule("5 1,2,3 * * *", zone), after, 3000)
    assert due == sorted(set(due))
