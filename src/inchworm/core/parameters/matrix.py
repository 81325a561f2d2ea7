"""Parameters: one typed value per environment, and secrets that are only references.

A value is converted once, here, from what the matrix says; from then on it is a
:class:`~inchworm.core.parameters.values.Value`, which knows its type and has one spelling.
"""

from __future__ import annotations

import datetime as dt
import re
from collections.abc import Iterable, Iterator, Mapping
from typing import Any

from msgspec import Struct, field

from inchworm.core.checks import rules
from inchworm.core.checks.findings import Finding
from inchworm.core.errors import did_you_mean, nearest
from inchworm.core.parameters.values import Domain, Type, Value
from inchworm.core.toml import KeyPath, TomlDocument, TomlProblem, read_toml

FILE = "parameters.toml"
FOLDER = "parameters"
"""The matrix may be split into files of this folder."""

_REFERENCE = re.compile(r"\$\{([^}]*)\}")


class Parameter(Struct, frozen=True, kw_only=True):
    """One row of the matrix, as declared."""

    name: str
    domain: Domain
    about: str = ""
    unit: str = ""
    cells: Mapping[str, Any] = field(default_factory=dict)
    """The cells of the file by environment, unconverted."""
    every: Any = None
    must_differ: bool = False
    optional: bool = False
    file: str = FILE
    line: int | None = None
    lines: Mapping[str, int | None] = field(default_factory=dict)

    @property
    def type(self) -> Type:
        """The type of its values."""
        return self.domain.type

    @property
    def group(self) -> str:
        """The group before the last dot of its name: the part of the project that it is for."""
        return self.name.rpartition(".")[0]

    def cell(self, environment: str) -> Any:
        """The cell that is declared for an environment, or None."""
        return self.cells.get(environment, self.every)

    def line_for(self, environment: str) -> int | None:
        """The line of what is declared for an environment."""
        return self.lines.get(environment) or self.lines.get("every") or self.line

    def finding(
        self, rule: rules.Rule, message: str, remedy: str, environment: str | None = None
    ) -> Finding:
        """A finding about the row, or about its cell for an environment."""
        line = self.line if environment is None else self.line_for(environment)
        return rule.finding(message, file=self.file, line=line, remedy=remedy)


Matrix = Mapping[str, Parameter]

_OF_DOMAIN = ("one_of", "at_least", "at_most", "matches", "shortest", "longest", "zone")
_SETTINGS = {"type", "about", "unit", "every", "must_differ", "optional", *_OF_DOMAIN}
_FLAGS = ("must_differ", "optional")
_KINDS = {"about": str, "unit": str, "matches": str, "zone": str, "shortest": int, "longest": int}


def is_of_matrix(path: str) -> bool:
    """Whether a file of a project declares parameters."""
    folder, _, name = path.partition("/")
    return path == FILE or (folder == FOLDER and name.endswith(".toml") and "/" not in name)


def read_files(
    contents: Mapping[str, bytes], environments: Iterable[str] | None
) -> tuple[dict[str, Parameter], list[Finding]]:
    """The matrix of a project version, from its files by path; as :func:`read_matrix`."""
    documents: dict[str, TomlDocument] = {}
    findings: list[Finding] = []
    for path in contents:
        if is_of_matrix(path):
            try:
                documents[path] = read_toml(contents[path])
            except TomlProblem as problem:
                finding = rules.UNREADABLE.finding(problem.reason, file=path, line=problem.line)
                findings.append(finding)
    matrix, wrong = read_matrix(documents, environments)
    return matrix, [*findings, *wrong]


def read_matrix(
    documents: Mapping[str, TomlDocument], environments: Iterable[str] | None
) -> tuple[dict[str, Parameter], list[Finding]]:
    """The matrix that files declare, and everything that is wrong with its form.

    Args:
        documents: the files by path.
        environments: those that may have values; None when all may, as in a bundle, which does not
            know them.
    """
    known = None if environments is None else list(environments)
    matrix: dict[str, Parameter] = {}
    findings: list[Finding] = []
    for file, document in sorted(documents.items()):
        for path, row in _rows(document.values, ()):
            read = _Row(file, document, path, known, findings)
            parameter = read.parameter(row)
            if parameter is None:
                continue
            other = matrix.get(parameter.name)
            if other is not None:
                where = f"{other.file}:{other.line}"
                message = f"{parameter.name} is declared twice; first in {where}"
                findings.append(
                    parameter.finding(rules.MALFORMED_PARAMETER, message, "Remove one of the two.")
                )
                continue
            matrix[parameter.name] = parameter
    return matrix, findings


