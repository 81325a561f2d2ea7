"""SQLite: a database in a file; each schema is a file of its own beside it, attached.

``sqlite:///data/river.sqlite`` has the schema ``hydro`` in ``data/river.hydro.sqlite``. A
transaction spans all attached files. A view cannot read another schema: such a
model has to be a table.
"""

from __future__ import annotations

import datetime as dt
import getpass
import re
import sqlite3
from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from contextlib import closing, contextmanager, suppress
from pathlib import Path
from typing import Any

from sqlglot import exp

from inchworm.core.errors import EnvironmentMoved, TargetError
from inchworm.core.sql.parse import SqlProblem, parse_statements
from inchworm.core.sql.types import normal_type
from inchworm.core.structure.definitions import Definition, Thing
from inchworm.core.structure.tables import UNKNOWN_TYPE, Column, Table
from inchworm.targets.databases.base import Database, Server, Switch, quoted

IN_MEMORY = Path(":memory:")
_PATIENCE = 15.0
"""Seconds to wait for another connection that writes."""


class Sqlite:
    """A connection to a SQLite file and those of its schemas."""

    dialect = "sqlite"

    def __init__(self, path: Path, *, read_only: bool = False) -> None:
        self.identity = f"{getpass.getuser()} at {path.name}"
        self._path = path
        self._read_only = read_only
        if path == IN_MEMORY:
            self._connection = sqlite3.connect(":memory:", isolation_level=None)
            return
        try:
            if read_only and not path.exists():
                self._connection = sqlite3.connect(":memory:", isolation_level=None)
                return
            path.parent.mkdir(parents=True, exist_ok=True)
            self._connection = sqlite3.connect(
                self._uri(path),
                uri=True,
                isolation_level=None,
                timeout=_PATIENCE,
                check_same_thread=False,  # one at a time uses it all the same
            )
            self._connection.execute("PRAGMA foreign_keys = ON")
            for file in sorted(path.parent.glob(f"{path.stem}.*{path.suffix}")):
                self._attach(file.name[len(path.stem) + 1 : -len(path.suffix) or None])
        except (sqlite3.Error, OSError) as error:
            raise TargetError(
                f"the database {path.name} cannot be opened: {error}",
                next="Check that the file is a SQLite database that you may read and write.",
            ) from error

    def _uri(self, path: Path) -> str:
        return f"{path.resolve().as_uri()}?mode={'ro' if self._read_only else 'rwc'}"

    def _file(self, schema: str) -> Path:
        return self._path.with_name(f"{self._path.stem}.{schema}{self._path.suffix}")

    def _attach(self, schema: str) -> None:
        in_memory = self._path == IN_MEMORY
        uri = ":memory:" if in_memory else self._uri(self._file(schema))
        self._connection.execute(f"ATTACH DATABASE ? AS {quoted(schema)}", (uri,))

    def lock(self, name: str) -> None:
        """Writers exclude each other by themselves; the project's own lock does the rest."""

    def new_session(self) -> Database | None:
        """None: SQLite has one writer at a time."""
        return None

    def interrupt(self) -> None:
        """Have the statement that runs fail now."""
        self._connection.interrupt()

    def server(self) -> Server:
        """The library's version; its clock is ours."""
        return Server(product="SQLite", version=sqlite3.sqlite_version, now=dt.datetime.now(dt.UTC))

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
            return self._connection.execute(sql, list(values)).fetchall()

    def frame(self, sql: str) -> Any:
        """Run a query into a pandas DataFrame."""
        import pandas as pd

        with self._errors():
            cursor = self._connection.execute(sql)
            names = [column[0] for column in cursor.description or ()]
            return pd.DataFrame(cursor.fetchall(), columns=names)

    def append_frame(self, table: str, frame: Any) -> None:
        """Add the rows of a pandas DataFrame to a table, columns matched by name."""
        columns = ", ".join(quoted(str(column)) for column in frame.columns)
        places = ", ".join("?" * len(frame.columns))
        plain = frame.astype(object).where(frame.notna(), None)
        rows = [[_plain(cell) for cell in row] for row in plain.itertuples(index=False, name=None)]
        with self._errors():
            self._connection.executemany(
                f"INSERT INTO {quoted(table)} ({columns}) VALUES ({places})", rows
            )

    @contextmanager
    def transaction(self) -> Iterator[None]:
        """Everything inside takes effect together, or not at all."""
        self.execute("BEGIN")
        try:
            yield
            self.execute("COMMIT")
        except BaseException:
            with suppress(sqlite3.Error):
                self._connection.rollback()
            raise

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
    def scratch_database(self, schema: str) -> Iterator[tuple[Database, str]]:
        """A database in memory; nothing in SQLite refers to another schema."""
        with closing(Sqlite(IN_MEMORY)) as board:
            board.create_schema(schema)
            yield board, schema

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
        there, kinds = self._triggers(), self.kinds()
        for (schema, name), (table, sql) in triggers.items():
            if (schema, name) not in there and f"{schema}.{table}" in kinds:
                self.execute(_named_in_full("trigger", f"{schema}.{name}", sql))

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

    @contextmanager
    def savepoint(self) -> Iterator[None]:
        """Nothing to do: every statement counts by itself."""
        yield

    def structure(self, schemas: Iterable[str] | None = None) -> dict[str, Table]:
        """Tables and views with their columns, by real name."""
        wanted = None if schemas is None else set(schemas)
        found: dict[str, Table] = {}
        for name in self.kinds():
            schema, _, table = name.partition(".")
            if wanted is not None and schema not in wanted:
                continue
            columns = self.rows(f"PRAGMA {quoted(schema)}.table_info({quoted_text(table)})")
            found[name] = Table(
                name,
                tuple(
                    Column(column, _type(kind), bool(required))
                    for _, column, kind, required, _, _ in columns
                ),
            )
        return found

    def definitions(self, schemas: Sequence[str]) -> list[Definition]:
        """What some schemas have: SQLite keeps the statements as they were written."""
        found: list[Definition] = []
        for schema in schemas:
            if schema not in self._schemas():
                continue
            for kind, name, sql in self.rows(
                f"SELECT type, name, sql FROM {quoted(schema)}.sqlite_master "
                "WHERE sql IS NOT NULL AND name NOT LIKE 'sqlite_%' "
                "AND type IN ('table', 'index', 'view')"
            ):
                whole = _with_schema(str(sql), schema)
                found.append(
                    Definition(
                        thing=Thing(kind),
                        name=f"{schema}.{name}",
                        sql=whole,
                        needs=None,
                    )
                )
        return found

    def kinds(self) -> Mapping[str, str]:
        """``table`` or ``view`` for each thing that :meth:`structure` lists."""
        found: dict[str, str] = {}
        for schema in self._schemas():
            for name, kind in self.rows(
                f"SELECT name, type FROM {quoted(schema)}.sqlite_master "
                "WHERE type IN ('table', 'view') AND name NOT LIKE 'sqlite_%'"
            ):
                found[f"{schema}.{name}"] = kind
        return found

    def _schemas(self) -> list[str]:
        return [
            row[1] for row in self.rows("PRAGMA database_list") if row[1] not in {"main", "temp"}
        ]

    def size(self, name: str) -> int | None:
        """None: it is not told of a table by itself."""
        return None

    def about_rows(self, name: str) -> int | None:
        """None: in a file there is nothing that cannot be counted."""
        return None

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

    def build(self, name: str, store: str, sql: str) -> int | None:
        """Make a table or view from a SELECT; the rows of a table."""
        self.execute(f"CREATE {store.upper()} {quoted(name)} AS {sql}")
        if store == "view":
            return None
        return int(self.rows(f"SELECT count(*) FROM {quoted(name)}")[0][0])

    def empty_copy(self, name: str, sql: str) -> str:
        """The statement that makes an empty table with the columns of a SELECT, running nothing."""
        return f"CREATE TABLE {quoted(name)} AS SELECT * FROM ({sql}) WHERE 0"

    def drop(self, names: Collection[str]) -> None:
        """Remove tables and views, those that are there."""
        kinds = self.kinds()
        for name in names:
            self._drop_known(name, kinds)

    def dependents(self, names: Collection[str]) -> Mapping[str, tuple[str, ...]]:
        """Nothing: triggers and indexes are made again, and all else of SQLite goes by name."""
        return {}

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
            self.execute(_named_in_full(kind, name, sql))
        self.execute("PRAGMA legacy_alter_table = OFF")

    def _attached(self, tables: Collection[str]) -> list[tuple[str, str, str]]:
        """The indexes and triggers of some tables: kind, full name and statement."""
        found: list[tuple[str, str, str]] = []
        for schema in self._schemas():
            for kind, name, table, sql in self.rows(
                f"SELECT type, name, tbl_name, sql FROM {quoted(schema)}.sqlite_master "
                "WHERE type IN ('index', 'trigger') AND sql IS NOT NULL ORDER BY type, name"
            ):
                if f"{schema}.{table}" in tables:
                    found.append((kind, f"{schema}.{name}", sql))
        return found

    def _rename(self, old: str, new: str) -> None:
        self.execute(f"ALTER TABLE {quoted(old)} RENAME TO {quoted(new.partition('.')[2])}")

    def _drop_known(self, name: str, kinds: Mapping[str, str]) -> None:
        if name in kinds:
            self.execute(f"DROP {kinds[name].upper()} {quoted(name)}")

    def close(self) -> None:
        """End the connection."""
        self._connection.close()

    @contextmanager
    def _errors(self) -> Iterator[None]:
        try:
            yield
        except sqlite3.OperationalError as error:
            if "locked" in str(error):
                raise EnvironmentMoved(
                    f"the database {self._path.name} is locked by another connection.",
                    next="Wait until it has finished, and try again.",
                ) from error
            raise self._refused(error) from error
        except sqlite3.Error as error:
            raise self._refused(error) from error

    def _refused(self, error: sqlite3.Error) -> TargetError:
        return TargetError(f"{self._path.name} says: {error}", next="Nothing was changed by it.")


