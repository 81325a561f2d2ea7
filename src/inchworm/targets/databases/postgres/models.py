"""Models of PostgreSQL: built, and switched over."""

from __future__ import annotations

from collections.abc import Collection, Sequence

from inchworm.core.rendered import Store
from inchworm.targets.databases.postgres.structure import PostgresStructure
from inchworm.targets.databases.postgres.switch_over import (
    drop_views,
    switch_over,
)
from inchworm.targets.databases.protocols import Switch
from inchworm.targets.databases.quoting import quoted


class Postgres(PostgresStructure):
    """A PostgreSQL database."""

    def build(self, name: str, store: Store, sql: str) -> int | None:
        """Make a table or view from a SELECT; the rows of a table."""
        with self._errors():
            cursor = self._run(f"CREATE {store.upper()} {quoted(name)} AS {sql}", ())
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

    def switch_over(self, switches: Sequence[Switch]) -> None:
        """Put what was built beside in place. Called inside a transaction."""
        switch_over(self, switches)
