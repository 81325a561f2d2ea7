"""People, as ``people.toml`` names them: their keys, their other names, their groups."""

from __future__ import annotations

import datetime as dt
from collections.abc import Iterable, Mapping

from msgspec import Struct, field

FILE = "people.toml"
GROUP = "group:"


class Span(Struct, frozen=True, kw_only=True):
    """The days on which somebody, or a key, counts.

    Attributes:
        first: the first day; None where there is none.
        last: the last day; None where there is none.
    """

    first: dt.date | None = None
    last: dt.date | None = None

    def has(self, day: dt.date) -> bool:
        """Return True if a day is among them."""
        return (self.first is None or self.first <= day) and (self.last is None or day <= self.last)


ALWAYS = Span()


class Key(Struct, frozen=True, kw_only=True):
    """A public Ed25519 key, base64, and the days on which it counts."""

    public: str
    span: Span = ALWAYS


class Person(Struct, frozen=True, kw_only=True):
    """Somebody who may be asked to approve.

    Attributes:
        name: by which the project knows them.
        keys: their public keys.
        also: names and addresses under which git and the operating system know them.
        groups: the groups that they are in.
        span: the days on which what they say counts.
    """

    name: str
    keys: tuple[Key, ...] = ()
    also: tuple[str, ...] = ()
    groups: tuple[str, ...] = ()
    span: Span = ALWAYS

    def has_key_on(self, public: str, day: dt.date) -> bool:
        """Return True if a key counts as theirs on a day."""
        return self.span.has(day) and any(
            key.public == public and key.span.has(day) for key in self.keys
        )

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
        everybody = self.by_name.values()
        return next((p for p in everybody if any(k.public == key for k in p.keys)), None)

    def may(self, person: Person, listed: Iterable[str]) -> bool:
        """Whether somebody is among some people and groups."""
        return any(
            entry.removeprefix(GROUP) in person.groups
            if entry.startswith(GROUP)
            else person.is_called(entry)
            for entry in listed
        )
