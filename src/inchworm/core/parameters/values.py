"""Values of parameters: their types, how a cell becomes one, and how one is spelled."""

from __future__ import annotations

import datetime as dt
import re
from collections.abc import Callable, Mapping
from decimal import Decimal, InvalidOperation
from enum import StrEnum
from typing import Any
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

from msgspec import Struct

_TODAY = re.compile(r"^\s*today\s*(?:([+-])\s*(\d+)\s*([dw]))?\s*$")
_SIZE = re.compile(r"(\d+(?:\.\d+)?)\s*(?:([kKmMgGtT])(i)?)?[bB]?")
_DURATION = re.compile(
    r"^(?:P(?:(\d+)W)?(?:(\d+)D)?(?:T(?:(\d+)H)?(?:(\d+)M)?(?:(\d+)S)?)?"
    r"|(?:(\d+)w)?\s*(?:(\d+)d)?\s*(?:(\d+)h)?\s*(?:(\d+)m)?\s*(?:(\d+)s)?)$"
)
_SECRET = re.compile(r"^[a-z][a-z0-9_-]*:\S+$")


class Type(StrEnum):
    """The types that a parameter may have."""

    TEXT = "text"
    INTEGER = "integer"
    NUMBER = "number"
    FLAG = "flag"
    DATE = "date"
    TIMESTAMP = "timestamp"
    DURATION = "duration"
    CHOICE = "choice"
    SECRET = "secret"


Plain = str | int | Decimal | bool | dt.date | dt.datetime | dt.timedelta | None


class Value(Struct, frozen=True, kw_only=True):
    """What a parameter is in one environment; of a secret, only the reference.

    ``plain`` is None for an optional parameter without a value there: NULL in SQL, and in a
    document the setting is left out.
    """

    type: Type
    plain: Plain

    @property
    def text(self) -> str:
        """The one spelling of the value, as shown, substituted and digested."""
        match self.plain:
            case None:
                return ""
            case bool():
                return "true" if self.plain else "false"
            case dt.datetime():
                return self.plain.isoformat(sep=" ")
            case dt.date():
                return self.plain.isoformat()
            case dt.timedelta():
                return spell_duration(self.plain)
        return str(self.plain)

    def to_json(self) -> str | int | float | bool | None:
        """The value inside a JSON document, where ``"${name}"`` is the whole string."""
        if self.plain is None or isinstance(self.plain, bool | int):
            return self.plain
        return float(self.plain) if isinstance(self.plain, Decimal) else self.text


