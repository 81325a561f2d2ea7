"""Which tables a script alters, so that whoever runs it has to own them, and which it writes."""

from __future__ import annotations

from collections.abc import Iterator

from sqlglot import exp

from inchworm.core.sql.names import table_name
from inchworm.core.sql.parse import parse_statements
from inchworm.core.sql.problems import SqlProblem

_OWNERS_ONLY = (exp.Alter, exp.Drop, exp.Comment, exp.TruncateTable)


def altered_tables(script: str, dialect: str) -> Iterator[str]:
    """The folded names of tables that statements alter, drop, index or comment on.

    Of a script that cannot be read, none.
    """
    for statement in _statements(script, dialect):
        is_index = isinstance(statement, exp.Create) and statement.kind == "INDEX"
        if isinstance(statement, _OWNERS_ONLY) or is_index:
            tables = list(statement.find_all(exp.Table))
            several = isinstance(statement, exp.Drop | exp.TruncateTable)
            for target in tables if several else tables[:1]:
                yield table_name(target, dialect)


def inserted_tables(script: str, dialect: str) -> Iterator[str]:
    """The folded names of tables into which statements put rows; of an unreadable script, none."""
    for statement in _statements(script, dialect):
        if isinstance(statement, exp.Insert) and (target := statement.this.find(exp.Table)):
            yield table_name(target, dialect)


def written_tables(script: str, dialect: str) -> Iterator[str]:
    """The folded names of tables whose rows statements add, change or delete.

    Of a script that cannot be read, none.
    """
    for statement in _statements(script, dialect):
        if isinstance(statement, exp.TruncateTable):
            yield from (table_name(table, dialect) for table in statement.find_all(exp.Table))
        elif isinstance(statement, exp.Insert | exp.Update | exp.Delete | exp.Merge):
            target = statement.this.find(exp.Table)
            if target is not None:
                yield table_name(target, dialect)


def _statements(script: str, dialect: str) -> list[exp.Expr]:
    """The statements of a script; of one that cannot be read, none: it has been reported."""
    try:
        return parse_statements(script, dialect)
    except SqlProblem:
        return []
