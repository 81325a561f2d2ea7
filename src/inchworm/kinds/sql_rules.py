"""Which rule a problem with SQL is a finding of."""

from __future__ import annotations

from inchworm.core.checks import rules
from inchworm.core.sql.problems import NameFromParameter, SqlProblem, WritingQuery


def rule_of(problem: SqlProblem, otherwise: rules.Rule) -> rules.Rule:
    """The rule of a problem; ``otherwise`` is that of text which cannot be read at all."""
    match problem:
        case WritingQuery():
            return rules.SQL_WRITES
        case NameFromParameter():
            return rules.PARAMETER_AS_NAME
    return otherwise
