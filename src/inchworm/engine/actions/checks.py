"""Data checks: on what is going to be live, before any reader sees it."""

from __future__ import annotations

from abc import abstractmethod
from collections.abc import Iterable
from typing import ClassVar

from inchworm.core.execution import StepReport
from inchworm.core.identifiers import ColumnName, Kind, PartId
from inchworm.core.promotion.states import Phase
from inchworm.engine.actions.base import Action, Undoing
from inchworm.engine.executor import Mode
from inchworm.engine.row_checks import judge_file, judge_model
from inchworm.engine.site import Site


class _Check(Action):
    phase = Phase.CHECK
    mode = Mode.BESIDE
    is_before_switch_over = True
    leaves_mark = False
    only_judges = True
    repeatable: ClassVar[str] = "It only reads."

    def perform(self, site: Site) -> StepReport:
        """Judge in a transaction in which nothing can be changed, also by a function."""
        with site.database.reading():
            return self.judge(site)

    @abstractmethod
    def judge(self, site: Site) -> StepReport:
        """Count the rows that are not as they should be."""

    def undo(self, site: Site, undoing: Undoing) -> bool:
        """It has to be asked again of what is built next."""
        return True

    def _builds_of(self, tables: Iterable[str]) -> list[int]:
        models = (PartId(Kind.MODEL, table) for table in tables)
        return [self.plan.building[model] for model in models if model in self.plan.building]


class CheckModel(_Check):
    """Check the data of a model that was built, as its settings say."""

    def needs(self, site: Site) -> list[int]:
        """It needs the model, and the models that its columns point to."""
        columns = site.rendered.model(self.part).checks.values()
        pointed_at = {
            ColumnName(c["points_to"].lower()).relation for c in columns if "points_to" in c
        }
        return self._builds_of({self.part.relation, *pointed_at})

    def judge(self, site: Site) -> StepReport:
        """Count the rows that do not satisfy each check."""
        return judge_model(self.part, site)


class CheckFile(_Check):
    """Run a check file: a SELECT that must return no row."""

    def needs(self, site: Site) -> list[int]:
        """It needs the models that it reads."""
        return self._builds_of(site.assembly.outlines[self.part].reads)

    def judge(self, site: Site) -> StepReport:
        """Count the rows that it returns."""
        return judge_file(self.part, site)
