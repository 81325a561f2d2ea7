"""Holds: parts that are deliberately kept as they are in an environment, or kept out of it."""

from __future__ import annotations

import datetime as dt
from collections.abc import Mapping
from typing import Any

from msgspec import Struct
from msgspec.structs import asdict

from inchworm.core.identifiers import PartId


class Hold(Struct, frozen=True, kw_only=True):
    """A part that is deliberately kept as it is in an environment, or kept out of it.

    Attributes:
        until: the last day of the hold; None of one that somebody has to lift.
        by: who asked for it.
        at: when it took effect, ISO 8601, UTC; empty of one that is drafted.
    """

    part: PartId
    because: str
    until: dt.date | None
    by: str
    at: str = ""

    def holds_on(self, day: dt.date) -> bool:
        """Whether it is in force on a day."""
        return self.until is None or day <= self.until

    def to_json(self) -> dict[str, Any]:
        """The hold as the ledger keeps it."""
        until = self.until.isoformat() if self.until else None
        return asdict(self) | {"part": str(self.part), "until": until}

    @classmethod
    def from_json(cls, data: Mapping[str, Any]) -> Hold:
        """A hold as the ledger kept it."""
        until = dt.date.fromisoformat(data["until"]) if data["until"] else None
        return cls(**{**data, "part": PartId.parse(data["part"]), "until": until})
