"""What a user allows a project: to start programs, to reach places, and where its secrets may go.

A repository is data until its user says otherwise. Trust is a decision of the user, kept outside of
the repository (``targets.user_folder``); here is what follows from it.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from typing import TYPE_CHECKING, Any

from msgspec import Struct, field

from inchworm.core.errors import NotAllowed, NotTrusted

if TYPE_CHECKING:
    from urllib.parse import SplitResult

NOTEBOOKS = "notebooks"
"""Stands for an address: the project's own notebooks get the secret."""

VARIABLE = "INCHWORM_TRUST"
"""Folders of projects that are trusted, for build servers; separated as in ``PATH``."""

ADDRESSES_VARIABLE = "INCHWORM_TRUST_ADDRESSES"
"""Where the secrets of those projects may go: ``REFERENCE=ADDRESS``, separated by spaces."""

ANYWHERE = "*"
"""Stands for every address that a project names."""

_ENCRYPTED = frozenset(
    {
        "https",
        "smtps",
        "smtp",
        "wss",
        "s3",
        "s3a",
        "gs",
        "gcs",
        "abfs",
        "abfss",
        "az",
        "sftp",
        "ssh",
    }
)
"""Schemes that encrypt; ours does not speak SMTP to another machine without STARTTLS."""

_ON_THIS_MACHINE = frozenset({"", "localhost", "127.0.0.1", "::1"})
_FILES = frozenset({"sim", "duckdb", "sqlite", "file", "local", "maildir", "memory"})
"""Schemes of what is a file of this machine, or in this process."""

_POSTGRES = frozenset({"postgresql", "postgres"})
_LEADING = ("host", "hostaddr", "port", "service", "servicefile")
"""Settings in a PostgreSQL address that lead elsewhere than its first part says."""

_NOTEBOOK_SERVER = "jupyter+"

_PLAIN = re.compile(r"[^\\\s\x00-\x1f\x7f]*")

_CHAINED = re.compile(r"::[a-z0-9+.-]*(://|$)", re.IGNORECASE)
"""One file system of fsspec over another one."""

_SSL_MODES = frozenset({"require", "verify-ca", "verify-full"})


def destination_of(url: str) -> str:
    """Return where an address leads: ``https://host:port``; empty for a place in this process.

    User names, passwords and paths are left out. What cannot be taken apart stays whole.
    """
    url = url.removeprefix(_NOTEBOOK_SERVER)
    scheme, colon, _ = url.partition(":")
    if url == NOTEBOOKS or _CHAINED.search(url) or not _PLAIN.fullmatch(url):
        return url  # two readers could take such an address apart in two ways
    if not colon or scheme.lower() in _FILES:
        return ""
    parts = _taken_apart(url)
    host = parts.netloc.rpartition("@")[2].lower()
    leading = ""
    if parts.scheme in _POSTGRES:
        asked = [f"{k}={v}" for k, v in sorted(_settings_in(parts.query)) if k in _LEADING]
        leading = f"?{'&'.join(asked)}" if asked else ""
    return f"{parts.scheme}://{host}{leading}"


def is_on_this_machine(destination: str) -> bool:
    """Return True if a destination is this machine: nothing goes over a network."""
    if destination in {"", NOTEBOOKS}:
        return True
    if _CHAINED.search(destination) or not _PLAIN.fullmatch(destination):
        return False
    parts = _taken_apart(destination)
    asked = dict(_settings_in(parts.query))
    if "service" in asked:
        return False
    hosts = asked.get("hostaddr", asked.get("host", _host_in(parts.netloc)))
    return all(
        host in _ON_THIS_MACHINE or host.startswith(("/", "%2f")) for host in hosts.split(",")
    )


def _host_in(netloc: str) -> str:
    """The host of ``host:port``, or of ``[::1]:port``; of several, all."""
    return ",".join(
        each[1:].partition("]")[0] if each.startswith("[") else each.partition(":")[0]
        for each in netloc.split(",")
    )


def is_encrypted(url: str) -> bool:
    """Return True if what goes to an address is encrypted on its way."""
    parts = _taken_apart(url.removeprefix(_NOTEBOOK_SERVER))
    if parts.scheme in _POSTGRES:
        return dict(_settings_in(parts.query)).get("sslmode") in _SSL_MODES
    return parts.scheme in _ENCRYPTED


def _taken_apart(url: str) -> SplitResult:
    from urllib.parse import urlsplit  # takes longer to import than most commands may take

    return urlsplit(url)


def _settings_in(query: str) -> list[tuple[str, str]]:
    from urllib.parse import parse_qsl

    return parse_qsl(query)


