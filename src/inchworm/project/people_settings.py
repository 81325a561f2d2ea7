"""The settings of ``people.toml``; apart, as most commands have none to read."""

from __future__ import annotations

import base64
import datetime as dt

from pydantic import Field, field_validator

from inchworm.core.entry.people import Key, Person, Span
from inchworm.kinds.settings import Settings

_KEY_BYTES = 32


class Spanned(Settings):
    """Something that counts from a day until a day, both included."""

    from_: dt.date | None = Field(None, alias="from")
    until: dt.date | None = None

    @property
    def span(self) -> Span:
        """The days as the rest of the program has them."""
        return Span(first=self.from_, last=self.until)


class KeySettings(Spanned):
    """One of several keys of a person."""

    key: str

    @field_validator("key")
    @classmethod
    def _is_key(cls, key: str) -> str:
        try:
            is_key = len(base64.b64decode(key, validate=True)) == _KEY_BYTES
        except ValueError:
            is_key = False
        if not is_key:
            raise ValueError("must be a public Ed25519 key in base64, as inchworm ledger key shows")
        return key


class PersonSettings(Spanned):
    """One ``[people.NAME]``."""

    key: str = ""
    keys: tuple[KeySettings, ...] = ()
    also: tuple[str, ...] = ()
    groups: tuple[str, ...] = ()

    @field_validator("key")
    @classmethod
    def _is_key(cls, key: str) -> str:
        return KeySettings(key=key).key if key else key

    def person(self, name: str) -> Person:
        """The person as the rest of the program has them."""
        only = (Key(public=self.key),) if self.key else ()
        several = tuple(Key(public=each.key, span=each.span) for each in self.keys)
        return Person(
            name=name,
            keys=(*only, *several),
            also=self.also,
            groups=self.groups,
            span=self.span,
        )


class PeopleFile(Settings):
    """``people.toml``."""

    people: dict[str, PersonSettings] = {}
