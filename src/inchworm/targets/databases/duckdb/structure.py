"""Schemas of a DuckDB file: made, changed and tried."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping, Sequence
from contextlib import closing, contextmanager
from typing import Self

from inchworm.core.structure.changes import Alterations, Change
from inchworm.core.structure.definitions import Definition
from inchworm.targets.databases.duckdb.catalogue import DuckDbCatalogue
from inchworm.targets.databases.duckdb.session import IN_MEMORY
from inchworm.targets.databases.quoting import quoted, quoted_one

_ALTERS = Alterations(changes_columns=True, keys_and_indexes_pin_tables=True, has_loose_types=False)


class DuckDbStructure(DuckDbCatalogue):
    """Making and changing schemas of a DuckDB file."""

    def create_schema(self, schema: str) -> None:
        """Make a schema unless it is there."""
        self.execute(f"CREATE SCHEMA IF NOT EXISTS {quoted(schema)}")

    @contextmanager
    def scratch_schemas(self, schemas: Sequence[str]) -> Iterator[None]:
        """Schemas that are dropped again: in DuckDB, a transaction ends with its first error."""
        made: list[str] = []
        try:
            for schema in schemas:
                self.execute(f"CREATE SCHEMA {quoted(schema)}")
                made.append(schema)
            yield
        finally:
            self.discard(made)

    def discard(self, schemas: Collection[str]) -> None:
        """Remove scratch schemas with the copies in them."""
        for schema in schemas:  # in DuckDB, nothing outside a schema goes with it
            self.execute(f"DROP SCHEMA IF EXISTS {quoted(schema)} CASCADE")

    @contextmanager
    def scratch_database(self, schema: str) -> Iterator[tuple[Self, str]]:
        """A database in memory, with empty copies of the tables of all other schemas."""
        with closing(type(self)(IN_MEMORY)) as board:
            board.create_schema(schema)
            for name, table in self.structure().items():
                if table.schema != schema:
                    board.create_schema(table.schema)
                    columns = ", ".join(f"{quoted_one(c.name)} {c.type}" for c in table.columns)
                    board.execute(f"CREATE TABLE {quoted(name)} ({columns})")
            yield board, schema

    board_sees_outside = False

    @contextmanager
    def board(self, schemas: Sequence[str]) -> Iterator[Self | None]:
        """A database in memory; none where this one has functions or types of its own."""
        ((types,),) = self.rows("SELECT count(*) FROM duckdb_types() WHERE NOT internal")
        if types or self._all_macros():
            yield None
            return
        with closing(type(self)(IN_MEMORY)) as board, board.scratch_schemas(schemas):
            yield board

    def changes(
        self,
        schema: str,
        live: Sequence[Definition],
        desired: Sequence[Definition],
        renames: Mapping[str, str],
    ) -> list[Change]:
        """The changes that turn one structure into another: most tables are made anew."""
        from inchworm.core.structure.rebuilding import rebuilt  # the parser, only where needed

        return rebuilt(live, desired, renames, self.dialect, _ALTERS)

    @contextmanager
    def restructuring(self, upon: Sequence[str]) -> Iterator[None]:
        """A transaction: views of DuckDB read by name, and nothing else hangs on a table."""
        with self.transaction():
            yield