class Trust(Struct, frozen=True, kw_only=True):
    """What the user allows the project in one folder.

    Attributes:
        folder: the project's folder, as an absolute path.
        is_given: True if the project may start programs and reach the places that it names.
        destinations: by reference of a secret, where it may go; by the empty text, other places
            that may be reached.
        unencrypted: destinations on other machines that may get secrets unencrypted.
        folders: absolute paths outside of the project in which ``file:`` references may lead.
    """

    folder: str = ""
    is_given: bool = False
    destinations: Mapping[str, frozenset[str]] = field(default_factory=dict)
    unencrypted: frozenset[str] = frozenset()
    folders: tuple[str, ...] = ()

    def demand(self, what: str) -> None:
        """Refuse to go on in a project that is not trusted.

        Args:
            what: what the program is about to do, after "this command would".

        Raises:
            NotTrusted: when the user has not allowed it.
        """
        if not self.is_given:
            raise NotTrusted(
                f"This project is not trusted, and this command would {what}. Nothing was done.",
                where=self.folder,
                next="See what the project executes and reaches: inchworm trust --show. "
                "Allow it: inchworm trust.",
            )

    def check_place(self, url: str) -> None:
        """Refuse to reach a place on another machine that the user has not seen.

        Args:
            url: its address.

        Raises:
            NotAllowed: when it was not named when the project was trusted.
        """
        destination = destination_of(url)
        allowed = frozenset().union(*self.destinations.values())
        if is_on_this_machine(destination) or {destination, ANYWHERE} & allowed:
            return
        raise NotAllowed(
            f"This project would reach {destination}, which it did not name when you trusted it. "
            "Nothing was sent.",
            next="Find out who added the address. If it is right: inchworm trust.",
        )

    def check_destination(self, reference: str, url: str) -> None:
        """Refuse to send a secret where the user has not allowed it to go.

        Args:
            reference: of the secret.
            url: the address that would get it, or :data:`NOTEBOOKS`.

        Raises:
            NotTrusted: when the user has not trusted the project.
            NotAllowed: when it may not go there, or would go there unencrypted.
        """
        self.demand(f"use the secret {reference}")
        destination = destination_of(url)
        if not destination:
            return
        allowed = self.destinations.get(reference, frozenset())
        if not {destination, ANYWHERE} & (allowed | self.destinations.get(ANYWHERE, frozenset())):
            listed = ", ".join(sorted(allowed)) or "no address"
            raise NotAllowed(
                f"The secret {reference} would go to {destination}. It is allowed for {listed}. "
                "Nothing was sent.",
                next="Find out who changed the address. If it is right: inchworm trust.",
            )
        if (
            not is_on_this_machine(destination)
            and not is_encrypted(url)
            and destination not in self.unencrypted
        ):
            how = "add ?sslmode=require to the address" if _is_postgres(url) else "use https"
            raise NotAllowed(
                f"The secret {reference} would go to {destination} unencrypted. Nothing was sent.",
                next=f"Encrypt the connection: {how}. Or allow it for this address: "
                f"inchworm trust --unencrypted {destination}.",
            )

    def to_json(self) -> dict[str, Any]:
        """Return the decision as the user's folder keeps it."""
        return {
            "addresses": {name: sorted(each) for name, each in sorted(self.destinations.items())},
            "unencrypted": sorted(self.unencrypted),
            "folders": list(self.folders),
        }

    @classmethod
    def from_json(cls, folder: str, data: Mapping[str, Any]) -> Trust:
        """Return a decision as the user's folder kept it."""
        return cls(
            folder=folder,
            is_given=True,
            destinations={name: frozenset(each) for name, each in data["addresses"].items()},
            unencrypted=frozenset(data["unencrypted"]),
            folders=tuple(data["folders"]),
        )


def _is_postgres(url: str) -> bool:
    return _taken_apart(url).scheme in _POSTGRES


def trust_in_variables(folder: str, folders: str, addresses: str, separator: str) -> Trust | None:
    """Return what environment variables allow a project; None if they do not name its folder.

    Args:
        folder: the project's folder, as an absolute path.
        folders: the value of :data:`VARIABLE`.
        addresses: the value of :data:`ADDRESSES_VARIABLE`. ``*`` allows every secret everywhere,
            ``reach=ADDRESS`` a place that gets no secret, ``unencrypted=ADDRESS`` one without TLS.
        separator: between folders.
    """
    if folder not in [each.rstrip("/") or "/" for each in folders.split(separator) if each]:
        return None
    destinations: dict[str, frozenset[str]] = {}
    unencrypted: set[str] = set()
    for word in addresses.split():
        reference, equals, address = word.partition("=")
        if word == ANYWHERE:
            destinations[ANYWHERE] = frozenset({ANYWHERE})
        elif reference == "unencrypted" and equals:
            unencrypted.add(destination_of(address))
        elif equals:
            reference = "" if reference == "reach" else reference
            known = destinations.get(reference, frozenset())
            destinations[reference] = known | {destination_of(address)}
    return Trust(
        folder=folder, is_given=True, destinations=destinations, unencrypted=frozenset(unencrypted)
    )
