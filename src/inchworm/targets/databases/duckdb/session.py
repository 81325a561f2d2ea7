"""DuckDB: a connection to a file, used by one process at a time."""

from __future__ import annotations

import re
from collections.abc import Callable, Collection, Generator, Iterator, Mapping, Sequence
from contextlib import contextmanager, suppress
from copy import copy
from pathlib import Path
from typing import Any, Self

import duckdb

from inchworm.core.errors import EnvironmentMoved, OutsideAccess, TargetError
from inchworm.targets.databases import file_states
from inchworm.targets.databases.duckdb import files_of
from inchworm.targets.databases.duckdb.limits import Limit, Limits
from inchworm.targets.databases.duckdb.places import NO_PLACES, Places
from inchworm.targets.databases.duckdb.scratch import Scratch
from inchworm.targets.databases.frames import Column, alike
from inchworm.targets.databases.noting import Noting
from inchworm.targets.databases.protocols import Result, Server
from inchworm.targets.databases.quoting import quoted, quoted_one

IN_MEMORY = Path(":memory:")
_OWNER_ONLY = 0o600
"""The mode of a database that is made here; that of one which is there stays."""


_OF_MACROS = re.compile(r"\b(?:macro|function)\b|\bdrop\b[^;]*\bschema\b", re.IGNORECASE)
"""Statements after which there may be other macros than before: reading all takes long.

Only one process at a time writes to a file, so nobody else makes one meanwhile.
"""


Macros = list[tuple[Any, ...]]

_REMEMBERED: dict[Path, tuple[str, Macros]] = {}
"""The macros of files that this process has read, each with what the file looked like then.

Reading them takes longer than most commands do in all, as DuckDB lists thousands of its own
functions with them; and a command opens a file several times.
"""


