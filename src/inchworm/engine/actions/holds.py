"""Holds: recorded in the environment's own database, with the promotion that brings them."""

from __future__ import annotations

from typing import ClassVar

from inchworm.core.execution import StepReport, StepState
from inchworm.core.promotion.states import Phase
from inchworm.engine.actions.base import Action
from inchworm.engine.site import Site


class SetHolds(Action):
    """Hold a part, or lift a hold."""

    phase = Phase.HOLD
    repeatable: ClassVar[str] = "The step's mark is in the transaction of the record."

    def perform(self, site: Site) -> StepReport:
        """Record the hold, or forget it."""
        holds = site.circumstances.holds if site.circumstances else ()
        hold = next((each for each in holds if each.part == self.part), None)
        with site.database.transaction():
            site.bookkeeping.lift(self.part)
            if hold is not None:
                site.bookkeeping.hold(hold, site.now())
            site.mark(self.number)
        return StepReport(state=StepState.DONE, message="held" if hold else "lifted")
