"""Times in which nothing enters an environment: hours of each day or week, and days of a year."""

from __future__ import annotations

import datetime as dt
import re
from collections.abc import Iterable

from msgspec import Struct

_DAYS = ("mon", "tue", "wed", "thu", "fri", "sat", "sun")
_CLOCK = r"(?:(?P<{0}day>mon|tue|wed|thu|fri|sat|sun)\s+)?(?P<{0}hour>\d\d):(?P<{0}minute>\d\d)"
_HOURS = re.compile(rf"{_CLOCK.format('a')}\s*-\s*{_CLOCK.format('b')}")
_DATES = re.compile(r"(?P<a>\d{4}-\d\d-\d\d)(?:\s+-\s+(?P<b>\d{4}-\d\d-\d\d))?")
_DAY = 24 * 60
_WEEK = 7 * _DAY


class ClosedHours(Struct, frozen=True):
    """A time that comes again and again.

    Attributes:
        begins: minutes from the beginning of the day or week.
        ends: the same; before ``begins`` where the time goes over into the next one.
        every: the minutes after which it comes again: a day's, or a week's.
    """

    begins: int
    ends: int
    every: int

    def holds(self, at: dt.datetime) -> bool:
        """Whether a local time lies in it; its end does not."""
        minute = at.hour * 60 + at.minute
        if self.every == _WEEK:
            minute += at.weekday() * _DAY
        if self.begins <= self.ends:
            return self.begins <= minute < self.ends
        return minute >= self.begins or minute < self.ends


class ClosedDays(Struct, frozen=True):
    """Days of the calendar, the first and the last included."""

    first: dt.date
    last: dt.date

    def holds(self, at: dt.datetime) -> bool:
        """Whether a local time lies in it."""
        return self.first <= at.date() <= self.last


def closed_time(text: str) -> ClosedHours | ClosedDays:
    """``fri 15:00 - mon 07:00``, ``22:00 - 06:00``, ``2026-12-24 - 2027-01-02``, ``2026-12-25``.

    Raises:
        ValueError: when the text is none of these.
    """
    wrong = ValueError(f"{text!r} is not a time such as fri 15:00 - mon 07:00, or 2026-12-25")
    if days := _DATES.fullmatch(text.strip()):
        first = dt.date.fromisoformat(days["a"])
        last = dt.date.fromisoformat(days["b"]) if days["b"] else first
        if last < first:
            raise wrong
        return ClosedDays(first, last)
    hours = _HOURS.fullmatch(text.strip().lower())
    if hours is None or (hours["aday"] is None) is not (hours["bday"] is None):
        raise wrong
    return ClosedHours(
        _minutes(hours, "a", wrong),
        _minutes(hours, "b", wrong),
        _DAY if hours["aday"] is None else _WEEK,
    )


def _minutes(match: re.Match[str], which: str, wrong: ValueError) -> int:
    hour, minute = int(match[f"{which}hour"]), int(match[f"{which}minute"])
    if hour > 23 or minute > 59:
        raise wrong
    day = match[f"{which}day"]
    return (_DAYS.index(day) * _DAY if day else 0) + hour * 60 + minute


def closed_by(texts: Iterable[str], at: dt.datetime) -> str | None:
    """The first of some times that a local time lies in; None when it is open."""
    return next((text for text in texts if closed_time(text).holds(at)), None)
