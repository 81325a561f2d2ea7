"""The reporter: hears of the progress of a promotion, and does with it what it wants."""

from __future__ import annotations

from inchworm.core.execution import StepReport
from inchworm.core.promotion.promotion import Step


class Reporter:
    """Hears what happens. The methods are empty: override what is wanted."""

    def reached(self, identity: str, at: str) -> None:
        """The environment is open, and nothing has been done yet."""

    def step_started(self, step: Step) -> None:
        """A step begins."""

    def step_ended(self, step: Step, report: StepReport) -> None:
        """A step has ended."""
