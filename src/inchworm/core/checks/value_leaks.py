"""Values that belong elsewhere: another environment's value written out, and targets in common."""

from __future__ import annotations

import datetime as dt
import ipaddress
import posixpath
import re
from collections import defaultdict
from collections.abc import Iterable, Iterator, Mapping, Sequence
from typing import NamedTuple
from urllib.parse import parse_qsl, unquote, urlsplit

from inchworm.core.checks import rules
from inchworm.core.checks.findings import Finding, Severity
from inchworm.core.environments.environment import Environment
from inchworm.core.identifiers import Kind
from inchworm.core.lineage.facts import Assembly
from inchworm.core.parameters.literals import is_telling
from inchworm.core.parameters.matrix import Parameter, Values, evaluate, references, substitute
from inchworm.core.parameters.values import Type, Value

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


def value_leaks(assembly: Assembly, today: dt.date) -> Iterator[Finding]:
    """All findings about values that stand, or point, where they should not."""
    by_environment = [evaluate(assembly.matrix, env, today) for env in assembly.environments]
    yield from _written_out(assembly, by_environment)
    yield from _shared_connections(assembly, by_environment)
    yield from _wrong_type_here(assembly)
    yield from _in_quoted_text(assembly)
    for row in assembly.matrix.values():
        if row.type is not Type.SECRET and is_telling(row.name) and _has_text(row):
            yield row.finding(
                rules.SECRET_WRITTEN_OUT,
                f"{row.name} is a {row.type.value}, so its value is written out",
                'Make it type = "secret", with references such as env:NAME.',
            )


def _in_quoted_text(assembly: Assembly) -> Iterator[Finding]:
    """Parameters that stand inside a text of SQL, where they are none."""
    for part, outline in assembly.outlines.items():
        for literal in outline.literals:
            if ":" not in literal.text or not literal.file.endswith(".sql"):
                continue
            for name in _IN_TEXT.findall(literal.text):
                if name in assembly.matrix:
                    yield rules.PARAMETER_IN_TEXT.finding(
                        f"has the parameter {name} inside the text {literal.text[:60]!r}",
                        part=part,
                        file=literal.file,
                        line=literal.line,
                    )


_IN_TEXT = re.compile(r"(?<![:\w]):([A-Za-z_][\w.]*)")


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
            if owned is None or _MIGRATION.search(literal.file):
                continue  # a migration stays as it ran
            is_moment = assembly.matrix[owned.parameter].type is not Type.TEXT
            may_be_chance = is_moment and part.kind is not Kind.CONNECTION
            yield rules.VALUE_WRITTEN_OUT.finding(
                f"{literal.text[:60]!r} is {owned.environment}'s value of {owned.parameter}",
                part=part,
                file=literal.file,
                line=literal.line,
                remedy=_how_to_use(owned.parameter, literal.file),
                severity=Severity.WARNING if may_be_chance else None,
            )


_MIGRATION = re.compile(r"^schemas/[^/]+/migrations/")


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
        for values, matches in ((texts, equal), (texts, inside), (hosts, inside)):
            if len(set(values.values())) < 2:
                continue
            for environment, text in values.items():
                is_address = values is hosts or any(c in text for c in "/:@")
                is_address = is_address and len(text) >= _ADDRESS
                if len(text) >= _SHORTEST and (matches is equal or is_address):
                    matches.setdefault(text, _Owned(row.name, environment))
    return equal, inside


def _shared_connections(assembly: Assembly, by_environment: Sequence[Values]) -> Iterator[Finding]:
    """Connections that lead to one place in two environments."""
    for part, outline in assembly.outlines.items():
        for address in outline.addresses:
            seen: dict[str, str] = {}
            for values in by_environment:
                if not all(name in values.values for name in references(address)):
                    continue
                place = place_of(str(substitute(address, values.values)))
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
    environments: Iterable[Environment], values: Mapping[str, Mapping[str, Value]], root: str
) -> Iterator[Finding]:
    """Databases and services that two environments have in common, unless both say so.

    Two environments with the bookkeeping in one place would be one and the same, so that is an
    error whatever they say.

    Args:
        environments: all environments.
        values: the values of each.
        root: the project's folder, at which relative paths start.
    """
    users: dict[tuple[str, ...], list[tuple[Environment, str]]] = defaultdict(list)
    for environment in environments:
        known = values.get(environment.name, {})
        for what, (address, *more) in _targets(environment).items():
            if what in environment.shared or not all(n in known for n in references(address)):
                continue
            filled = str(substitute(address, known))
            users[what, place_of(filled, root), *more].append((environment, filled))
    one: set[tuple[str, str]] = set()
    """Pairs of environments that have everything in one database."""
    for (what, *_), sharing in users.items():
        (first, shown), *others = sharing
        for other, _ in others:
            if what == _BOOKKEEPING:
                one.add((first.name, other.name))
            elif what == "database" and (first.name, other.name) in one:
                continue  # that has been said
            yield _shared(what, shown, first, other)


