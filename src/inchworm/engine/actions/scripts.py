"""Scripts that run at every promotion, before anything else or behind everything else."""

from __future__ import annotations

from collections.abc import Iterator
from typing import ClassVar

from inchworm.core.execution import StepReport
from inchworm.core.promotion.states import Phase
from inchworm.core.rendered import Script, When
from inchworm.engine.actions.base import DONE, Action
from inchworm.engine.site import Site


class RunScript(Action):
    """Run a script in one transaction."""

    when: ClassVar[When]
    repeatable: ClassVar[str] = "The step's mark is in the transaction of the script."

    def _script(self, site: Site) -> Script:
        return site.rendered.schema(self.part).script(self.when, self.step.item)

    def statements(self, site: Site) -> Iterator[str]:
        """The script, under this environment's names."""
        return site.statements(self._script(site).sql)

    def perform(self, site: Site) -> StepReport:
        """Run it, and record what it changes in schemas that are ours."""
        with site.database.transaction(), site.structures.recording():
            site.run(self._script(site).sql)
            site.mark(self.number)
        return DONE


class RunScriptBefore(RunScript):
    """Run a script before anything else."""

    phase = Phase.BEFORE
    when = When.BEFORE
    is_before_switch_over = True


class RunScriptAfter(RunScript):
    """Run a script behind everything else."""

    phase = Phase.AFTER
    when = When.AFTER
