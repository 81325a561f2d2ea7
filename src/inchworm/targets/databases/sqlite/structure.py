"""Schemas of SQLite, each a file of its own: made, changed and tried."""

from __future__ import annotations

import re
from collections.abc import Collection, Iterator, Mapping, Sequence
from contextlib import closing, contextmanager
from typing import Self

from inchworm.core.errors import TargetError
from inchworm.core.structure.changes import Alterations, Change
from inchworm.core.structure.definitions import Definition
from inchworm.targets.databases.quoting import folded, quoted
from inchworm.targets.databases.sqlite.catalogue import SqliteCatalogue
from inchworm.targets.databases.sqlite.session import IN_MEMORY

_ALTERS = Alterations(
    changes_columns=False, keys_and_indexes_pin_tables=False, has_loose_types=True
)


class SqliteStructure(SqliteCatalogue):
    """Making and changing schemas of SQLite."""

    def create_schema(self, schema: str) -> None:
        """Attach the schema's file, making it unless it is there."""
        if schema in self._schemas():
            return
        if self._connection.in_transaction:
            raise TargetError(
                f"{self._path.name} cannot take up the schema {schema} inside a transaction.",
                next="Nothing was changed by it.",
            )
        with self._errors():
            self._attach(schema)

    @contextmanager
    def scratch_schemas(self, schemas: Sequence[str]) -> Iterator[None]:
        """Schemas attached from memory."""
        for schema in schemas:
            self.execute(f"ATTACH DATABASE ':memory:' AS {quoted(schema)}")
        try:
            yield
        finally:
            for schema in schemas:
                self.execute(f"DETACH DATABASE {quoted(schema)}")

    def discard(self, schemas: Collection[str]) -> None:
        """Nothing to do: a trial is in memory."""

    @contextmanager
    def scratch_database(self, schema: str) -> Iterator[tuple[Self, str]]:
        """A database in memory; nothing in SQLite refers to another schema."""
        with closing(type(self)(IN_MEMORY)) as board:
            board.create_schema(schema)
            yield board, schema

    board_sees_outside = False

    @contextmanager
    def board(self, schemas: Sequence[str]) -> Iterator[Self | None]:
        """A database in memory: what SQLite knows, it knows there, too."""
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
        """A transaction without foreign keys, as they would empty tables; they are checked after.

        Triggers, which go with their table, are put on again. The steps are those that SQLite's own
        documentation gives for changes that ALTER TABLE cannot make.
        """
        triggers = self._triggers()
        self.execute("PRAGMA foreign_keys = OFF")
        self.execute("PRAGMA legacy_alter_table = ON")
        try:
            with self.transaction():
                yield
                self._put_on_again(triggers)
                self._check_keys()
        finally:
            self.execute("PRAGMA legacy_alter_table = OFF")
            self.execute("PRAGMA foreign_keys = ON")

    def _triggers(self) -> dict[tuple[str, str], tuple[str, str]]:
        """The table and the statement of each trigger, by schema and name."""
        return {
            (schema, name): (table, sql)
            for schema in self._schemas()
            for name, table, sql in self.rows(
                f"SELECT name, tbl_name, sql FROM {quoted(schema)}.sqlite_master "
                "WHERE type = 'trigger'"
            )
        }

    def _put_on_again(self, triggers: Mapping[tuple[str, str], tuple[str, str]]) -> None:
        existing, kinds = self._triggers(), self.kinds()
        for (schema, name), (table, sql) in triggers.items():
            if (schema, name) not in existing and folded(schema, table) in kinds:
                self.execute(named_in_full("trigger", f"{schema}.{name}", sql))

    def _check_keys(self) -> None:
        for schema in self._schemas():
            broken = self.rows(f"PRAGMA {quoted(schema)}.foreign_key_check")
            if broken:
                table, row, other = broken[0][:3]
                raise TargetError(
                    f"{self._path.name} says: {schema}.{table} (row {row}) points at no row of "
                    f"{other}.",
                    next="Nothing was changed by it. Mend the rows, and go on.",
                )


def named_in_full(kind: str, name: str, sql: str) -> str:
    """The statement of an index or trigger, as SQLite keeps it, with the schema before its name."""
    bare = re.escape(name.partition(".")[2])
    at = re.compile(rf"(CREATE\s+(?:UNIQUE\s+)?{kind}\s+)(\S*\b{bare}\b\S*)", re.IGNORECASE)
    return at.sub(lambda match: f"{match.group(1)}{quoted(name)}", sql, count=1)
