"""Schedules: paused before anything that they run changes, and given their declared state after."""

from __future__ import annotations

from typing import ClassVar

from inchworm.core.execution import StepReport, StepState
from inchworm.core.promotion.states import Phase
from inchworm.engine.actions.base import DONE, Action, Undoing
from inchworm.engine.site import Site


class PauseSchedule(Action):
    """Pause a schedule that is on."""

    phase = Phase.PAUSE
    is_before_switch_over = True
    is_of_service = True
    leaves_mark = False
    repeatable: ClassVar[str] = "A schedule that is paused already stays paused."

    def perform(self, site: Site) -> StepReport:
        """Pause it."""
        site.place.workspace.set_schedule(self.part.name, self.step.item, "paused")
        return DONE

    @property
    def left_behind(self) -> str:
        """The schedule stays paused."""
        return f"still paused: {self.part} {self.step.item}"

    def undo(self, site: Site, undoing: Undoing) -> bool:
        """Let it run again."""
        site.place.workspace.set_schedule(self.part.name, self.step.item, "on")
        return True


class SetSchedule(Action):
    """Give a schedule the state that the environment declares."""

    phase = Phase.RESUME
    is_of_service = True
    leaves_mark = False
    repeatable: ClassVar[str] = "A schedule that has its state already keeps it."

    def perform(self, site: Site) -> StepReport:
        """Switch it on or off."""
        declared = site.environment.schedule_state(self.part.name, self.step.item)
        site.place.workspace.set_schedule(self.part.name, self.step.item, declared)
        return StepReport(state=StepState.DONE, message=f"is {declared}")
