"""Parameters: one typed value per environment, and secrets that are only references.

A value is converted once, here, from what ``parameters.toml`` says; from then on it is a
:class:`Value`, which knows its type and has one spelling.
"""

from __future__ import annotations

import datetime as dt
import re
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, field
from decimal import Decimal, InvalidOperation
from enum import StrEnum
from typing import Any

from inchworm.core.checks import rules
from inchworm.core.errors import did_you_mean
from inchworm.core.findings import Finding
from inchworm.core.toml import TomlDocument

FILE = "parameters.toml"

_REFERENCE = re.compile(r"\$\{([^}]*)\}")
_TODAY = re.compile(r"^\s*today\s*(?:([+-])\s*(\d+)\s*([dw]))?\s*$")
_DURATION = re.compile(
    r"^(?:P(?:(\d+)D)?(?:T(?:(\d+)H)?(?:(\d+)M)?(?:(\d+)S)?)?|(?:(\d+)d)?\s*(?:(\d+)h)?\s*(?:(\d+)m)?\s*(?:(\d+)s)?)$"
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


Plain = str | int | Decimal | bool | dt.date | dt.datetime | dt.timedelta


@dataclass(frozen=True, kw_only=True)
class Value:
    """What a parameter is in one environment; of a secret, only the reference."""

    type: Type
    plain: Plain

    @property
    def text(self) -> str:
        """The one spelling of the value, as shown, substituted and digested."""
        match self.plain:
            case bool():
                return "true" if self.plain else "false"
            case dt.datetime():
                return self.plain.isoformat(sep=" ")
            case dt.date():
                return self.plain.isoformat()
            case dt.timedelta():
                return spell_duration(self.plain)
        return str(self.plain)

    def to_json(self) -> str | int | float | bool:
        """The value inside a JSON document, where ``"${name}"`` is the whole string."""
        if isinstance(self.plain, bool | int):
            return self.plain
        return float(self.plain) if isinstance(self.plain, Decimal) else self.text


@dataclass(frozen=True, kw_only=True)
class Parameter:
    """One row of the matrix, as declared."""

    name: str
    type: Type
    about: str = ""
    cells: Mapping[str, Any] = field(default_factory=dict)
    """What the file says for each environment, unconverted."""
    every: Any = None
    must_differ: bool = False
    one_of: tuple[str, ...] = ()
    line: int | None = None
    lines: Mapping[str, int | None] = field(default_factory=dict)

    def cell(self, environment: str) -> Any:
        """What is declared for an environment, or None."""
        return self.cells.get(environment, self.every)


Matrix = Mapping[str, Parameter]

_SETTINGS = {"type", "about", "every", "must_differ", "one_of", "unit"}


def read_matrix(
    document: TomlDocument, environments: Iterable[str] | None
) -> tuple[dict[str, Parameter], list[Finding]]:
    """The matrix that ``parameters.toml`` declares, and everything that is wrong with its form.

    ``environments`` are those that may have values; None when all may, as in a bundle, which does
    not know them.
    """
    known = None if environments is None else list(environments)
    matrix: dict[str, Parameter] = {}
    findings: list[Finding] = []
    for name, row in document.values.items():
        line = document.line_of((name,))
        if not isinstance(row, dict):
            findings.append(_wrong(line, f"{name} is not a table", f"Write [{name}] with a type."))
            continue
        kind = row.get("type")
        if not isinstance(kind, str) or kind not in list(Type):
            types = ", ".join(Type)
            near = did_you_mean(str(kind), list(Type), f"Give it a type: {types}.")
            said = f"has no type {kind!r}" if kind is not None else "has no type"
            findings.append(_wrong(document.line_of((name, "type")), f"{name} {said}", near))
            continue
        cells = {key: cell for key, cell in row.items() if key not in _SETTINGS}
        for key in [key for key in cells if known is not None and key not in known]:
            near = did_you_mean(
                key, [*(known or ()), *_SETTINGS], "Remove it, or add the environment."
            )
            findings.append(
                _wrong(document.line_of((name, key)), f"{name}.{key} is no environment", near)
            )
            del cells[key]
        matrix[name] = Parameter(
            name=name,
            type=Type(kind),
            about=str(row.get("about", "")),
            cells=cells,
            every=row.get("every"),
            must_differ=bool(row.get("must_differ", False)),
            one_of=tuple(str(choice) for choice in row.get("one_of", ())),
            line=line,
            lines={key: document.line_of((name, key)) for key in [*cells, "every"]},
        )
    return matrix, findings


@dataclass(frozen=True, kw_only=True)
class Values:
    """All values of one environment, and what could not be found or converted."""

    environment: str
    values: Mapping[str, Value]
    problems: tuple[Finding, ...] = ()


def evaluate(matrix: Matrix, environment: str, today: dt.date) -> Values:
    """Every parameter's value in an environment.

    Args:
        matrix: the declared rows.
        environment: the environment's name.
        today: the day that ``today`` means in a cell.
    """
    done: dict[str, Value] = {}
    problems: list[Finding] = []

    def value_of(name: str, path: tuple[str, ...]) -> Value | None:
        if name in done:
            return done[name]
        row = matrix[name]
        where = row.lines.get(environment) or row.lines.get("every") or row.line
        if name in path:
            loop = " -> ".join([*path[path.index(name) :], name])
            problems.append(
                _wrong(where, f"values refer to each other in a circle: {loop}", "Break it.")
            )
            return None
        cell = row.cell(environment)
        if cell is None:
            problems.append(
                _wrong(
                    row.line,
                    f"{name} has no value for {environment}",
                    f"Add {environment} = ... under [{name}], or every = ...",
                    rule=rules.MISSING_VALUE,
                )
            )
            return None
        if isinstance(cell, str) and row.type is not Type.SECRET:
            for other in _REFERENCE.findall(cell):
                if other not in matrix:
                    near = did_you_mean(other, matrix, "Declare it.")
                    problems.append(
                        _wrong(where, f"{name} uses {other}, which is not declared", near)
                    )
                    return None
                inner = value_of(other, (*path, name))
                if inner is None:
                    return None
                cell = cell.replace("${" + other + "}", inner.text)
        try:
            done[name] = convert(cell, row, today)
        except ValueError as error:
            problems.append(
                _wrong(
                    where,
                    f"{name} for {environment}: {error}",
                    f"Write a value of type {row.type.value}.",
                    rule=rules.MISTYPED_VALUE,
                )
            )
            return None
        return done[name]

    for name in matrix:
        value_of(name, ())
    return Values(environment=environment, values=done, problems=tuple(dict.fromkeys(problems)))


def convert(cell: Any, row: Parameter, today: dt.date) -> Value:
    """A cell as a typed value.

    Raises:
        ValueError: with a sentence that says what was expected and what is there.
    """
    plain = _CONVERT[row.type](cell, today)
    if row.one_of and str(plain) not in row.one_of:
        raise ValueError(f"{cell!r} is none of {', '.join(row.one_of)}")
    if row.type is Type.CHOICE and not row.one_of:
        raise ValueError("a choice needs one_of = [...]")
    return Value(type=row.type, plain=plain)


def same_everywhere(matrix: Matrix, by_environment: Iterable[Values]) -> list[Finding]:
    """Rows that say ``must_differ`` and yet have one value in two environments."""
    findings = []
    values = list(by_environment)
    for row in matrix.values():
        if not row.must_differ:
            continue
        seen: dict[str, str] = {}
        for each in values:
            value = each.values.get(row.name)
            if value is None:
                continue
            if value.text in seen:
                findings.append(
                    _wrong(
                        row.lines.get(each.environment) or row.line,
                        f"{row.name} must differ, but {seen[value.text]} and {each.environment} "
                        f"share {value.text}",
                        f"Give {each.environment} a value of its own.",
                        rule=rules.MUST_DIFFER,
                    )
                )
            seen.setdefault(value.text, each.environment)
    return findings


def references(text: str) -> list[str]:
    """The parameters that ``${...}`` names in a text, in order."""
    return [str(name) for name in _REFERENCE.findall(text)]


def substitute(document: Any, values: Mapping[str, Value]) -> Any:
    """A parsed document with every ``${name}`` replaced; the document's structure cannot change.

    A string that is nothing but one reference becomes the typed value.

    Raises:
        KeyError: with the name of a parameter that has no value.
    """
    match document:
        case dict():
            return {key: substitute(item, values) for key, item in document.items()}
        case list():
            return [substitute(item, values) for item in document]
        case str():
            whole = _REFERENCE.fullmatch(document)
            if whole:
                return values[whole.group(1)].to_json()
            return _REFERENCE.sub(lambda match: values[match.group(1)].text, document)
    return document


def spell_duration(duration: dt.timedelta) -> str:
    """``1h30m`` for 90 minutes; ``0s`` for nothing."""
    seconds = int(duration.total_seconds())
    days, seconds = divmod(seconds, 86_400)
    hours, seconds = divmod(seconds, 3_600)
    minutes, seconds = divmod(seconds, 60)
    parts = [(days, "d"), (hours, "h"), (minutes, "m"), (seconds, "s")]
    return "".join(f"{count}{unit}" for count, unit in parts if count) or "0s"


def read_duration(text: str) -> dt.timedelta:
    """``10m``, ``1h30m`` or ISO 8601's ``PT10M``.

    Raises:
        ValueError: when the text is none of these.
    """
    match = _DURATION.match(text.strip())
    if not match or not any(match.groups()):
        raise ValueError(f"{text!r} is not a duration such as 10m, 1h30m or PT10M")
    d1, h1, m1, s1, d2, h2, m2, s2 = (int(group or 0) for group in match.groups())
    return dt.timedelta(days=d1 + d2, hours=h1 + h2, minutes=m1 + m2, seconds=s1 + s2)


def _text(cell: Any, today: dt.date) -> str:
    if not isinstance(cell, str):
        raise ValueError(f"{cell!r} is not text; put it in quotes")
    return cell


def _integer(cell: Any, today: dt.date) -> int:
    if isinstance(cell, bool) or not isinstance(cell, int):
        raise ValueError(f"{cell!r} is not a whole number")
    return cell


def _number(cell: Any, today: dt.date) -> Decimal:
    if isinstance(cell, bool) or not isinstance(cell, int | float):
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


def _date(cell: Any, today: dt.date) -> dt.date:
    if isinstance(cell, dt.date) and not isinstance(cell, dt.datetime):
        return cell
    if isinstance(cell, str):
        relative = _TODAY.match(cell)
        if relative:
            sign, count, unit = relative.groups()
            days = int(count or 0) * (7 if unit == "w" else 1)
            return today + dt.timedelta(days=-days if sign == "-" else days)
        try:
            return dt.date.fromisoformat(cell)
        except ValueError:
            pass
    raise ValueError(f"{cell!r} is not a date such as 2026-10-24 or today - 30d")


def _timestamp(cell: Any, today: dt.date) -> dt.datetime:
    if isinstance(cell, dt.datetime):
        return cell
    if isinstance(cell, str):
        try:
            return dt.datetime.fromisoformat(cell)
        except ValueError:
            pass
    raise ValueError(f"{cell!r} is not a timestamp such as 2026-10-24 06:00:00")


def _duration(cell: Any, today: dt.date) -> dt.timedelta:
    return read_duration(_text(cell, today))


def _secret(cell: Any, today: dt.date) -> str:
    if not isinstance(cell, str) or not _SECRET.match(cell):
        raise ValueError("a secret is only a reference, such as env:NAME or file:PATH")
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


def _wrong(
    line: int | None, message: str, remedy: str, *, rule: rules.Rule = rules.MALFORMED_PARAMETER
) -> Finding:
    return rule.finding(message, file=FILE, line=line, remedy=remedy)
