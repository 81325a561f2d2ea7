"""The failure of a step that leaves something to look at."""

from __future__ import annotations

from inchworm.core.errors import TargetError


class StepFailed(TargetError):
    """A step of a run failed.

    Attributes:
        log: what it said until then.
        output: the name of the file that it left with the run.
    """

    def __init__(
        self, what: str, *, next: str | None = None, log: str = "", output: str = ""
    ) -> None:
        super().__init__(what, next=next)
        self.log = log
        self.output = output
