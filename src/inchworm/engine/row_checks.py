"""Data checks, judged at a site: how many rows are not as they should be, and the first of them."""

from __future__ import annotations

from sqlglot import exp

from inchworm.core.counting import counted
from inchworm.core.execution import StepReport, StepState
from inchworm.core.identifiers import PartId
from inchworm.core.lineage.classes import classed_columns
from inchworm.core.promotion.data_checks import RowCheck, checks_of
from inchworm.core.sample import Sample
from inchworm.core.sql.parse import parse_query
from inchworm.core.sql.render import to_text
from inchworm.core.sql.selection import first_rows
from inchworm.engine.site import Site
from inchworm.targets.databases.quoting import quoted

_KEPT = 5
"""Rows of each failing check that are recorded."""


def judge_model(part: PartId, site: Site) -> StepReport:
    """Count the rows of a model that do not satisfy each check in its settings."""
    model = site.rendered.model(part)
    return judge_table(part.relation, checks_of(part.relation, model.key, model.checks), site)


def judge_table(name: str, checks: list[RowCheck], site: Site) -> StepReport:
    """Count the rows of a table, by its logical name, that do not satisfy each check."""
    if not site.database.rows(f"SELECT 1 FROM {quoted(site.present(name))} LIMIT 1"):
        return StepReport(state=StepState.NOTHING_CHECKED, message="there are no rows")
    faults = []
    samples = {}
    for check in checks:
        ((count,),) = site.database.rows(site.sql(check.query, site.present))
        if count:
            faults.append(f"{check.text}: {counted(count, 'row')} not")
            samples[check.text] = _sample(check.failing, site)
    if faults:
        return StepReport(state=StepState.FAILED, message="; ".join(faults), samples=samples)
    return StepReport(state=StepState.DONE, message=f"{len(checks)} checks hold")


def judge_file(part: PartId, site: Site) -> StepReport:
    """Count the rows that a check file returns."""
    check = site.rendered.check(part)
    sql = site.sql(check.sql, site.present)
    ((count,),) = site.database.rows(f"SELECT count(*) FROM ({sql}) AS returned")
    if not count:
        return StepReport(state=StepState.DONE, message="no row found")
    outcome = f"{counted(count, 'row')} found"
    return StepReport(
        state=StepState.FAILED if check.refuses else StepState.WARNED,
        message=f"{check.message}: {outcome}" if check.message else outcome,
        samples={check.message or part.name: _sample(check.sql, site)},
    )


def _sample(query: str | exp.Query, site: Site) -> Sample:
    """The first rows that a check found, without values of columns that have a class."""
    dialect = site.assembly.dialect
    tree = parse_query(query, dialect) if isinstance(query, str) else query
    first = first_rows(tree, {}, dialect, first=_KEPT + 1)
    columns, rows = site.database.select(site.sql(first, site.present))
    classes = classed_columns(to_text(tree, dialect), columns, site.assembly)
    return Sample.of(columns, rows, _KEPT).hiding(classes)
