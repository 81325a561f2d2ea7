"""Schemas of PostgreSQL: made, changed where they stand, and tried in transactions."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping, Sequence
from contextlib import closing, contextmanager
from typing import TYPE_CHECKING, Self

from inchworm.core.identifiers import RelationName
from inchworm.core.structure.changes import Change, late_last
from inchworm.core.structure.definitions import Definition, in_working_order
from inchworm.targets.databases.postgres.catalogue import PostgresCatalogue
from inchworm.targets.databases.postgres.switch_over import lock, views_made_again
from inchworm.targets.databases.quoting import quoted

if TYPE_CHECKING:
    from inchworm.core.structure.change import Renames

_SCRATCH = "__wanted"


class PostgresStructure(PostgresCatalogue):
    """Making and changing schemas of PostgreSQL."""

    def create_schema(self, schema: str) -> None:
        """Make a schema unless it is there; then the right to make schemas is not needed."""
        if not self.rows("SELECT 1 FROM pg_namespace WHERE nspname = ?", [schema]):
            self.execute(f"CREATE SCHEMA IF NOT EXISTS {quoted(schema)}")

    @contextmanager
    def scratch_schemas(self, schemas: Sequence[str]) -> Iterator[None]:
        """A transaction that is rolled back."""
        self.execute("BEGIN")
        try:
            for schema in schemas:
                self.execute(f"CREATE SCHEMA {quoted(schema)}")
            yield
        finally:
            with self._errors():
                self._connection.rollback()

    def discard(self, schemas: Collection[str]) -> None:
        """Nothing to do: the server itself rolls a trial back."""

    @contextmanager
    def scratch_database(self, schema: str) -> Iterator[tuple[Self, str]]:
        """A transaction of a second connection, rolled back; the schema has another name there."""
        name = schema + _SCRATCH
        with (
            closing(type(self)(self._url, password=self._password)) as board,
            board.scratch_schemas([name]),
        ):
            yield board, name

    board_sees_outside = True

    @contextmanager
    def board(self, schemas: Sequence[str]) -> Iterator[Self | None]:
        """A transaction of a second connection, rolled back."""
        with (
            closing(type(self)(self._url, password=self._password)) as board,
            board.scratch_schemas(schemas),
        ):
            yield board

    def changes(
        self,
        schema: str,
        live: Sequence[Definition],
        desired: Sequence[Definition],
        renames: Mapping[str, str],
    ) -> list[Change]:
        """The changes that turn one structure into another, where the tables stand."""
        from inchworm.core.structure.change import renames_that_apply, renaming
        from inchworm.targets.databases.postgres.altering import altered

        applied = renames_that_apply(renames, live, desired, self.dialect)
        renamed = self._after_renames(schema, live, applied) if applied else live
        return late_last([*renaming(applied), *altered(renamed, desired, applied)])

    def _after_renames(
        self, schema: str, live: Sequence[Definition], renames: Renames
    ) -> list[Definition]:
        """The definitions after the renames: the server carries a name into all that uses it."""
        from inchworm.core.sql.schema_names import with_physical_schemas
        from inchworm.core.structure.change import renaming, under_schema

        with self.scratch_database(schema) as (scratch, name):

            def here(sql: str) -> str:
                return with_physical_schemas(
                    sql, lambda s: name if s == schema else s, self.dialect, self.dialect
                )

            for definition in in_working_order(live, self.dialect):
                scratch.execute(here(definition.sql))
            for change in renaming(renames):
                for statement in change.statements:
                    scratch.execute(here(statement))
            return [under_schema(d, name, schema) for d in scratch.definitions([name])]

    @contextmanager
    def restructuring(self, upon: Sequence[str]) -> Iterator[None]:
        """A transaction before which views upon what is named go, and after which they come again.

        A view of PostgreSQL does not let the type of a column change that it reads.
        """
        names = list(map(RelationName, upon))
        own = {name for name, kind in self.kinds(names).items() if kind == "view"}
        with self.transaction():
            lock(self, names, are_all=False)
            with views_made_again(self, names, own):
                yield
