"""Secrets: references resolved at the last moment, in a type that does not show what it holds.

A reference is ``kind:place``. ``env:`` and ``file:`` are known here, ``secret:`` asks a key-value
service over HTTP, and other kinds come from packages with an entry point in the group
``inchworm.secrets``: a function from the project's folder to a :class:`SecretSource`.
"""

from __future__ import annotations

import stat
from collections.abc import Mapping
from http import HTTPStatus
from pathlib import Path
from typing import Any, Protocol
from urllib.parse import quote

from msgspec import Struct

from inchworm.core.environments.environment import SecretStoreAddress
from inchworm.core.errors import InchwormError, TargetError
from inchworm.targets.http_client import Client, http_client
from inchworm.targets.machine import Machine
from inchworm.targets.secret import Secret

ENTRY_POINTS = "inchworm.secrets"


class SecretSource(Protocol):
    """Where secrets of one kind are kept."""

    def get(self, place: str) -> tuple[str, str]:
        """The value at a place, and its version where there is such a thing.

        Raises:
            TargetError: when it is not there, cannot be had or has expired. The message must not
                repeat the value.
        """
        ...


class Environ(Struct, frozen=True):
    """``env:NAME``: environment variables."""

    variables: Mapping[str, str]

    def get(self, place: str) -> tuple[str, str]:
        value = self.variables.get(place)
        if not value:
            raise TargetError(
                f"the variable {place} is not set.",
                next=f"Set {place} in the environment that Inchworm runs in.",
            )
        return value, ""


class Files(Struct, frozen=True):
    """``file:PATH``: files that only their owner can read; relative paths start at the project.

    Attributes:
        root: the project's folder.
        folders: others in which files may be, as absolute paths.
    """

    root: Path
    folders: tuple[str, ...] = ()

    def get(self, place: str) -> tuple[str, str]:
        path = self.root / place
        target = path.resolve()
        allowed = (str(self.root.resolve()), *self.folders)
        if not any(target.is_relative_to(folder) for folder in allowed):
            raise TargetError(
                f"{place} leads out of the project.",
                next="Keep the file in the project, or allow its folder: "
                f"inchworm trust --folder {target.parent}",
            )
        try:
            mode = path.stat().st_mode
            if mode & (stat.S_IRWXG | stat.S_IRWXO):
                raise TargetError("others may use the file.", next=f"chmod 600 {place}")
            value = path.read_text("utf-8").strip()
        except (OSError, UnicodeDecodeError) as error:
            reason = error.strerror if isinstance(error, OSError) else "it is not text"
            raise TargetError(
                f"{place} cannot be read: {reason}.",
                next="Put the secret into that file, readable by you alone.",
            ) from error
        if not value:
            raise TargetError(f"{place} is empty.", next="Put the secret into that file.")
        return value, ""


class SecretStore(Struct, frozen=True):
    """``secret:PATH#KEY``, or ``secret:PATH@VERSION#KEY``: a key-value service over HTTP.

    ``GET /v1/secrets/PATH?version=N`` answers ``{"data": {KEY: value}, "version": N}``, 404 where
    nothing is, and 410 where it is valid no longer.
    """

    client: Client
    name: str

    def get(self, place: str) -> tuple[str, str]:
        path, _, key = place.partition("#")
        path, _, version = path.partition("@")
        if not path or not key:
            raise TargetError("it names no key.", next="Write secret:PATH#KEY.")
        query = {"version": version} if version else {}
        answer = self.client.send("GET", f"/v1/secrets/{quote(path)}", query=query)
        refusal = _REFUSALS.get(answer.status)
        if refusal is not None:
            reason, remedy = refusal
            raise TargetError(f"{self.name} says that {reason}.", next=remedy)
        try:
            secret: Any = answer.json() if answer.is_success else None
            return str(secret["data"][key]), str(secret["version"])
        except (ValueError, TypeError) as error:
            raise TargetError(
                f"{self.name} answers {answer.status}, which is not understood.",
                next="Ask those who run it.",
            ) from error
        except KeyError as error:
            raise TargetError(f"{path} has no key {key}.", next="Correct the reference.") from error


_STORE = "secret"
"""The kind of references that lead into a secret store."""

