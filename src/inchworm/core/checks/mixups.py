"""Values that belong elsewhere: another environment's value written out, and targets in common."""

from __future__ import annotations

import datetime as dt
import posixpath
from collections import defaultdict
from collections.abc import Iterable, Iterator, Mapping, Sequence
from typing import NamedTuple
from urllib.parse import urlsplit

from inchworm.core.checks import rules
from inchworm.core.environments import Environment
from inchworm.core.facts import Assembly
from inchworm.core.findings import Finding
from inchworm.core.literals import is_telling
from inchworm.core.parameters import Parameter, Values, evaluate, references, substitute
from inchworm.core.values import Type, Value

_WRITTEN_OUT = frozenset({Type.TEXT, Type.DATE, Type.TIMESTAMP})
_SHORTEST = 3
_ADDRESS = 8
"""Letters from which on a value is looked for inside longer texts, too."""

_FITTING: Mapping[str, frozenset[Type]] = {
    "duration": frozenset({Type.DURATION}),
    "integer": frozenset({Type.INTEGER}),
    "text": frozenset({Type.TEXT, Type.CHOICE}),
}
"""The types of parameter that fit where a setting expects something."""


class _Owned(NamedTuple):
    parameter: str
    environment: str


def mixups(assembly: Assembly, today: dt.date) -> Iterator[Finding]:
    """Everything about values that stand, or point, where they should not."""
    by_environment = [evaluate(assembly.matrix, env, today) for env in assembly.environments]
    yield from _written_out(assembly, by_environment)
    yield from _shared_connections(assembly, by_environment)
    yield from _wrong_type_here(assembly)
    for row in assembly.matrix.values():
        if row.type is not Type.SECRET and is_telling(row.name) and _has_text(row):
            yield row.finding(
                rules.SECRET_WRITTEN_OUT,
                f"{row.name} is a {row.type.value}, so its value is written out",
                'Make it type = "secret", with references such as env:NAME.',
            )


def _has_text(row: Parameter) -> bool:
    cells = [*row.cells.values(), row.every]
    return any(isinstance(cell, str) and cell and not references(cell) for cell in cells)


def _written_out(assembly: Assembly, by_environment: Sequence[Values]) -> Iterator[Finding]:
    equal, inside = _telling_values(assembly, by_environment)
    if not equal:
        return
    for part, outline in assembly.outlines.items():
        for literal in outline.literals:
            owned = equal.get(literal.text) or next(
                (owned for text, owned in inside.items() if text in literal.text), None
            )
            if owned is None:
                continue
            yield rules.VALUE_WRITTEN_OUT.finding(
                f"{literal.text[:60]!r} is {owned.environment}'s value of {owned.parameter}",
                part=part,
                file=literal.file,
                line=literal.line,
                remedy=_how_to_use(owned.parameter, literal.file),
            )


def _how_to_use(parameter: str, file: str) -> str:
    if file.endswith(".sql"):
        return f"Write :{parameter} instead."
    if file.endswith((".ipynb", ".py")):
        return f'Write env.value("{parameter}") instead.'
    return f"Write ${{{parameter}}} instead."


def _telling_values(
    assembly: Assembly, by_environment: Sequence[Values]
) -> tuple[dict[str, _Owned], dict[str, _Owned]]:
    """Values that differ between environments: those to find as a whole, and inside others."""
    equal: dict[str, _Owned] = {}
    inside: dict[str, _Owned] = {}
    for row in assembly.matrix.values():
        if row.type not in _WRITTEN_OUT:
            continue
        texts = {
            v.environment: v.values[row.name].text for v in by_environment if row.name in v.values
        }
        hosts = {env: urlsplit(text).netloc for env, text in texts.items() if "://" in text}
        for wanted, found in ((texts, equal), (texts, inside), (hosts, inside)):
            if len(set(wanted.values())) < 2:
                continue
            for environment, text in wanted.items():
                is_address = wanted is hosts or any(c in text for c in "/:@")
                is_address = is_address and len(text) >= _ADDRESS
                if len(text) >= _SHORTEST and (found is equal or is_address):
                    found.setdefault(text, _Owned(row.name, environment))
    return equal, inside


def _shared_connections(assembly: Assembly, by_environment: Sequence[Values]) -> Iterator[Finding]:
    """Connections that lead to one place in two environments."""
    for part, outline in assembly.outlines.items():
        for address in outline.addresses:
            seen: dict[str, str] = {}
            for values in by_environment:
                if not all(name in values.values for name in references(address)):
                    continue
                place = _normal(str(substitute(address, values.values)))
                if place in seen:
                    yield rules.SHARED_TARGET.finding(
                        f"leads to {place} in {seen[place]} and in {values.environment}",
                        part=part,
                        file=outline.file,
                        remedy="Give each environment an address of its own, or say shared = true.",
                    )
                    break
                seen[place] = values.environment


def _wrong_type_here(assembly: Assembly) -> Iterator[Finding]:
    for part, outline in assembly.outlines.items():
        for use in outline.uses:
            row = assembly.matrix.get(use.parameter)
            if row is None or not use.expects or row.type in _FITTING[use.expects]:
                continue
            yield rules.WRONG_TYPE_HERE.finding(
                f"uses {use.parameter}, a {row.type.value}, where a {use.expects} is expected",
                part=part,
                file=use.file,
                line=use.line,
            )


def shared_targets(
    environments: Iterable[Environment], values: Mapping[str, Mapping[str, Value]]
) -> Iterator[Finding]:
    """Databases and services that two environments have in common, unless both say so.

    Args:
        environments: all environments.
        values: the values of each.
    """
    users: dict[tuple[str, str], list[Environment]] = defaultdict(list)
    for environment in environments:
        database = environment.database
        named = {
            "database": f"{database.url} {database.schema_pattern}",
            "workspace": environment.workspace.url,
            "gateway": environment.gateway.url,
        }
        known = values.get(environment.name, {})
        for what, address in named.items():
            if what in environment.shared or not all(n in known for n in references(address)):
                continue
            users[what, _normal(str(substitute(address, known)))].append(environment)
    for (what, place), sharing in users.items():
        first, *others = sharing
        for other in others:
            yield rules.SHARED_TARGET.finding(
                f"has the {what} of {first.name}, {place.partition(' ')[0]}",
                file=other.file,
                remedy=f'Give it a {what} of its own, or say shared = ["{what}"] here.',
            )


def _normal(address: str) -> str:
    scheme, separator, rest = address.partition("://")
    if separator and scheme in {"duckdb", "sqlite"}:
        return f"{scheme}://{posixpath.normpath(rest)}"
    return address.rstrip("/").lower() if separator else address