def _rows(table: Mapping[str, Any], path: KeyPath) -> Iterator[tuple[KeyPath, Any]]:
    """Each parameter's table; a table of nothing but tables is a group of them."""
    for key, item in table.items():
        place = (*path, key)
        is_group = (
            isinstance(item, dict) and item and all(isinstance(v, dict) for v in item.values())
        )
        if is_group:
            yield from _rows(item, place)
        else:
            yield place, item


class _Row(Struct, frozen=True):
    file: str
    document: TomlDocument
    path: KeyPath
    environments: list[str] | None
    findings: list[Finding]

    @property
    def name(self) -> str:
        return ".".join(str(key) for key in self.path)

    def parameter(self, row: Any) -> Parameter | None:
        if not isinstance(row, dict):
            self._wrong((), f"{self.name} is not a table", f"Write [{self.name}] with a type.")
            return None
        kind = row.get("type")
        if not isinstance(kind, str) or kind not in list(Type):
            types = ", ".join(Type)
            near = did_you_mean(str(kind), list(Type), f"Give it a type: {types}.")
            message = f"has no type {kind!r}" if kind is not None else "has no type"
            self._wrong(("type",), f"{self.name} {message}", near)
            return None
        settings = {key: row[key] for key in row if key in _SETTINGS and self._fits(key, row[key])}
        choices = settings.pop("one_of", ())
        domain = Domain(
            type=Type(kind),
            one_of=tuple(str(c) for c in choices) if isinstance(choices, list) else (),
            **{key: settings[key] for key in _OF_DOMAIN if key in settings},
        )
        fault = domain.fault()
        if fault is not None:
            self._wrong((), f"{self.name}: {fault}", "Correct the row.")
        cells = self._cells(row)
        return Parameter(
            name=self.name,
            domain=domain,
            about=settings.get("about", ""),
            unit=settings.get("unit", ""),
            cells=cells,
            every=row.get("every"),
            must_differ=settings.get("must_differ", False),
            optional=settings.get("optional", False),
            file=self.file,
            line=self.document.line_of(self.path),
            lines={key: self.document.line_of((*self.path, key)) for key in [*cells, "every"]},
        )

    def _cells(self, row: Mapping[str, Any]) -> dict[str, Any]:
        cells = {key: cell for key, cell in row.items() if key not in _SETTINGS}
        for key in list(cells):
            if self.environments is None or key in self.environments:
                continue
            known = [*self.environments, *sorted(_SETTINGS)]
            near = nearest(key, known)
            if near:
                self._wrong((key,), f"{self.name}.{key} is no environment", f"Did you mean {near}?")
            else:
                self._early(key)
            del cells[key]
        return cells

    def _fits(self, key: str, value: Any) -> bool:
        expected = bool if key in _FLAGS else _KINDS.get(key)
        if expected is None or type(value) is expected:
            return True
        kind = {bool: "true or false", str: "text", int: "a whole number"}[expected]
        self._wrong((key,), f"{self.name}.{key} is not {kind}", f"Write {kind}.")
        return False

    def _early(self, key: str) -> None:
        line = self.document.line_of((*self.path, key))
        message = f"{self.name} has a value for {key}, and there is no environments/{key}.toml"
        self.findings.append(rules.EARLY_VALUE.finding(message, file=self.file, line=line))

    def _wrong(self, key: KeyPath, message: str, remedy: str) -> None:
        line = self.document.line_of((*self.path, *key))
        self.findings.append(
            rules.MALFORMED_PARAMETER.finding(message, file=self.file, line=line, remedy=remedy)
        )


class Values(Struct, frozen=True, kw_only=True):
    """All values of one environment, and what could not be found or converted."""

    environment: str
    values: Mapping[str, Value]
    problems: tuple[Finding, ...] = ()


def evaluate(
    matrix: Matrix, environment: str, today: dt.date, overrides: Mapping[str, str] | None = None
) -> Values:
    """Every parameter's value in an environment.

    Args:
        matrix: the declared rows.
        environment: the environment's name.
        today: the day that ``today`` means in a cell.
        overrides: values given for once, as text, instead of those declared.
    """
    evaluation = _Evaluation(matrix, environment, today, overrides or {})
    for name in matrix:
        evaluation.value_of(name, ())
    return Values(
        environment=environment,
        values=evaluation.done,
        problems=tuple(dict.fromkeys(evaluation.problems)),
    )


