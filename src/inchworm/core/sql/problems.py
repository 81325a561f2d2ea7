"""Problems of a text that should be SQL. The parser is not needed to know them."""

from __future__ import annotations


class SqlProblem(Exception):
    """Text that cannot be read as SQL: the reason, and the line where reading stopped."""

    def __init__(self, reason: str, line: int | None) -> None:
        super().__init__(reason)
        self.reason = reason
        self.line = line


class WritingQuery(SqlProblem):
    """A query in which something writes or locks."""


class NotAQuery(SqlProblem):
    """A statement where a SELECT must stand."""


class NameFromParameter(SqlProblem):
    """A query that has a parameter where the name of a table or column must stand."""
