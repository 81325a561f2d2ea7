"""Models of a DuckDB file: built, and switched over."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence

from inchworm.core.identifiers import RelationName
from inchworm.core.rendered import Store
from inchworm.targets.databases.duckdb.structure import DuckDbStructure
from inchworm.targets.databases.protocols import Switch
from inchworm.targets.databases.quoting import quoted


class DuckDb(DuckDbStructure):
    """A DuckDB file."""

    def build(self, name: str, store: Store, sql: str) -> int | None:
        """Make a table or view from a SELECT; the rows of a table."""
        counted = self.rows(f"CREATE {store.upper()} {quoted(name)} AS {sql}")
        return None if store is Store.VIEW else int(counted[0][0])

    def empty_copy(self, name: str, sql: str) -> str:
        """The statement that makes an empty table with the columns of a SELECT, running nothing."""
        return f"CREATE TABLE {quoted(name)} AS ({sql}) WITH NO DATA"

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

        DuckDB's views read a table by its name, so views can be made in any order after the tables
        have their names. Indexes that somebody made are made again on what takes the place.
        """
        kinds = dict(self.kinds())  # asked once: this transaction has to be short
        indexed = self._indexes()
        for switch in switches:
            kind = kinds.get(switch.name)
            if kind == "table":
                for index in indexed.get(switch.name, {}):
                    self.execute(f"DROP INDEX {quoted(index)}")
                self._rename(switch.name, switch.replaced)
            elif kind == "view":
                self._drop_known(switch.name, kinds)
            if switch.staging is not None and switch.store == "table":
                self._rename(switch.staging, switch.name)
                for made_again in indexed.get(switch.name, {}).values():
                    self.execute(made_again)
        for switch in switches:
            if switch.store == "view" and switch.staging is not None:
                self._drop_known(switch.staging, kinds)
                self.execute(f"CREATE VIEW {quoted(switch.name)} AS {switch.view_sql}")

    def _rename(self, old: str, new: str) -> None:
        table = new.partition(".")[2]
        self.execute(f"ALTER TABLE {quoted(old)} RENAME TO {quoted(table)}")

    def _drop_known(self, name: str, kinds: Mapping[str, str]) -> None:
        if name in kinds:
            self.execute(f"DROP {kinds[name].upper()} {quoted(name)}")
