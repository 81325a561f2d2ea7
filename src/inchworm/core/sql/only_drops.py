"""Scripts that only take something away."""

from __future__ import annotations

from sqlglot import exp

from inchworm.core.sql.parse import parse_statements
from inchworm.core.sql.problems import SqlProblem


def only_drops(script: str, dialect: str) -> bool:
    """Whether every statement drops a relation, an index, a column or a constraint, and no more."""
    try:
        statements = parse_statements(script, dialect)
    except SqlProblem:
        return False
    return all(_drops(statement) for statement in statements)


def _drops(statement: exp.Expr) -> bool:
    if isinstance(statement, exp.Alter):
        actions = statement.args.get("actions") or []
        return bool(actions) and all(isinstance(action, exp.Drop) for action in actions)
    return isinstance(statement, exp.Drop)
