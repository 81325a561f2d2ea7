"""Asking PostgreSQL about relations: by their names, and with whole names in what it answers."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Collection, Iterator, Mapping, Sequence
from contextlib import contextmanager
from typing import Any, Protocol

from inchworm.core.identifiers import RelationName

TARGETS = """
WITH target AS (
  SELECT c.oid, c.relowner, c.relacl, n.nspname || '.' || c.relname AS name,
         c.relrowsecurity, c.relforcerowsecurity, c.reloptions
  FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
  WHERE c.oid = ANY(?::text[]::regclass[]::oid[])
)
"""
"""The beginning of a query about relations, given as quoted names; each answer begins with one."""


class Session(Protocol):
    """The connection that a switch-over works with.

    Attributes:
        writes_whole_names: whether the server writes every name with its schema just now.
    """

    writes_whole_names: bool

    def execute(self, sql: str, values: Sequence[Any] = ()) -> None:
        """Run a statement."""
        ...

    def take_locks(self, statements: Sequence[str], *, are_all: bool) -> None:
        """Run statements that wait for locks, none for longer than all of them may together."""
        ...

    def rows(self, sql: str, values: Sequence[Any] = ()) -> list[tuple[Any, ...]]:
        """Run a query."""
        ...

    def kinds(self, names: Collection[RelationName] | None = None) -> Mapping[str, str]:
        """``table`` or ``view`` for each relation, or for those named."""
        ...


def by_name(rows: Sequence[tuple[Any, ...]]) -> Mapping[str, list[tuple[Any, ...]]]:
    """Rows by the relation that they begin with, without it."""
    by_name: dict[str, list[tuple[Any, ...]]] = defaultdict(list)
    for name, *row in rows:
        by_name[name].append(tuple(row))
    return by_name


_WITHOUT_PATH = """
SELECT before, set_config('search_path', '', false)
FROM (SELECT current_setting('search_path') AS before OFFSET 0) AS setting
"""
"""Both in one statement; OFFSET has the setting read before it is another."""


@contextmanager
def whole_names(session: Session) -> Iterator[None]:
    """Have the server write every name with its schema."""
    if session.writes_whole_names:
        yield
        return
    ((before, _),) = session.rows(_WITHOUT_PATH)
    session.writes_whole_names = True
    try:
        yield
    finally:
        session.writes_whole_names = False
        session.rows("SELECT set_config('search_path', ?, false)", [before])