_REFUSALS: dict[int, tuple[str, str]] = {
    HTTPStatus.UNAUTHORIZED: (
        "our token is missing, wrong or has expired",
        "Renew the token that [secret_store] token = ... refers to.",
    ),
    HTTPStatus.FORBIDDEN: (
        "our token may not read it",
        "Have those who run it allow this path.",
    ),
    HTTPStatus.NOT_FOUND: ("it is not there", "Correct the reference, or put the secret there."),
    HTTPStatus.GONE: ("it is valid no longer", "Have a new version of the secret put there."),
}


class Secrets:
    """All kinds of secrets that an environment can refer to.

    Args:
        machine: its folder and environment variables.
        secret_store: where ``secret:`` is, if anywhere.
    """

    def __init__(
        self,
        machine: Machine,
        secret_store: SecretStoreAddress | None = None,
    ) -> None:
        self._root = machine.root
        self._trust = machine.trust
        self._store = secret_store
        self._sources: dict[str, SecretSource] = {
            "env": Environ(machine.environ),
            "file": Files(machine.root, machine.trust.folders),
        }

    def close(self) -> None:
        """Let go of the connection to a key-value service."""
        source = self._sources.get(_STORE)
        if isinstance(source, SecretStore):
            source.client.close()

    def resolve(self, reference: str, to: str) -> Secret:
        """The secret that a reference leads to.

        Args:
            reference: where the secret is.
            to: the address that will get it; ``notebooks`` where the project's code gets it, and
                empty where it stays in this process.

        Raises:
            NotAllowed: when the user has not allowed it to go there.
            TargetError: when it cannot be had.
        """
        self._trust.check_destination(reference, to)
        return self.resolve_own(reference)

    def resolve_own(self, reference: str) -> Secret:
        """The secret that a reference leads to which the user has typed, and not the project.

        Raises:
            TargetError: when it cannot be had.
        """
        kind, _, place = reference.partition(":")
        try:
            value, version = self._source(kind).get(place)
        except TargetError as error:
            raise TargetError(
                f"the secret {reference} cannot be had: {error.what}",
                where=error.where,
                next=error.next,
            ) from error
        if "\0" in value:
            raise TargetError(
                f"the secret {reference} has a NUL character in it.",
                next="Put the secret there as text.",
            )
        return Secret(value, reference, version)

    def for_service(self, reference: str) -> str:
        """The secret that a service of this process needs; of a secret store it is not asked.

        Raises:
            TargetError: when it cannot be had.
        """
        if reference.startswith(f"{_STORE}:"):
            return ""  # it belongs to a store that this process does not know
        return self.resolve(reference, "").reveal()

    def _source(self, kind: str) -> SecretSource:
        if kind not in self._sources:
            self._sources[kind] = self._connect() if kind == _STORE else self._plugged_in(kind)
        return self._sources[kind]

    def _connect(self) -> SecretSource:
        if self._store is None:
            raise TargetError(
                "the environment names no secret store.",
                next='Add [secret_store] with url = "..." and token = "env:NAME" to its file.',
            )
        kind, _, place = self._store.token.partition(":")
        if kind == _STORE:
            raise TargetError(
                "the token of a secret store cannot be in it.", next="Write env:NAME or file:PATH."
            )
        self._trust.check_destination(self._store.token, self._store.url)
        token = self._source(kind).get(place)[0]
        secret = Secret(token, self._store.token)
        client = http_client(self._store.url, self._root, secret, self._without_store)
        return SecretStore(client, self._store.url)

    def _without_store(self, reference: str) -> str:
        """What a simulated store in this process keeps references to; none leads into itself."""
        if reference.startswith(f"{_STORE}:"):
            raise TargetError("a store keeps no reference to a store.", next="Write env:NAME.")
        return self.resolve(reference, "").reveal()

    def _plugged_in(self, kind: str) -> SecretSource:
        from importlib.metadata import entry_points  # takes as long to import as all of ours

        for point in entry_points(group=ENTRY_POINTS):
            if point.name == kind:
                try:
                    source: SecretSource = point.load()(self._root)
                except InchwormError:
                    raise
                except Exception as error:
                    raise TargetError(
                        f"{point.value} failed: {type(error).__name__}.",
                        next="Ask whoever wrote that package.",
                    ) from error
                return source
        known = sorted(
            {*self._sources, _STORE, *(p.name for p in entry_points(group=ENTRY_POINTS))}
        )
        raise TargetError(f"{kind}: is no known kind.", next=f"Known kinds: {', '.join(known)}.")
