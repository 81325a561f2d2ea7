"""People, as ``people.toml`` names them: their keys, their other names, their groups."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

from msgspec import Struct, field

FILE = "people.toml"
GROUP = "group:"


class Person(Struct, frozen=True, kw_only=True):
    """Somebody who may be asked to approve.

    Attributes:
        name: by which the project knows them.
        key: their public Ed25519 key, base64; empty where they have none.
        also: names and addresses under which git and the operating system know them.
        groups: the groups that they are in.
    """

    name: str
    key: str = ""
    also: tuple[str, ...] = ()
    groups: tuple[str, ...] = ()

    def is_called(self, name: str) -> bool:
        """Whether a name, in whatever case, is one of theirs."""
        return name.strip().lower() in {self.name.lower(), *(each.lower() for each in self.also)}


class People(Struct, frozen=True):
    """All of them, by name."""

    by_name: Mapping[str, Person] = field(default_factory=dict)

    def called(self, name: str) -> Person:
        """The person of a name; somebody that the file does not know has just that name."""
        known = (person for person in self.by_name.values() if person.is_called(name))
        return next(known, Person(name=name))

    def with_key(self, key: str) -> Person | None:
        """The person with a public key."""
        return next((p for p in self.by_name.values() if p.key and p.key == key), None)

    def may(self, person: Person, listed: Iterable[str]) -> bool:
        """Whether somebody is among some people and groups."""
        return any(
            entry.removeprefix(GROUP) in person.groups
            if entry.startswith(GROUP)
            else person.is_called(entry)
            for entry in listed
        )
