"""Which rule a problem with SQL is a finding of, and what rules about queries find."""

from __future__ import annotations

from collections.abc import Collection, Mapping

from sqlglot import exp

from inchworm.core.checks import rules
from inchworm.core.checks.query_rules import Context, suspicions
from inchworm.core.identifiers import PartId
from inchworm.core.lineage.facts import Unportable
from inchworm.core.sql.columns import Resolution
from inchworm.core.sql.duckdb_forms import forms_of
from inchworm.core.sql.problems import NameFromParameter, NotAQuery, SqlProblem, WritingQuery
from inchworm.core.structure.tables import Table
from inchworm.kinds.settings import Report


def rule_of(problem: SqlProblem, otherwise: rules.Rule) -> rules.Rule:
    """The rule of a problem; ``otherwise`` is that of text which cannot be read at all."""
    match problem:
        case WritingQuery():
            return rules.SQL_WRITES
        case NotAQuery():
            return rules.NOT_A_QUERY
        case NameFromParameter():
            return rules.PARAMETER_AS_NAME
    return otherwise


def unportable(
    resolution: Resolution, dialect: str, file: str, first_line: int = 1
) -> tuple[Unportable, ...]:
    """The forms of a query, which begins on a line of a file, that other databases lack."""
    if dialect != "duckdb":
        return ()
    return tuple(
        Unportable(form.name, form.lacking, file, form.line and form.line + first_line - 1)
        for form in dict.fromkeys(forms_of(resolution.nodes))
    )


class QueryReview:
    """Looks through the queries of one part.

    Args:
        tables: known tables by name.
        dialect: the dialect of the queries.
        report: hears of each finding.
        grows: whether their rows are kept from build to build.
        leave_out: rules that do not count.
    """

    def __init__(
        self,
        part: PartId,
        tables: Mapping[str, Table],
        dialect: str,
        report: Report,
        *,
        grows: bool = False,
        leave_out: Collection[rules.Rule] = (),
    ) -> None:
        self._part = part
        self._tables = tables
        self._dialect = dialect
        self._report = report
        self._grows = grows
        self._leave_out = leave_out

    def look(
        self, query: exp.Query, resolution: Resolution, file: str, first_line: int = 1
    ) -> None:
        """Report what is probably not meant in a query that begins on a line of a file."""
        context = Context(
            query=query,
            resolution=resolution,
            tables=self._tables,
            dialect=self._dialect,
            grows=self._grows,
        )
        for rule, message, line in dict.fromkeys(suspicions(context)):
            if rule in self._leave_out:
                continue
            at = None if line is None else line + first_line - 1
            self._report(rule.finding(message, part=self._part, file=file, line=at))
