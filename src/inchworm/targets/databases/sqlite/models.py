"""Models of SQLite: built, and switched over."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence

from inchworm.core.identifiers import RelationName
from inchworm.core.rendered import Store
from inchworm.targets.databases.protocols import Switch
from inchworm.targets.databases.quoting import folded, quoted
from inchworm.targets.databases.sqlite.structure import SqliteStructure, named_in_full


class Sqlite(SqliteStructure):
    """A SQLite file and those of its schemas."""

    def build(self, name: str, store: Store, sql: str) -> int | None:
        """Make a table or view from a SELECT; the rows of a table."""
        self.execute(f"CREATE {store.upper()} {quoted(name)} AS {sql}")
        if store is Store.VIEW:
            return None
        return int(self.rows(f"SELECT count(*) FROM {quoted(name)}")[0][0])

    def empty_copy(self, name: str, sql: str) -> str:
        """The statement that makes an empty table with the columns of a SELECT, running nothing."""
        return f"CREATE TABLE {quoted(name)} AS SELECT * FROM ({sql}) WHERE 0"

    def drop(self, names: Collection[RelationName]) -> None:
        """Remove tables and views, those that are there."""
        if not names:
            return
        kinds = self.kinds(names)
        for name in names:
            self._drop_known(name, kinds)

    def prepare(self, switches: Sequence[Switch]) -> None:
        """Nothing to do: no reader waits for a writer."""

    def switch_over(self, switches: Sequence[Switch]) -> None:
        """Put what was built beside in place. Called inside a transaction.

        A rename of SQLite carries into the views that read the table, so views that are replaced
        go first. Triggers and indexes that somebody made are made again on what takes the place.
        """
        kinds = dict(self.kinds())
        tables = {
            s.name for s in switches if kinds.get(s.name) == "table" and s.staging is not None
        }
        attached = self._attached(tables)
        self.execute("PRAGMA legacy_alter_table = ON")
        for kind, name, _ in attached:
            self.execute(f"DROP {kind.upper()} {quoted(name)}")
        for switch in switches:
            if kinds.get(switch.name) == "view":
                self._drop_known(switch.name, kinds)
            if switch.store == "view" and switch.staging is not None:
                self._drop_known(switch.staging, kinds)
        for switch in switches:
            if kinds.get(switch.name) == "table":
                self._rename(switch.name, switch.replaced)
            if switch.staging is not None and switch.store == "table":
                self._rename(switch.staging, switch.name)
        for switch in switches:
            if switch.store == "view" and switch.staging is not None:
                self.execute(f"CREATE VIEW {quoted(switch.name)} AS {switch.view_sql}")
        for kind, name, sql in attached:
            self.execute(named_in_full(kind, name, sql))
        self.execute("PRAGMA legacy_alter_table = OFF")

    def _attached(self, tables: Collection[str]) -> list[tuple[str, str, str]]:
        """The indexes and triggers of some tables: kind, full name and statement."""
        attached: list[tuple[str, str, str]] = []
        for schema in self._schemas():
            for kind, name, table, sql in self.rows(
                f"SELECT type, name, tbl_name, sql FROM {quoted(schema)}.sqlite_master "
                "WHERE type IN ('index', 'trigger') AND sql IS NOT NULL ORDER BY type, name"
            ):
                if folded(schema, table) in tables:
                    attached.append((kind, f"{schema}.{name}", sql))
        return attached

    def _rename(self, old: str, new: str) -> None:
        self.execute(f"ALTER TABLE {quoted(old)} RENAME TO {quoted(new.partition('.')[2])}")

    def _drop_known(self, name: str, kinds: Mapping[str, str]) -> None:
        if name in kinds:
            self.execute(f"DROP {kinds[name].upper()} {quoted(name)}")
