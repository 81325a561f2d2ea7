"""The ledger's entries and the chain that ties each to the one before."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from typing import Any

GENESIS = "0" * 64
"""What stands in place of the hash before the first entry."""


@dataclass(frozen=True, kw_only=True)
class Entry:
    """One thing that happened.

    Attributes:
        number: counts from 1 without gaps.
        at: ISO 8601, UTC.
        by: the person or service.
        kind: ``ledger-started``, ``packed``, ``drafted``, ``state`` or ``step``.
        about: what it concerns: a promotion's id or a bundle's name.
        body: everything else, as JSON.
        before: the hash of the entry before.
    """

    number: int
    at: str
    by: str
    kind: str
    about: str
    body: Mapping[str, Any]
    before: str

    @property
    def hash(self) -> str:
        """SHA-256 over the entry and the hash of the one before, in hexadecimal."""
        content = [
            self.number,
            self.at,
            self.by,
            self.kind,
            self.about,
            json.dumps(self.body, sort_keys=True, ensure_ascii=False),
            self.before,
        ]
        text = json.dumps(content, ensure_ascii=False, separators=(",", ":"))
        return hashlib.sha256(text.encode()).hexdigest()


def first_break(entries: Iterable[tuple[Entry, str]]) -> int | None:
    """The number of the first entry whose hash or order is wrong, or None.

    Args:
        entries: each entry with the hash that is stored beside it.
    """
    before = GENESIS
    for expected, (entry, stored) in enumerate(entries, start=1):
        if entry.number != expected or entry.before != before or entry.hash != stored:
            return expected
        before = stored
    return None
