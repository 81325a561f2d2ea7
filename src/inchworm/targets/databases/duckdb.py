"""DuckDB: a database in a file, used by one process at a time."""

from __future__ import annotations

import datetime as dt
import getpass
from collections import defaultdict
from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from contextlib import closing, contextmanager
from copy import copy
from pathlib import Path
from typing import Any

import duckdb

from inchworm.core.errors import EnvironmentMoved, TargetError
from inchworm.core.sql.types import normal_type
from inchworm.core.structure.definitions import Definition, Thing
from inchworm.core.structure.tables import Column, Table
from inchworm.targets.databases.base import Database, Server, Switch, quoted, quoted_one

IN_MEMORY = Path(":memory:")
_HERE = "database_name = current_database()"
_SEQUENCES = f"""
SELECT schema_name, sequence_name, concat_ws(' ', 'CREATE SEQUENCE', '"' || schema_name || '"."'
  || sequence_name || '"', 'START WITH', start_value, 'INCREMENT BY', increment_by, 'MINVALUE',
  min_value, 'MAXVALUE', max_value, CASE WHEN cycle THEN 'CYCLE' ELSE 'NO CYCLE' END)
FROM duckdb_sequences() WHERE {_HERE}
"""  # its own statement starts where the counter stands
_DEFINITIONS = (
    (Thing.SEQUENCE, _SEQUENCES),
    (Thing.TABLE, f"SELECT schema_name, table_name, sql FROM duckdb_tables() WHERE {_HERE}"),
    (Thing.INDEX, f"SELECT schema_name, index_name, sql FROM duckdb_indexes() WHERE {_HERE}"),
    (
        Thing.VIEW,
        f"SELECT schema_name, view_name, sql FROM duckdb_views() WHERE NOT internal AND {_HERE}",
    ),
)
_COMMENTS = f"""
SELECT schema_name, table_name, NULL, comment FROM duckdb_tables()
WHERE comment IS NOT NULL AND {_HERE}
UNION ALL
SELECT schema_name, table_name, column_name, comment FROM duckdb_columns()
WHERE comment IS NOT NULL AND NOT internal AND {_HERE}
"""


