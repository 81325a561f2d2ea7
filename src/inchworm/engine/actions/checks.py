"""Data checks: on what is going to be live, before any reader sees it."""

from __future__ import annotations

from abc import abstractmethod
from collections.abc import Iterable
from typing import ClassVar

from sqlglot import exp

from inchworm.core.counting import counted
from inchworm.core.execution import StepReport, StepState
from inchworm.core.identifiers import ColumnName, Kind, PartId
from inchworm.core.lineage.classes import classed_columns
from inchworm.core.promotion.data_checks import checks_of
from inchworm.core.promotion.states import Phase
from inchworm.core.sample import Sample
from inchworm.core.sql.parse import parse_query
from inchworm.core.sql.render import to_text
from inchworm.core.sql.selection import first_rows
from inchworm.engine.actions.base import Action, Undoing
from inchworm.engine.executor import Mode
from inchworm.engine.site import Site
from inchworm.targets.databases.quoting import quoted


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
        model = site.rendered.model(self.part)
        name = self.part.relation
        if not site.database.rows(f"SELECT 1 FROM {quoted(site.present(name))} LIMIT 1"):
            return StepReport(state=StepState.NOTHING_CHECKED, message="there are no rows")
        checks = checks_of(name, model.key, model.checks)
        faults = []
        samples = {}
        for check in checks:
            ((count,),) = site.database.rows(site.sql(check.query, site.present))
            if count:
                faults.append(f"{check.text}: {_rows(count)} not")
                samples[check.text] = _sample(check.failing, site)
        if faults:
            message = "; ".join(faults)
            return StepReport(state=StepState.FAILED, message=message, samples=samples)
        return StepReport(state=StepState.DONE, message=f"{len(checks)} checks hold")


class CheckFile(_Check):
    """Run a check file: a SELECT that must return no row."""

    def needs(self, site: Site) -> list[int]:
        """It needs the models that it reads."""
        return self._builds_of(site.assembly.outlines[self.part].reads)

    def judge(self, site: Site) -> StepReport:
        """Count the rows that it returns."""
        check = site.rendered.check(self.part)
        sql = site.sql(check.sql, site.present)
        ((count,),) = site.database.rows(f"SELECT count(*) FROM ({sql}) AS returned")
        if not count:
            return StepReport(state=StepState.DONE, message="no row found")
        message = (
            f"{check.message}: {_rows(count)} found" if check.message else f"{_rows(count)} found"
        )
        return StepReport(
            state=StepState.FAILED if check.refuses else StepState.WARNED,
            message=message,
            samples={check.message or self.part.name: _sample(check.sql, site)},
        )


_KEPT = 5
"""Rows of each failing check that are recorded."""


def _sample(query: str | exp.Query, site: Site) -> Sample:
    """The first rows that a check found, without values of columns that have a class."""
    dialect = site.assembly.dialect
    tree = parse_query(query, dialect) if isinstance(query, str) else query
    first = first_rows(tree, {}, dialect, first=_KEPT + 1)
    columns, rows = site.database.select(site.sql(first, site.present))
    classes = classed_columns(to_text(tree, dialect), columns, site.assembly)
    return Sample.of(columns, rows, _KEPT).hiding(classes)


def _rows(count: int) -> str:
    return counted(count, "row")