def _named_in_full(kind: str, name: str, sql: str) -> str:
    """The statement of an index or trigger, as SQLite keeps it, with the schema before its name."""
    bare = re.escape(name.partition(".")[2])
    at = re.compile(rf"(CREATE\s+(?:UNIQUE\s+)?{kind}\s+)(\S*\b{bare}\b\S*)", re.IGNORECASE)
    return at.sub(lambda match: f"{match.group(1)}{quoted(name)}", sql, count=1)


def quoted_text(text: str) -> str:
    """A text in single quotes."""
    return "'" + text.replace("'", "''") + "'"


def _with_schema(sql: str, schema: str) -> str:
    """A statement as SQLite keeps it, with the schema before the name of what it makes."""
    try:
        (tree,) = parse_statements(sql, "sqlite")
    except (SqlProblem, ValueError):
        return sql
    made = tree.find(exp.Index if tree.args.get("kind") == "INDEX" else exp.Table)
    if made is None:
        return sql
    target = made.this if isinstance(made, exp.Index) else made
    if isinstance(target, exp.Table):
        target.set("db", exp.to_identifier(schema))
    elif isinstance(target, exp.Identifier):
        made.set("this", exp.table_(target, db=schema))
    return str(tree.sql(dialect="sqlite"))


def _type(declared: str) -> str:
    return normal_type(declared, "sqlite") if declared else UNKNOWN_TYPE


def _plain(cell: Any) -> Any:
    """A value as the driver takes it; times as ISO 8601 text."""
    if isinstance(cell, dt.date | dt.datetime):
        return cell.isoformat(" ") if isinstance(cell, dt.datetime) else cell.isoformat()
    return cell.item() if hasattr(cell, "item") else cell
