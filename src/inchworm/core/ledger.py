"""The ledger's entries, the chain that ties each to the one before, and what they amount to."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

from inchworm.core.promotion import Draft, Promotion, State, StepReport, StepState

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


def promotion_of(entries: Sequence[Entry]) -> Promotion:
    """A promotion's present state, from its entries in their order, the draft first."""
    first = entries[0]
    promotion = Promotion(
        id=first.about,
        draft=Draft.from_json(first.body["draft"]),
        state=State.DRAFTED,
        drafted_at=first.at,
        drafted_by=first.by,
        changed_at=first.at,
        changed_by=first.by,
        commit=first.body["commit"],
        steps={},
    )
    steps: dict[int, StepReport] = {}
    for entry in entries[1:]:
        if entry.kind == "step":
            steps[entry.body["step"]] = StepReport(
                state=StepState(entry.body["state"]),
                message=entry.body.get("message", ""),
                seconds=entry.body.get("seconds"),
                rows=entry.body.get("rows"),
                size=entry.body.get("size"),
            )
        elif entry.kind == "state":
            promotion = replace(
                promotion,
                state=State(entry.body["state"]),
                message=entry.body["message"],
                changed_at=entry.at,
                changed_by=entry.by,
            )
    return replace(promotion, steps=steps)