class _Evaluation:
    def __init__(
        self, matrix: Matrix, environment: str, today: dt.date, overrides: Mapping[str, str]
    ) -> None:
        self.matrix = matrix
        self.environment = environment
        self.today = today
        self.overrides = overrides
        self.done: dict[str, Value] = {}
        self.problems: list[Finding] = []

    def value_of(self, name: str, path: tuple[str, ...]) -> Value | None:
        """The value of one parameter, after those that its cell refers to."""
        if name in self.done:
            return self.done[name]
        row = self.matrix[name]
        if name in path:
            loop = " -> ".join([*path[path.index(name) :], name])
            self._wrong(row, f"values refer to each other in a circle: {loop}", "Break it.")
            return None
        cell = row.cell(self.environment)
        try:
            if name in self.overrides:
                cell = row.domain.cell_of(self.overrides[name])
            if cell is None:
                return self._no_value(row)
            if isinstance(cell, str) and row.type is not Type.SECRET:
                filled = self._filled(cell, row, (*path, name))
                if filled is None:
                    return None
                cell = row.domain.cell_of(filled) if filled != cell else cell
            self.done[name] = row.domain.convert(cell, self.today)
        except ValueError as error:
            remedy = f"Write a value of type {row.type.value}."
            message = f"{name} for {self.environment}: {error}"
            self._wrong(row, message, remedy, rules.MISTYPED_VALUE)
            return None
        return self.done[name]

    def _no_value(self, row: Parameter) -> Value | None:
        if row.optional:
            self.done[row.name] = Value(type=row.type, plain=None)
            return self.done[row.name]
        self.problems.append(
            row.finding(
                rules.MISSING_VALUE,
                f"{row.name} has no value for {self.environment}",
                f"Add {self.environment} = ... under [{row.name}], or every = ...",
            )
        )
        return None

    def _filled(self, cell: str, row: Parameter, path: tuple[str, ...]) -> str | None:
        """A cell with the values of other parameters in it."""
        for other in references(cell):
            if other not in self.matrix:
                near = did_you_mean(other, self.matrix, "Declare it.")
                self._wrong(row, f"{row.name} uses {other}, which is not declared", near)
                return None
            if self.matrix[other].type is Type.SECRET:
                message = f"{row.name} uses the secret {other}, which would become readable"
                remedy = "Use the secret where it is needed, not in another value."
                self._wrong(row, message, remedy, rules.SECRET_IN_TEXT)
                return None
            inner = self.value_of(other, path)
            if inner is None:
                return None
            cell = cell.replace("${" + other + "}", inner.text)
        return cell

    def _wrong(
        self,
        row: Parameter,
        message: str,
        remedy: str,
        rule: rules.Rule = rules.MALFORMED_PARAMETER,
    ) -> None:
        self.problems.append(row.finding(rule, message, remedy, self.environment))


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
            if value is None or value.plain is None:
                continue
            if value.text in seen:
                findings.append(
                    row.finding(
                        rules.MUST_DIFFER,
                        f"{row.name} must differ, but {seen[value.text]} and {each.environment} "
                        f"share {value.text}",
                        f"Give {each.environment} a value of its own.",
                        each.environment,
                    )
                )
            seen.setdefault(value.text, each.environment)
    return findings


def references(text: str) -> list[str]:
    """The parameters that ``${...}`` names in a text, in order."""
    return [str(name) for name in _REFERENCE.findall(text)]


def substitute(document: Any, values: Mapping[str, Value]) -> Any:
    """A parsed document with every ``${name}`` replaced; the document's structure cannot change.

    A string that is nothing but one reference becomes the typed value; where that is none, because
    the parameter is optional, the setting or item is left out.

    Raises:
        KeyError: with the name of a parameter that has no value.
    """
    match document:
        case dict():
            pairs = ((key, item, substitute(item, values)) for key, item in document.items())
            return {key: filled for key, item, filled in pairs if not _left_out(item, filled)}
        case list():
            both = ((item, substitute(item, values)) for item in document)
            return [filled for item, filled in both if not _left_out(item, filled)]
        case str():
            whole = _REFERENCE.fullmatch(document)
            if whole:
                return values[whole.group(1)].to_json()
            return _REFERENCE.sub(lambda match: _inside(match.group(1), values), document)
    return document


def _left_out(value: Any, filled: Any) -> bool:
    """Whether a setting has no value here; one that is written as null is something else."""
    return filled is None and value is not None


def _inside(name: str, values: Mapping[str, Value]) -> str:
    """A value within a longer text: there, no value cannot be left out."""
    if values[name].plain is None:
        raise KeyError(name)
    return values[name].text
