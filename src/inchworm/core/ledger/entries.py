"""The ledger's entries, and the chain that ties each to the one before."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Iterable, Mapping
from typing import Any, NamedTuple

from msgspec import Struct

GENESIS = "0" * 64
"""The hash in place of the one before the first entry."""


class Head(NamedTuple):
    """The end of a chain: the number of an entry, and its hash."""

    number: int
    hash: str

    @property
    def text(self) -> str:
        """The end as approvals keep it: ``NUMBER:HASH``."""
        return f"{self.number}:{self.hash}"


def head_in(text: str) -> Head | None:
    """The end of a chain that a text is; None of any other text."""
    number, colon, hash_ = text.partition(":")
    return Head(int(number), hash_) if colon and number.isdigit() else None


BEGINNING = Head(0, GENESIS)
"""The end of a chain without entries."""


class Entry(Struct, frozen=True, kw_only=True):
    """One thing that happened.

    Attributes:
        number: counts from 1 without gaps.
        at: ISO 8601, UTC.
        by: the person or service.
        kind: ``ledger-started``, ``packed``, ``drafted``, ``state``, ``step``,
            ``run-started``, ``run-step``, ``run-ended``, ``heard`` or ``head-signed``.
        about: what it concerns: the id of a promotion or run, or a bundle's name.
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
    def text(self) -> str:
        """The body as it is stored and hashed."""
        return json.dumps(self.body, sort_keys=True, ensure_ascii=False)

    @property
    def row(self) -> Row:
        """The entry as it is stored."""
        return Row(
            self.number, self.at, self.by, self.kind, self.about, self.text, self.before, self.hash
        )

    @property
    def hash(self) -> str:
        """SHA-256 over the entry and the hash of the one before, in hexadecimal."""
        return _hash(self.number, self.at, self.by, self.kind, self.about, self.text, self.before)


class Row(NamedTuple):
    """An entry as a ledger stores it, with its hash beside it."""

    number: int
    at: str
    by: str
    kind: str
    about: str
    text: str
    before: str
    hash: str

    @property
    def is_whole(self) -> bool:
        """Whether the hash beside the entry is its own."""
        return _hash(*self[:7]) == self.hash

    @property
    def entry(self) -> Entry:
        """The entry that is stored; its hash is not looked at."""
        return Entry(
            number=self.number,
            at=self.at,
            by=self.by,
            kind=self.kind,
            about=self.about,
            body=json.loads(self.text),
            before=self.before,
        )


_JSON = json.JSONEncoder(ensure_ascii=False)


def _hash(number: int, *texts: str) -> str:
    """Over the JSON array of them; written text by text, which takes half the time of a whole."""
    return hashlib.sha256(f"[{number},{','.join(map(_JSON.encode, texts))}]".encode()).hexdigest()


def first_break(rows: Iterable[Row], after: Head = BEGINNING) -> int | None:
    """The number of the first entry whose hash or order is wrong, or None.

    Args:
        rows: the entries behind ``after``, in order.
        after: the number and hash of the entry that they have to follow.
    """
    before = after.hash
    for expected, row in enumerate(rows, start=after.number + 1):
        if row.number != expected or row.before != before or not row.is_whole:
            return expected
        before = row.hash
    return None