class DuckDb:
    """A connection to a DuckDB file."""

    dialect = "duckdb"

    def __init__(self, path: Path, *, read_only: bool = False, threads: int | None = None) -> None:
        self.identity = f"{getpass.getuser()} at {path.name}"
        self._path = path
        config: dict[str, str | bool | int | float | list[str]] = {}
        if threads is not None:
            config["threads"] = threads
        try:
            if read_only and not path.exists():
                self._connection = duckdb.connect(":memory:")
                return
            if path != IN_MEMORY:
                path.parent.mkdir(parents=True, exist_ok=True)
            self._connection = duckdb.connect(str(path), read_only=read_only, config=config)
        except duckdb.IOException as error:
            raise self._unreachable(error) from error
        except (duckdb.Error, OSError) as error:
            raise TargetError(
                f"the database {path.name} cannot be opened: {_first_line(error)}",
                next="Check that the file is a DuckDB database that you may read and write.",
            ) from error

    def _unreachable(self, error: duckdb.IOException) -> Exception:
        message = _first_line(error)
        if "lock" in message:
            holder = message.partition("PID ")[2].partition(")")[0]
            by = f" (process {holder})" if holder else ""
            return EnvironmentMoved(
                f"the database {self._path.name} is locked by another process{by}.",
                next="Wait until it has finished, or close it, and try again.",
            )
        return TargetError(
            f"the database {self._path.name} cannot be opened: {message}",
            next="Check that the file is a DuckDB database that you may read and write.",
        )

    def lock(self, name: str) -> None:
        """Nothing to do: only one process at a time opens the file for writing."""

    def new_session(self) -> Database | None:
        """Another connection of this process to the same file."""
        other = copy(self)
        other._connection = self._connection.cursor()
        return other

    def interrupt(self) -> None:
        """Have the statement that runs fail now."""
        self._connection.interrupt()

    def server(self) -> Server:
        """The library's version; its clock is ours."""
        version = str(self.rows("SELECT version()")[0][0]).removeprefix("v")
        return Server(product="DuckDB", version=version, now=dt.datetime.now(dt.UTC))

    def execute(self, sql: str, values: Sequence[Any] = ()) -> None:
        """Run a statement."""
        with self._errors():
            self._connection.execute(sql, list(values))

    def execute_without_transaction(self, sql: str) -> None:
        """Run a statement by itself; a statement that fails leaves nothing here."""
        self.execute(sql)

    def rows(self, sql: str, values: Sequence[Any] = ()) -> list[tuple[Any, ...]]:
        """Run a query."""
        with self._errors():
            found: list[tuple[Any, ...]] = self._connection.execute(sql, list(values)).fetchall()
            return found

    def frame(self, sql: str) -> Any:
        """Run a query into a pandas DataFrame."""
        with self._errors():
            return self._connection.execute(sql).df()

    def append_frame(self, table: str, frame: Any) -> None:
        """Add the rows of a pandas DataFrame to a table, columns matched by name."""
        with self._errors():
            self._connection.register("__frame", frame)
            try:
                self._connection.execute(
                    f"INSERT INTO {quoted(table)} BY NAME SELECT * FROM __frame"
                )
            finally:
                self._connection.unregister("__frame")

    @contextmanager
    def transaction(self) -> Iterator[None]:
        """Everything inside takes effect together, or not at all."""
        self.execute("BEGIN TRANSACTION")
        try:
            yield
        except BaseException:
            with self._errors():
                self._connection.rollback()
            raise
        self.execute("COMMIT")

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
        for schema in schemas:
            self.execute(f"DROP SCHEMA IF EXISTS {quoted(schema)} CASCADE")

    @contextmanager
    def scratch_database(self, schema: str) -> Iterator[tuple[Database, str]]:
        """A database in memory, with empty copies of the tables of all other schemas."""
        with closing(DuckDb(IN_MEMORY)) as board:
            board.create_schema(schema)
            for name, table in self.structure().items():
                if table.schema != schema:
                    board.create_schema(table.schema)
                    columns = ", ".join(f"{quoted_one(c.name)} {c.type}" for c in table.columns)
                    board.execute(f"CREATE TABLE {quoted(name)} ({columns})")
            yield board, schema

    @contextmanager
    def restructuring(self, upon: Sequence[str]) -> Iterator[None]:
        """A transaction: views of DuckDB read by name, and nothing else hangs on a table."""
        with self.transaction():
            yield

    @contextmanager
    def savepoint(self) -> Iterator[None]:
        """Nothing to do: every statement counts by itself."""
        yield

    def structure(self, schemas: Iterable[str] | None = None) -> dict[str, Table]:
        """Tables and views with their columns, by real name."""
        found: dict[str, list[Column]] = defaultdict(list)
        wanted = None if schemas is None else set(schemas)
        for schema, table, column, type_, nullable in self.rows(
            "SELECT schema_name, table_name, column_name, data_type, is_nullable "
            "FROM duckdb_columns() WHERE NOT internal AND database_name = current_database() "
            "ORDER BY schema_name, table_name, column_index"
        ):
            if wanted is None or schema in wanted:
                kind = normal_type(type_, "duckdb")
                found[f"{schema}.{table}"].append(Column(column, kind, not nullable))
        return {name: Table(name, tuple(columns)) for name, columns in found.items()}

    def definitions(self, schemas: Sequence[str]) -> list[Definition]:
        """What some schemas have, as DuckDB tells it."""
        found: list[Definition] = []
        for thing, query in _DEFINITIONS:
            for schema, name, sql in self.rows(query):
                if schema not in schemas:
                    continue
                text = str(sql).rstrip().removesuffix(";")
                full = f"{schema}.{name}"
                found.append(Definition(thing=thing, name=full, sql=text, needs=None))
        for schema, table, column, comment in self.rows(_COMMENTS):
            if schema in schemas:
                on = "COLUMN" if column else "TABLE"
                name = quoted(f"{schema}.{table}") + (f'."{column}"' if column else "")
                told = str(comment).replace("'", "''")
                found.append(
                    Definition(
                        thing=Thing.COMMENT,
                        name=f"{schema}.{table}" + (f".{column}" if column else ""),
                        sql=f"COMMENT ON {on} {name} IS '{told}'",
                        needs=(f"{schema}.{table}",),
                    )
                )
        return found

    def kinds(self) -> Mapping[str, str]:
        """``table`` or ``view`` for each thing that :meth:`structure` lists."""
        return {
            f"{schema}.{name}": "view" if kind == "VIEW" else "table"
            for schema, name, kind in self.rows(
                "SELECT table_schema, table_name, table_type FROM information_schema.tables "
                "WHERE table_catalog = current_database()"
            )
        }

    def size(self, name: str) -> int | None:
        """None: it is not told of a table by itself."""
        return None

    def about_rows(self, name: str) -> int | None:
        """None: in a file there is nothing that cannot be counted."""
        return None

    def create_schema(self, schema: str) -> None:
        """Make a schema unless it is there."""
        self.execute(f"CREATE SCHEMA IF NOT EXISTS {quoted(schema)}")

    def build(self, name: str, store: str, sql: str) -> int | None:
        """Make a table or view from a SELECT; the rows of a table."""
        self.execute(f"CREATE {store.upper()} {quoted(name)} AS {sql}")
        if store == "view":
            return None
        return int(self.rows(f"SELECT count(*) FROM {quoted(name)}")[0][0])

    def empty_copy(self, name: str, sql: str) -> str:
        """The statement that makes an empty table with the columns of a SELECT, running nothing."""
        return f"CREATE TABLE {quoted(name)} AS ({sql}) WITH NO DATA"

    def drop(self, names: Collection[str]) -> None:
        """Remove tables and views, those that are there."""
        kinds = self.kinds()
        for name in names:
            self._drop_known(name, kinds)

    def dependents(self, names: Collection[str]) -> Mapping[str, tuple[str, ...]]:
        """Nothing: indexes are made again, and views of DuckDB read by name."""
        return {}

    def switch_over(self, switches: Sequence[Switch]) -> None:
        """Put what was built beside in place. Called inside a transaction.

        DuckDB's views read a table by its name, so views can be made in any order after the tables
        have their names. Indexes that somebody made are made again on what takes the place.
        """
        kinds = dict(self.kinds())  # asked once: this transaction has to be short
        indexed = self._indexes()
        for switch in switches:
            there = kinds.get(switch.name)
            if there == "table":
                for index in indexed.get(switch.name, {}):
                    self.execute(f"DROP INDEX {quoted(index)}")
                self._rename(switch.name, switch.replaced)
            elif there == "view":
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

    def _indexes(self) -> Mapping[str, Mapping[str, str]]:
        """The statement of each index, by table. DuckDB refuses to rename a table that has one."""
        found: dict[str, dict[str, str]] = defaultdict(dict)
        for schema, table, index, sql in self.rows(
            "SELECT schema_name, table_name, index_name, sql FROM duckdb_indexes() "
            "WHERE database_name = current_database()"
        ):
            found[f"{schema}.{table}"][f"{schema}.{index}"] = sql
        return found

    def close(self) -> None:
        """End the connection."""
        self._connection.close()

    @contextmanager
    def _errors(self) -> Iterator[None]:
        try:
            yield
        except RuntimeError as error:
            if "interrupted" in str(error):  # how the driver passes Ctrl-C on
                raise KeyboardInterrupt from error
            raise
        except duckdb.Error as error:
            raise TargetError(
                f"{self._path.name} says: {_first_line(error)}", next="Nothing was changed by it."
            ) from error


def _first_line(error: Exception) -> str:
    lines = [line.strip() for line in str(error).splitlines() if line.strip()]
    return lines[0] if lines else type(error).__name__