def shared_logins(
    environments: Sequence[Environment], values: Mapping[str, Mapping[str, Value]]
) -> Iterator[Finding]:
    """Protected environments that are reached with what opens one that is not protected.

    Args:
        environments: all environments.
        values: the values of each.
    """
    logins = {each.name: _logins(each, values.get(each.name, {})) for each in environments}
    for environment in environments:
        if not environment.protected:
            continue
        for other in environments:
            common = () if other.protected else logins[environment.name] & logins[other.name]
            for login in sorted(common):
                yield rules.SHARED_LOGIN.finding(
                    f"is reached with {login}, as {other.name} is, which is not protected",
                    file=environment.file,
                )


def _logins(environment: Environment, values: Mapping[str, Value]) -> set[str]:
    """In words, who an environment's targets are reached as, and where the secrets are kept."""
    logins: set[str] = set()
    database = environment.database
    if all(name in values for name in references(database.url)):
        address = str(substitute(database.url, values))
        user = urlsplit(address).username if address.partition("://")[0] in _SERVERS else None
        if user:
            logins.add(f"the user {user} at {place_of(address).rpartition('/')[0]}")
    secrets = (database.password, *(each.token for each in environment.services.values()))
    for name in (name for text in secrets if text for name in references(text)):
        if name in values:
            logins.add(f"the secret {values[name].text}")
    return logins


_BOOKKEEPING = "bookkeeping"
_NOTEBOOKS = "notebooks"


def _targets(environment: Environment) -> dict[str, tuple[str, ...]]:
    """A target of an environment: its address, and the pieces that are told apart there."""
    database, notebooks = environment.database, environment.notebooks
    targets: dict[str, tuple[str, ...]] = {
        _BOOKKEEPING: (database.url, database.bookkeeping.lower()),
        "database": (database.url, database.schema_pattern.lower()),
        **{name: (address.url,) for name, address in environment.services.items()},
    }
    if notebooks is not None:
        targets[_NOTEBOOKS] = (notebooks.url, notebooks.folder_of("", environment))
    return targets


def _shared(what: str, shown: str, first: Environment, other: Environment) -> Finding:
    if what == _BOOKKEEPING:
        return rules.SHARED_TARGET.finding(
            f"has the database of {first.name}, {shown}, and keeps its bookkeeping in the same "
            "schema",
            file=other.file,
            remedy="Correct the address. Where both share a database on purpose, give one of them "
            "a bookkeeping and a schema_pattern of its own.",
        )
    return rules.SHARED_TARGET.finding(
        f"has the {what} of {first.name}, {shown}",
        file=other.file,
        remedy=f'Give it a {what} of its own, or say shared = ["{what}"] here.',
    )


def place_of(address: str, root: str = "") -> str:
    """An address in the one spelling that all addresses of the same place have.

    Host names count without case, all names of this machine are one, a port that goes without
    saying is said, and it does not count as whom or how one connects.

    Args:
        address: with its parameters filled in.
        root: the folder at which relative paths of files start.
    """
    scheme, separator, rest = address.partition("://")
    if not separator:
        return address
    if scheme in _FILES:
        path = rest[1:] if rest.startswith("//") else posixpath.join(root, rest.lstrip("/"))
        return f"{scheme}://{posixpath.normpath(path)}"
    parts = urlsplit(address)
    given = dict(parse_qsl(parts.query)) if scheme in _SERVERS else {}
    try:
        port = given.get("port") or parts.port or _PORTS.get(scheme, "")
    except ValueError:  # whoever connects will say that it is no number
        port = parts.netloc.rpartition(":")[2]
    host = _host(given.get("hostaddr") or given.get("host") or parts.hostname or "")
    path = unquote(parts.path).rstrip("/")
    if scheme in _SERVERS:
        database = given.get("dbname") or path.lstrip("/") or parts.username or ""
        return f"postgresql://{host}:{port}/{database}"
    return f"{scheme.lower()}://{host}:{port}{path}"


_FILES = frozenset({"duckdb", "sqlite"})
_SERVERS = frozenset({"postgresql", "postgres"})
_PORTS: Mapping[str, int] = {"postgresql": 5432, "postgres": 5432, "http": 80, "https": 443}


def _host(name: str) -> str:
    """A host's name; every name of this machine, its sockets included, is ``localhost``."""
    plain = unquote(name).strip("[]").rstrip(".").lower()
    try:
        address = ipaddress.ip_address(plain.partition("%")[0])
    except ValueError:
        is_here = not plain or plain.startswith("/") or plain.endswith("localhost")
        return "localhost" if is_here else plain
    mapped = getattr(address, "ipv4_mapped", None) or address
    return "localhost" if mapped.is_loopback or mapped.is_unspecified else str(mapped)
