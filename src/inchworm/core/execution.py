"""How the actions of a graph stand, and how they ended: what an executor and a journal exchange."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from enum import StrEnum

from inchworm.core.sample import Sample


class StepState(StrEnum):
    """Where a step stands, or how it ended."""

    WAITING = "waiting"
    RUNNING = "running"
    DONE = "done"
    WARNED = "warning"
    """It is done, and found something that whoever promotes should know."""
    NOTHING_CHECKED = "nothing checked"
    FAILED = "failed"

    @property
    def is_over(self) -> bool:
        """Whether the action need not be done any more."""
        return self in {StepState.DONE, StepState.WARNED, StepState.NOTHING_CHECKED}


@dataclass(frozen=True, kw_only=True)
class StepReport:
    """How a step ended, in words, and how long it took in seconds.

    Attributes:
        rows: of a table that was built.
        size: its bytes on disk, where the database tells.
        samples: by check in words, the first rows that it found; values of classes are left out.
    """

    state: StepState
    message: str = ""
    seconds: float | None = None
    rows: int | None = None
    size: int | None = None
    samples: Mapping[str, Sample] = field(default_factory=dict)