class Domain(Struct, frozen=True, kw_only=True):
    """Which values a parameter may have.

    Attributes:
        one_of: the choices, as text.
        at_least, at_most: bounds for numbers, durations, dates and timestamps, both included.
        matches: a regular expression that a text must match as a whole.
        shortest, longest: how many letters a text may have.
        zone: the time zone of timestamps that say none.
    """

    type: Type
    one_of: tuple[str, ...] = ()
    at_least: Any = None
    at_most: Any = None
    matches: str | None = None
    shortest: int | None = None
    longest: int | None = None
    zone: str | None = None

    def fault(self) -> str | None:
        """The faults of the domain itself, in words."""
        if self.type is Type.CHOICE and not self.one_of:
            return "a choice needs one_of = [...]"
        if self.matches is not None:
            try:
                re.compile(self.matches)
            except re.error as error:
                return f"matches = {self.matches!r} is no regular expression: {error}"
        if self.zone is not None:
            try:
                ZoneInfo(self.zone)
            except (ZoneInfoNotFoundError, ValueError, OSError):
                return f"zone = {self.zone!r} is not a time zone"
        for bound in (self.at_least, self.at_most):
            if bound is not None and self.type not in _BOUNDED:
                return f"a {self.type.value} has no bounds"
        return None

    def convert(self, cell: Any, today: dt.date) -> Value:
        """A cell as a typed value.

        Args:
            cell: what the file says.
            today: the day that ``today`` means in a cell.

        Raises:
            ValueError: with a sentence that says what was expected and what is there.
        """
        fault = self.fault()
        if fault is not None:
            raise ValueError(fault)
        plain = _CONVERT[self.type](cell, today)
        if isinstance(plain, dt.datetime) and plain.tzinfo is None and self.zone is not None:
            plain = plain.replace(tzinfo=ZoneInfo(self.zone))
        value = Value(type=self.type, plain=plain)
        if self.one_of and str(plain) not in self.one_of:
            raise ValueError(f"{cell!r} is none of {', '.join(self.one_of)}")
        self._check_bounds(value, today)
        if isinstance(plain, str) and self.type is Type.TEXT:
            self._check_text(plain)
        return value

    def parse(self, text: str, today: dt.date) -> Value:
        """A value from text, such as an argument of a command.

        Raises:
            ValueError: with a sentence that says what was expected and what is there.
        """
        return self.convert(self.cell_of(text), today)

    def cell_of(self, text: str) -> Any:
        """Text as the cell that a file would have for it.

        Raises:
            ValueError: when it is none of this type.
        """
        match self.type:
            case Type.INTEGER:
                if not re.fullmatch(r"[+-]?\d+", text):
                    raise ValueError(f"{text!r} is not a whole number")
                return int(text)
            case Type.NUMBER:
                try:
                    return Decimal(text)
                except InvalidOperation as error:
                    raise ValueError(f"{text!r} is not a number") from error
            case Type.FLAG:
                if text not in {"true", "false"}:
                    raise ValueError(f"{text!r} is not true or false")
                return text == "true"
        return text

    def _check_bounds(self, value: Value, today: dt.date) -> None:
        unbounded = Domain(type=self.type, zone=self.zone)
        plain: Any = value.plain
        if self.at_least is not None:
            least = unbounded.convert(self.at_least, today)
            if _comparable(value, least) and plain < least.plain:
                raise ValueError(f"{value.text} is below {least.text}")
        if self.at_most is not None:
            most = unbounded.convert(self.at_most, today)
            if _comparable(value, most) and plain > most.plain:
                raise ValueError(f"{value.text} is above {most.text}")

    def _check_text(self, text: str) -> None:
        if self.shortest is not None and len(text) < self.shortest:
            raise ValueError(f"{text!r} is shorter than {self.shortest} letters")
        if self.longest is not None and len(text) > self.longest:
            raise ValueError(f"{text[:40]!r} is longer than {self.longest} letters")
        if self.matches is not None and not re.fullmatch(self.matches, text):
            raise ValueError(f"{text!r} does not match {self.matches}")


def _comparable(value: Value, bound: Value) -> bool:
    """True, unless one of two timestamps says a zone and the other does not.

    Raises:
        ValueError: when that is so.
    """
    one, other = value.plain, bound.plain
    if isinstance(one, dt.datetime) and isinstance(other, dt.datetime):
        zoned, plain = (value, bound) if one.tzinfo else (bound, value)
        if (one.tzinfo is None) is not (other.tzinfo is None):
            raise ValueError(
                f"{zoned.text} says a zone and {plain.text} says none, so they cannot be compared;"
                ' write the zone with both, or zone = "Europe/Dublin" in the row'
            )
    return True


_BOUNDED = frozenset({Type.INTEGER, Type.NUMBER, Type.DATE, Type.TIMESTAMP, Type.DURATION})


def spell_duration(duration: dt.timedelta) -> str:
    """``1h30m`` for 90 minutes; ``0s`` for nothing."""
    seconds = int(duration.total_seconds())
    days, seconds = divmod(seconds, 86_400)
    hours, seconds = divmod(seconds, 3_600)
    minutes, seconds = divmod(seconds, 60)
    parts = [(days, "d"), (hours, "h"), (minutes, "m"), (seconds, "s")]
    return "".join(f"{count}{unit}" for count, unit in parts if count) or "0s"


def spell_ahead(ahead: dt.timedelta) -> str:
    """``1h30m ahead``, or ``behind``, of a clock."""
    return f"{spell_duration(abs(ahead))} {'ahead' if ahead >= dt.timedelta() else 'behind'}"