class DuckDbSession(Noting):
    """A connection to a DuckDB file."""

    dialect = "duckdb"
    indexes_in_memory = True

    def __init__(
        self,
        path: Path,
        *,
        login: str = "",
        read_only: bool = False,
        threads: int | None = None,
        places: Places = NO_PLACES,
    ) -> None:
        self.identity = f"{login} at {path.name}".lstrip()
        self._path = path
        self._macros: list[Macros] = []
        """The macros that were read, once they were; all connections to a file share it."""
        self._limits = Limits()
        self._is_first = True
        """Whether it is the connection that others are made of."""
        stamp, remembered = _REMEMBERED.get(path, ("", []))
        if path != IN_MEMORY and stamp == file_states.stamp(files_of(path)):
            self._macros.append(remembered)
        config = places.config
        if threads is not None:
            config["threads"] = threads
        self._scratch: Scratch | None = None
        """The database in memory that this is, if it is one."""
        if path == IN_MEMORY or (read_only and not path.exists()):
            self._scratch = Scratch()
            self._connection = self._scratch.connection()
            self._macros.append([])  # it is empty
            return
        try:
            path.parent.mkdir(parents=True, exist_ok=True)
            is_new = not path.exists()
            self._connection = duckdb.connect(str(path), read_only=read_only, config=config)
            for statement in places.narrowing:
                self._connection.execute(statement)
            if is_new:
                path.chmod(_OWNER_ONLY)
                self._macros.append([])  # there cannot be one yet
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

    def share(self, name: str, alone: Collection[str]) -> None:
        """Nothing to do: whoever works in it has the project's own lock for all of it."""

    def keep_writers_out(self, table: str) -> None:
        """Nothing to do: there is one writer, and a transaction notices another one."""

    def take_turn(self) -> None:
        """Nothing to do: there is one writer."""

    def reading_catalogue(self, work: Callable[[], Result]) -> Result:
        """Do it: nobody is in its way."""
        return work()

    def new_session(self) -> Self | None:
        """Another connection of this process to the same file."""
        other = copy(self)
        other._connection = self._another()
        other._is_first = False
        other._notes = None
        return other

    def _another(self) -> duckdb.DuckDBPyConnection:
        """Another connection to the same database."""
        return self._scratch.connection() if self._scratch else self._connection.cursor()

    def revive(self) -> bool:
        """Nothing to do: it is a file of this process."""
        return False

    def interrupt(self) -> None:
        """Have the statement that runs fail now."""
        self._connection.interrupt()

    @contextmanager
    def limited_to(self, memory: int | None, threads: int | None) -> Iterator[None]:
        """Keep what runs in the block within so many bytes and threads."""
        with self._errors(), self._limits.limited_to(self._connection, Limit(memory, threads)):
            yield

    def keep_log_short(self) -> None:
        """Take the log over into the file at a quarter of the usual length."""
        with self._errors():
            self._connection.execute("SET checkpoint_threshold = '4MB'")

    def locking(self, work: Callable[[], Result], *, brief: bool = True) -> Result:
        """Do the work: whoever writes has the whole file, and readers are never kept out."""
        return work()

    def server(self) -> Server:
        """The library's version; it has no clock of its own."""
        version = str(self.rows("SELECT version()")[0][0]).removeprefix("v")
        return Server(product="DuckDB", version=version, now=None)

    def execute(self, sql: str, values: Sequence[Any] = ()) -> None:
        """Run a statement."""
        if _OF_MACROS.search(sql):
            self._macros.clear()
        with self._errors():
            self._connection.execute(sql, list(values))
        self._note(sql, values)

    def execute_without_transaction(self, sql: str) -> None:
        """Run a statement by itself; a statement that fails leaves nothing here."""
        self.execute(sql)

    def rows(self, sql: str, values: Sequence[Any] = ()) -> list[tuple[Any, ...]]:
        """Run a query."""
        with self._errors():
            rows: list[tuple[Any, ...]] = self._connection.execute(sql, list(values)).fetchall()
            return rows

    def one_of(self, column: str, type_name: str, texts: Collection[str]) -> tuple[str, list[Any]]:
        """The condition that a column has one of some texts, and the values that it takes."""
        return f"{column} IN (SELECT unnest(?::{type_name}[]))", [list(texts)]

    def select(self, sql: str) -> tuple[list[str], list[tuple[Any, ...]]]:
        """Run a query; the names of its columns, and its rows."""
        with self._errors():
            result = self._connection.execute(sql)
            return [column[0] for column in result.description], result.fetchall()

    def batches(
        self, sql: str, size: int
    ) -> Generator[tuple[list[str], list[tuple[Any, ...]]], None, None]:
        """Run a query on a connection of its own, and read its rows little by little."""
        with self._errors(), self._another() as cursor:
            result = cursor.execute(sql)
            columns = [column[0] for column in result.description]
            while rows := result.fetchmany(size):
                yield columns, rows

    def frame(self, sql: str) -> Any:
        """Run a query into a pandas DataFrame."""
        with self._errors():
            result = self._connection.execute(sql)
            huge = [str(column[1]) == "HUGEINT" for column in result.description or ()]
            return alike(result.df(), [Column.WHOLE if each else Column.OTHER for each in huge])

    def add_rows(
        self, table: str, columns: Sequence[str], rows: Sequence[Sequence[str | int | None]]
    ) -> None:
        """Add many rows to a table of our own; a list per column takes a seventh of the time."""
        if rows:
            lists = ", ".join(["unnest(?)"] * len(columns))
            self.execute(
                f"INSERT INTO {table} ({', '.join(columns)}) SELECT {lists}",
                [list(values) for values in zip(*rows, strict=True)],
            )

    def append_frame(self, table: str, frame: Any) -> None:
        """Add the rows of a pandas DataFrame to a table, columns matched by name."""
        with self._errors(), self._reading("__frame", frame):
            self._connection.execute(f"INSERT INTO {quoted(table)} BY NAME SELECT * FROM __frame")

    @contextmanager
    def _reading(self, name: str, source: Any) -> Iterator[None]:
        """Have statements of the block read what is in memory under a name."""
        self._connection.register(name, source)
        try:
            yield
        except duckdb.Error:
            with suppress(duckdb.Error):  # the transaction is over, which would hide why
                self._connection.unregister(name)
            raise
        self._connection.unregister(name)

    def append_parquet(self, table: str, file: Path, fields: Mapping[str, str]) -> int | None:
        """Add the rows of a Parquet file, on all threads; its values are cast as they come.

        The connection itself reaches no file: it is handed what Arrow reads. An empty text is
        none where a column takes no texts, as in other files.
        """
        from pyarrow import dataset, types

        source = dataset.dataset(str(file), format="parquet")
        texts = {f.name for f in source.schema if types.is_string(f.type)}
        known = self.rows(
            "SELECT column_name, data_type FROM information_schema.columns "
            "WHERE table_schema || '.' || table_name = ?",
            [table],
        )
        takes_texts = {name.lower() for name, type_ in known if type_ == "VARCHAR"}
        values = [
            f"nullif(trim({quoted_one(name)}), '')"
            if name in texts and column not in takes_texts
            else quoted_one(name)
            for column, name in fields.items()
        ]
        columns = ", ".join(map(quoted_one, fields))
        with self._errors(), self._reading("__file", source):
            added = self._connection.execute(
                f"INSERT INTO {quoted(table)} ({columns}) SELECT {', '.join(values)} FROM __file"
            ).fetchone()
        return int(added[0]) if added is not None else 0

    @contextmanager
    def transaction(self) -> Iterator[None]:
        """A transaction: the statements inside take effect together, or not at all."""
        self.execute("BEGIN TRANSACTION")
        try:
            yield
        except BaseException:
            self._macros.clear()
            with self._errors():
                self._connection.rollback()
            raise
        self.execute("COMMIT")

    @contextmanager
    def reading(self) -> Iterator[None]:
        """A transaction in which the database refuses every change."""
        self.execute("BEGIN TRANSACTION READ ONLY")
        try:
            yield
        finally:
            with self._errors():
                self._connection.rollback()

    @contextmanager
    def savepoint(self) -> Iterator[None]:
        """Nothing to do: every statement counts by itself."""
        yield

    def close(self) -> None:
        """End the connection."""
        self._connection.close()
        if self._scratch and self._is_first:
            self._scratch.drop()
        if self._macros and self._is_first and self._scratch is None:
            stamp = file_states.stamp(files_of(self._path))
            _REMEMBERED[self._path] = (stamp, self._macros[0])

    @contextmanager
    def _errors(self) -> Iterator[None]:
        try:
            yield
        except RuntimeError as error:
            if "interrupted" in str(error):  # how the driver passes Ctrl-C on
                raise KeyboardInterrupt from error
            raise
        except duckdb.PermissionException as error:
            raise OutsideAccess(
                f"{self._path.name} says: {_first_line(error)}; it is not declared in sources.toml",
                next="Nothing was changed by it. Declare the place under [reads] there.",
            ) from error
        except duckdb.Error as error:
            raise TargetError(
                f"{self._path.name} says: {_first_line(error)}", next="Nothing was changed by it."
            ) from error


def _first_line(error: Exception) -> str:
    lines = [line.strip() for line in str(error).splitlines() if line.strip()]
    return lines[0] if lines else type(error).__name__
