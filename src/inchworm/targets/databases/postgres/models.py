"""Models of PostgreSQL: built, and switched over."""

from __future__ import annotations

from collections.abc import Collection, Sequence

from inchworm.core.errors import TargetError
from inchworm.core.identifiers import RelationName
from inchworm.core.rendered import Store
from inchworm.targets.databases.postgres.structure import PostgresStructure
from inchworm.targets.databases.postgres.switch_over import (
    drop_views,
    prepare,
    switch_over,
)
from inchworm.targets.databases.protocols import Switch
from inchworm.targets.databases.quoting import quoted

_CHANGED = """
SELECT coalesce(n.nspname || '.' || c.relname, 'a table that is gone')
FROM pg_locks l LEFT JOIN pg_class c ON c.oid = l.relation
LEFT JOIN pg_namespace n ON n.oid = c.relnamespace
WHERE l.pid = pg_backend_pid() AND l.locktype = 'relation' AND l.granted
  AND l.mode NOT IN ('AccessShareLock', 'RowShareLock')
  AND (n.nspname IS NULL OR n.nspname !~ '^pg_')
"""
"""What this transaction has changed so far: whoever only reads a relation holds one of two locks,
and locks are held until a transaction ends."""


class Postgres(PostgresStructure):
    """A PostgreSQL database."""

    def build(self, name: str, store: Store, sql: str) -> int | None:
        """Make a table or view from a SELECT; the rows of a table. Called inside a transaction."""
        before = set(self.rows(_CHANGED))
        with self._errors():
            cursor = self._run(f"CREATE {store.upper()} {quoted(name)} AS {sql}", ())
        if changed := {*self.rows(_CHANGED)} - before - {(str(name),)}:
            raise TargetError(
                f"the query changed {', '.join(sorted(what for (what,) in changed))}, by a "
                "function that it calls; a model only reads.",
                next="All that it changed was taken back. Do without that function in the model.",
            )
        return None if store is Store.VIEW else cursor.rowcount

    def empty_copy(self, name: str, sql: str) -> str:
        """The statement that makes an empty table with the columns of a SELECT, running nothing."""
        return f"CREATE TABLE {quoted(name)} AS ({sql}) WITH NO DATA"

    def drop(self, names: Collection[RelationName]) -> None:
        """Remove tables and views, those that are there, and nothing that hangs on them."""
        if not names:
            return
        kinds = self.kinds(names)
        drop_views(self, [name for name in names if kinds.get(name) == "view"])
        tables = [quoted(name) for name in names if kinds.get(name) == "table"]
        if tables:
            self.execute(f"DROP TABLE {', '.join(tables)}")

    def prepare(self, switches: Sequence[Switch]) -> None:
        """Make the indexes of what is replaced on what takes its place."""
        prepare(self, switches)

    def switch_over(self, switches: Sequence[Switch]) -> None:
        """Put what was built beside in place. Called inside a transaction."""
        switch_over(self, switches)
