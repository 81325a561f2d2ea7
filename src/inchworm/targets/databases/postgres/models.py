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

_CHANGED_ROWS = """
SELECT schemaname, relname, n_tup_ins + n_tup_upd + n_tup_del FROM pg_stat_xact_user_tables
WHERE n_tup_ins + n_tup_upd + n_tup_del > 0
"""
"""The tables of which this transaction has changed rows so far, and how many."""


class Postgres(PostgresStructure):
    """A PostgreSQL database."""

    def build(self, name: str, store: Store, sql: str) -> int | None:
        """Make a table or view from a SELECT; the rows of a table. Called inside a transaction."""
        before = set(self.rows(_CHANGED_ROWS))
        with self._errors():
            cursor = self._run(f"CREATE {store.upper()} {quoted(name)} AS {sql}", ())
        written = sorted(
            RelationName(f"{schema}.{table}")
            for schema, table, _ in set(self.rows(_CHANGED_ROWS)) - before
        )
        if others := [table for table in written if table != name]:
            raise TargetError(
                f"the query changed rows of {', '.join(others)}, by a function that it calls or a "
                "trigger; a model only reads.",
                next="All that it changed was taken back. Do without that function in the model.",
            )
        return None if store is Store.VIEW else cursor.rowcount

    def empty_copy(self, name: str, sql: str) -> str:
        """The statement that makes an empty table with the columns of a SELECT, running nothing."""
        return f"CREATE TABLE {quoted(name)} AS ({sql}) WITH NO DATA"

    def drop(self, names: Collection[str]) -> None:
        """Remove tables and views, those that are there, and nothing that hangs on them."""
        kinds = self.kinds()
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
