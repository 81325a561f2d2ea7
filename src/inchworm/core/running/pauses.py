"""Pauses: schedules that deliberately start nothing for a while."""

from __future__ import annotations

import datetime as dt
from collections.abc import Iterable
from typing import Any

from msgspec import Struct
from msgspec.structs import replace

from inchworm.core.identifiers import PartId


class Pause(Struct, frozen=True, kw_only=True):
    """Schedules of an environment that start nothing until somebody resumes them.

    Attributes:
        what: ``pipeline.schedule``, ``pipeline:name`` for all of a pipeline, or empty text for all
            of the environment.
        until: when it ends by itself, ISO 8601, UTC; empty where somebody has to resume it.
        at: when it began, ISO 8601, UTC.
        resumed_at: when somebody resumed it, ISO 8601, UTC; empty while nobody has.
    """

    what: str
    because: str
    by: str
    at: str
    until: str = ""
    resumed_at: str = ""

    @property
    def ends(self) -> dt.datetime | None:
        """When it ended, or is going to; None while nobody knows."""
        known = [dt.datetime.fromisoformat(each) for each in (self.until, self.resumed_at) if each]
        return min(known, default=None)

    def is_in_force(self, now: dt.datetime) -> bool:
        """Whether it keeps schedules from starting anything at a time."""
        return self.ends is None or now < self.ends

    def covers(self, pipeline: PartId, schedule: str) -> bool:
        """Whether it is about a schedule of a pipeline, ``pipeline.schedule``."""
        return self.what in {"", str(pipeline), schedule}

    def to_json(self) -> dict[str, Any]:
        """The pause as documents tell it."""
        return {
            "what": self.what,
            "because": self.because,
            "by": self.by,
            "at": self.at,
            "until": self.until or None,
        }

    @property
    def in_words(self) -> str:
        """Until when, by whom and why."""
        until = f"until {_shown(self.until)} UTC, " if self.until else ""
        by = f"by {self.by}: " if self.by else ""
        return f"{until}{by}{self.because}"

    @property
    def without_names(self) -> Pause:
        """The same for somebody who may see neither names nor reasons."""
        return replace(self, by="", because="why is shown with a token")


def pause_of(
    pauses: Iterable[Pause], pipeline: PartId, schedule: str, now: dt.datetime
) -> Pause | None:
    """The pause that keeps a schedule from starting anything now; the latest of several."""
    covering = [p for p in pauses if p.covers(pipeline, schedule) and p.is_in_force(now)]
    return max(covering, key=lambda pause: pause.at, default=None)


def paused_until(pauses: Iterable[Pause], pipeline: PartId, schedule: str) -> dt.datetime | None:
    """When the last pause of a schedule ended; times before that were missed."""
    ends = [pause.ends for pause in pauses if pause.covers(pipeline, schedule)]
    return max((end for end in ends if end is not None), default=None)


def _shown(moment: str) -> str:
    return moment[:16].replace("T", " ")