def read_duration(text: str) -> dt.timedelta:
    """``10m``, ``1h30m`` or ISO 8601's ``PT10M``.

    Raises:
        ValueError: when the text is none of these.
    """
    match = _DURATION.match(text.strip())
    if not match or not any(match.groups()):
        raise ValueError(f"{text!r} is not a duration such as 10m, 1h30m or PT10M")
    numbers = [int(group or 0) for group in match.groups()]
    weeks, days, hours, minutes, seconds = map(sum, zip(numbers[:5], numbers[5:], strict=True))
    try:
        return dt.timedelta(weeks=weeks, days=days, hours=hours, minutes=minutes, seconds=seconds)
    except OverflowError as error:
        raise ValueError(f"{text!r} is longer than {dt.timedelta.max.days:,} days") from error


def read_size(text: str) -> int:
    """Bytes: ``512 MB``, ``2GB`` (powers of 1000), ``2 GiB`` (powers of 1024), or a number.

    Raises:
        ValueError: when the text is none of these.
    """
    match = _SIZE.fullmatch(text.strip())
    if not match:
        raise ValueError(f"{text!r} is not a size such as 512 MB, 2 GB or 2 GiB")
    number, letter, binary = match.groups()
    step = 1024 if binary else 1000
    return int(float(number) * step ** (" kmgt".index(letter.lower()) if letter else 0))


def _text(cell: Any, today: dt.date) -> str:
    if not isinstance(cell, str):
        raise ValueError(f"{cell!r} is not text; put it in quotes")
    return cell


def _integer(cell: Any, today: dt.date) -> int:
    if isinstance(cell, bool) or not isinstance(cell, int):
        raise ValueError(f"{cell!r} is not a whole number")
    return cell


def _number(cell: Any, today: dt.date) -> Decimal:
    if isinstance(cell, bool) or not isinstance(cell, int | float | Decimal):
        raise ValueError(f"{cell!r} is not a number")
    try:
        number = Decimal(str(cell))
    except InvalidOperation as error:
        raise ValueError(f"{cell!r} is not a number") from error
    if not number.is_finite():
        raise ValueError(f"{cell!r} is not a finite number")
    return number


def _flag(cell: Any, today: dt.date) -> bool:
    if not isinstance(cell, bool):
        raise ValueError(f"{cell!r} is not true or false")
    return cell


def _relative(cell: str, today: dt.date) -> dt.date | None:
    """``today - 30d`` and the like."""
    match = _TODAY.match(cell)
    if match is None:
        return None
    sign, count, unit = match.groups()
    days = int(count or 0) * (7 if unit == "w" else 1)
    try:
        return today + dt.timedelta(days=-days if sign == "-" else days)
    except OverflowError as error:
        raise ValueError(f"{cell!r} is no day between the years 1 and 9999") from error


def _date(cell: Any, today: dt.date) -> dt.date:
    if isinstance(cell, dt.date) and not isinstance(cell, dt.datetime):
        return cell
    if isinstance(cell, str):
        relative = _relative(cell, today)
        if relative is not None:
            return relative
        try:
            return dt.date.fromisoformat(cell)
        except ValueError:
            pass
    raise ValueError(f"{cell!r} is not a date such as 2026-10-24 or today - 30d")


def _timestamp(cell: Any, today: dt.date) -> dt.datetime:
    if isinstance(cell, dt.datetime):
        return cell
    if isinstance(cell, str):
        relative = _relative(cell, today)
        if relative is not None:
            return dt.datetime.combine(relative, dt.time())
        try:
            return dt.datetime.fromisoformat(cell)
        except ValueError:
            pass
    raise ValueError(f"{cell!r} is not a timestamp such as 2026-10-24 06:00:00")


def _duration(cell: Any, today: dt.date) -> dt.timedelta:
    return read_duration(_text(cell, today))


def _secret(cell: Any, today: dt.date) -> str:
    if not isinstance(cell, str) or not _SECRET.match(cell):
        raise ValueError(
            "a secret is only a reference, such as env:NAME, file:PATH or secret:PATH#KEY"
        )
    return cell


_CONVERT: Mapping[Type, Callable[[Any, dt.date], Plain]] = {
    Type.TEXT: _text,
    Type.CHOICE: _text,
    Type.INTEGER: _integer,
    Type.NUMBER: _number,
    Type.FLAG: _flag,
    Type.DATE: _date,
    Type.TIMESTAMP: _timestamp,
    Type.DURATION: _duration,
    Type.SECRET: _secret,
}
