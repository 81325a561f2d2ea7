"""Trusting a project: what it would execute and reach, and the user's decision to allow that."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path
from typing import Any

from msgspec import Struct
from msgspec.structs import replace

from inchworm.application.workplace import Workplace
from inchworm.core.environments.environment import Environment
from inchworm.core.environments.verification import Asked
from inchworm.core.identifiers import Kind
from inchworm.core.lineage.facts import Assembly
from inchworm.core.parameters.matrix import references, substitute
from inchworm.core.parameters.values import Type, Value
from inchworm.core.parts import LIBRARY_TESTS
from inchworm.core.toml import TomlProblem, read_toml
from inchworm.core.trust import NOTEBOOKS, Trust, destination_of, is_on_this_machine
from inchworm.targets.user_folder import UserFolder


class Reach(Struct, frozen=True, order=True):
    """A place that a project names.

    Attributes:
        what: what is there, such as ``database of prod``.
        address: its address, with the environment's values.
        secret: the reference of the secret that goes there; empty where none does.
    """

    what: str
    address: str
    secret: str = ""


class Named(Struct, frozen=True, kw_only=True):
    """Everything for which a project needs to be trusted.

    Attributes:
        starts: programs that it starts, in words.
        reaches: places that it reaches.
    """

    starts: tuple[str, ...]
    reaches: tuple[Reach, ...]

    @property
    def destinations(self) -> Mapping[str, frozenset[str]]:
        """Where each secret goes, by its reference; by the empty text, other places."""
        destinations: dict[str, set[str]] = {}
        for reach in self.reaches:
            destination = destination_of(reach.address)
            if destination:
                destinations.setdefault(reach.secret, set()).add(destination)
        return {reference: frozenset(places) for reference, places in destinations.items()}

    def new_to(self, trust: Trust) -> list[Reach]:
        """Return the places that may not be reached yet, or may not get their secret."""
        return [
            reach
            for reach in self.reaches
            if (destination := destination_of(reach.address))
            and not (reach.secret == "" and is_on_this_machine(destination))
            and destination not in trust.destinations.get(reach.secret, frozenset())
        ]


def named_by(workplace: Workplace) -> Named:
    """Return what the source tree names as it is now. Nothing is executed or reached."""
    assembly = workplace.read()[0].assembly
    return Named(
        starts=tuple(_starts(workplace, assembly)),
        reaches=tuple(sorted({*_storage(workplace), *_of_environments(workplace, assembly)})),
    )


def trust_project(
    workplace: Workplace,
    folder: UserFolder,
    named: Named,
    unencrypted: Sequence[str] = (),
    folders: Sequence[Path] = (),
) -> Trust:
    """Keep that the project is trusted, with the places that it names now.

    Args:
        workplace: the project.
        folder: the user's own folder.
        named: what the project names.
        unencrypted: addresses that may get secrets without encryption.
        folders: folders outside of the project in which secrets may be.

    Raises:
        UsageError: when the decision cannot be kept.
    """
    before = folder.kept_trust_in(workplace.root)
    trust = replace(
        before,
        is_given=True,
        destinations=named.destinations,
        unencrypted=before.unencrypted | {destination_of(address) for address in unencrypted},
        folders=tuple(sorted({*before.folders, *(str(each.resolve()) for each in folders)})),
    )
    folder.keep(trust)
    return trust


def _starts(workplace: Workplace, assembly: Assembly) -> Iterator[str]:
    if (workplace.root / LIBRARY_TESTS).is_dir():
        yield f"the tests in {LIBRARY_TESTS}, at pack"
    for environment in workplace.project.environments:
        for command in environment.entry.ask:
            yield f"{command}, before a promotion into {environment.name}"
    for part in assembly.of_kind(Kind.NOTEBOOK):
        yield f"{part}, when it runs"


def _storage(workplace: Workplace) -> Iterator[Reach]:
    storage = workplace.project.settings.storage
    yield Reach("ledger", storage.ledger, storage.password or "")
    yield Reach("bundle store", storage.bundles)


def _of_environments(workplace: Workplace, assembly: Assembly) -> Iterator[Reach]:
    notebooks = [
        use.parameter
        for part in assembly.of_kind(Kind.NOTEBOOK)
        for use in assembly.outlines[part].uses
    ]
    for environment in workplace.project.environments:
        values = workplace.values(environment)
        for what, url, secret in _addresses(environment):
            for reference in _secrets_in(secret, values) or [""]:
                yield Reach(f"{what} of {environment.name}", _filled(url, values), reference)
        if environment.secret_store is not None:
            store = environment.secret_store
            yield Reach(f"secret store of {environment.name}", store.url, store.token)
        for part in assembly.of_kind(Kind.CONNECTION):
            for url, reference in _of_connection(assembly.parts[part].main.content, values):
                yield Reach(f"{part} of {environment.name}", url, reference)
        for name in sorted(set(notebooks)):
            for reference in _secrets_in(f"${{{name}}}", values):
                yield Reach(f"notebooks of {environment.name}", NOTEBOOKS, reference)


def _addresses(environment: Environment) -> Iterator[tuple[str, str, str | None]]:
    """What is there, its address, and its secret, as the environment's file has them."""
    yield "database", environment.database.url, environment.database.password
    for name, service in environment.services.items():
        yield name, service.url, service.token
    for verification in environment.verifications:
        if verification.asked is Asked.HTTP:
            yield "verification", verification.question, verification.token


def _of_connection(content: bytes, values: Mapping[str, Value]) -> Iterator[tuple[str, str]]:
    """The address of a connection with each of its secrets; with none where it has none."""
    try:
        data: Any = read_toml(content).values
    except TomlProblem:  # check says what is wrong with it
        return
    credentials = data.get("credentials", {})
    secrets = [ref for text in credentials.values() for ref in _secrets_in(str(text), values)]
    for reference in secrets or [""]:
        yield _filled(str(data.get("url", "")), values), reference


def _secrets_in(text: str | None, values: Mapping[str, Value]) -> list[str]:
    """The references of the secrets in a setting."""
    used = [values.get(name) for name in references(text or "")]
    return [v.text for v in used if v is not None and v.type is Type.SECRET and v.plain]


def _filled(text: str, values: Mapping[str, Value]) -> str:
    """An address with this environment's values; as it is written where one is missing."""
    return text if set(references(text)) - set(values) else str(substitute(text, values))
