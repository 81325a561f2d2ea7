"""The settings of ``people.toml``; apart, as most commands have none to read."""

from __future__ import annotations

import base64

from pydantic import field_validator

from inchworm.kinds.settings import Settings

_KEY_BYTES = 32


class PersonSettings(Settings):
    """One ``[people.NAME]``."""

    key: str = ""
    also: tuple[str, ...] = ()
    groups: tuple[str, ...] = ()

    @field_validator("key")
    @classmethod
    def _is_key(cls, key: str) -> str:
        try:
            is_key = not key or len(base64.b64decode(key, validate=True)) == _KEY_BYTES
        except ValueError:
            is_key = False
        if not is_key:
            raise ValueError("must be a public Ed25519 key in base64, as inchworm ledger key shows")
        return key


class PeopleFile(Settings):
    """``people.toml``."""

    people: dict[str, PersonSettings] = {}
