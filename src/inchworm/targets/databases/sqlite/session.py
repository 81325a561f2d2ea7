"""SQLite: a database in a file; each schema is a file of its own beside it, attached.

``sqlite:///data/river.sqlite`` has the schema ``hydro`` in ``data/river.hydro.sqlite``. A
transaction spans all attached files. A view cannot read another schema: such a
model has to be a table.
"""

from __future__ import annotations

import datetime as dt
import json
import sqlite3
from collections.abc import Callable, Collection, Generator, Iterator, Mapping, Sequence
from contextlib import closing, contextmanager, suppress
from decimal import Decimal
from pathlib import Path
from typing import TYPE_CHECKING, Any, Self

from inchworm.core.errors import EnvironmentMoved, TargetError
from inchworm.targets.databases.frames import Column, alike
from inchworm.targets.databases.noting import Noting
from inchworm.targets.databases.protocols import Result, Server
from inchworm.targets.databases.quoting import quoted

if TYPE_CHECKING:  # only whoever writes locks
    from filelock import FileLock

IN_MEMORY = Path(":memory:")
_OWNER_ONLY = 0o600
"""The mode of a database that is made here; that of one which is there stays."""

_NO_FILES = ("", ":memory:")
_OF_FILES = frozenset({"temp_store_directory", "data_store_directory"})
_FUNCTIONS_OF_FILES = frozenset(
    {"load_extension", "readfile", "writefile", "edit", "fts3_tokenizer"}
)

_A_LOOK = 0.2
"""Seconds to wait for the lock of somebody who is just ending."""
_PATIENCE = 15.0
"""Seconds to wait for another connection that writes."""


def _connected(address: str) -> sqlite3.Connection:
    """A connection to a file, by its URI, or to ``:memory:``. One thread at a time uses it."""
    return sqlite3.connect(
        address, uri=True, isolation_level=None, timeout=_PATIENCE, check_same_thread=False
    )


def _recover(file: Path) -> None:
    """Have undone what a process left half done in a file that died, or whose disk was full.

    SQLite does so when somebody reads it who may write; whoever may not cannot read it until then.
    """
    if file.with_name(f"{file.name}-journal").exists():
        with (
            suppress(sqlite3.Error),
            closing(_connected(f"{file.resolve().as_uri()}?mode=rw")) as it,
        ):
            it.execute("SELECT count(*) FROM sqlite_master")


def files_of_schemas(path: Path) -> list[Path]:
    """The files beside a database's own in which its schemas are."""
    return sorted(path.parent.glob(f"{path.stem}.*{path.suffix}"))


class SqliteSession(Noting):
    """A connection to a SQLite file and those of its schemas."""

    dialect = "sqlite"
    indexes_in_memory = False

    def __init__(self, path: Path, *, login: str = "", read_only: bool = False) -> None:
        self.identity = f"{login} at {path.name}".lstrip()
        self._path = path
        self._read_only = read_only
        self._lock: FileLock | None = None
        self._attaching = False
        """Whether we attach a schema just now; nothing else may in memory."""
        if path == IN_MEMORY:
            self._connection = _connected(":memory:")
            self._connection.set_authorizer(self._allowed)
            return
        try:
            if read_only:
                for file in (path, *files_of_schemas(path)):
                    _recover(file)
            else:
                path.parent.mkdir(parents=True, exist_ok=True)
                self._make(path)
            # whoever fills a schema need not have made the file of the address itself
            self._connection = _connected(self._uri(path) if path.exists() else ":memory:")
            self._connection.execute("PRAGMA foreign_keys = ON")
            for file in files_of_schemas(path):
                self._attach(file.name[len(path.stem) + 1 : -len(path.suffix) or None])
        except (sqlite3.Error, OSError) as error:
            raise TargetError(
                f"the database {path.name} cannot be opened: {error}",
                next="Check that the file is a SQLite database that you may read and write.",
            ) from error

    def _make(self, file: Path) -> None:
        """Make an empty file, which is an empty database, that its owner alone may read."""
        if not self._read_only and not file.exists():
            file.touch(mode=_OWNER_ONLY)

    def _uri(self, path: Path) -> str:
        return f"{path.resolve().as_uri()}?mode={'ro' if self._read_only else 'rwc'}"

    def _file(self, schema: str) -> Path:
        return self._path.with_name(f"{self._path.stem}.{schema}{self._path.suffix}")

    def _attach(self, schema: str) -> None:
        in_memory = self._path == IN_MEMORY
        if not in_memory:
            self._make(self._file(schema))
        uri = ":memory:" if in_memory else self._uri(self._file(schema))
        self._attaching = True
        try:
            self._connection.execute(f"ATTACH DATABASE ? AS {quoted(schema)}", (uri,))
        finally:
            self._attaching = False

    def _allowed(self, action: int, name: str | None, *_: str | None) -> int:
        """What a script may do in a database in memory: nothing that reaches a file.

        ``VACUUM INTO`` is refused with ``ATTACH``, which SQLite makes of it.
        """
        if action == sqlite3.SQLITE_ATTACH and not self._attaching and name not in _NO_FILES:
            return sqlite3.SQLITE_DENY
        if action == sqlite3.SQLITE_PRAGMA and (name or "").lower() in _OF_FILES:
            return sqlite3.SQLITE_DENY
        if action == sqlite3.SQLITE_FUNCTION and name in _FUNCTIONS_OF_FILES:
            return sqlite3.SQLITE_DENY
        return sqlite3.SQLITE_OK

    def _schemas(self) -> list[str]:
        """The attached files by their schemas; ``main`` is the file of the address itself."""
        return [row[1] for row in self.rows("PRAGMA database_list") if row[1] != "temp"]

    def lock(self, name: str) -> None:
        """Lock the file for every checkout on this machine; the lock ends with the process, too."""
        from filelock import FileLock, Timeout

        if self._path == IN_MEMORY or self._lock is not None:
            return
        mode = self._path.stat().st_mode & 0o666
        file = self._path.with_name(f"{self._path.name}.lock")
        lock = FileLock(file, mode=mode, thread_local=False)
        try:
            lock.acquire(timeout=_A_LOOK)
        except Timeout as error:
            raise EnvironmentMoved(
                f"{self._path.name} is locked: somebody works in it from another checkout.",
                next="Wait until it has finished, and try again.",
            ) from error
        except OSError as error:
            raise TargetError(
                f"{file.name} cannot be locked: {error}", next=f"See who may write {file}."
            ) from error
        self._lock = lock

    def share(self, name: str, alone: Collection[str]) -> None:
        """Lock all of it: several cannot write to it at a time."""
        self.lock(name)

    def keep_writers_out(self, table: str) -> None:
        """Nothing to do: there is one writer, and a transaction notices another one."""

    def take_turn(self) -> None:
        """Nothing to do: there is one writer."""

    def reading_catalogue(self, work: Callable[[], Result]) -> Result:
        """Do it: nobody is in its way."""
        return work()

    def new_session(self) -> Self | None:
        """None: SQLite has one writer at a time."""
        return None

    def revive(self) -> bool:
        """Nothing to do: it is a file of this process."""
        return False

    def interrupt(self) -> None:
        """Have the statement that runs fail now."""
        self._connection.interrupt()

    @contextmanager
    def limited_to(self, memory: int | None, threads: int | None) -> Iterator[None]:
        """Nothing to do: SQLite works in one thread, and its caches are small."""
        yield

    def keep_log_short(self) -> None:
        """Nothing to do: its log is a file and nothing else."""

    def locking(self, work: Callable[[], Result], *, brief: bool = True) -> Result:
        """Do the work: whoever writes has the whole file, and readers are never kept out."""
        return work()

    def server(self) -> Server:
        """The library's version; it has no clock of its own."""
        return Server(product="SQLite", version=sqlite3.sqlite_version, now=None)

    def execute(self, sql: str, values: Sequence[Any] = ()) -> None:
        """Run a statement."""
        with self._errors():
            self._connection.execute(sql, list(values))
        self._note(sql, values)

    def execute_without_transaction(self, sql: str) -> None:
        """Run a statement by itself; a statement that fails leaves nothing here."""
        self.execute(sql)

    def rows(self, sql: str, values: Sequence[Any] = ()) -> list[tuple[Any, ...]]:
        """Run a query."""
        with self._errors():
            return self._connection.execute(sql, list(values)).fetchall()

    def one_of(self, column: str, type_name: str, texts: Collection[str]) -> tuple[str, list[Any]]:
        """The condition that a column has one of some texts, and the values that it takes."""
        return f"{column} IN (SELECT value FROM json_each(?))", [json.dumps(list(texts))]

    def select(self, sql: str) -> tuple[list[str], list[tuple[Any, ...]]]:
        """Run a query; the names of its columns, and its rows."""
        with self._errors():
            cursor = self._connection.execute(sql)
            return [column[0] for column in cursor.description or ()], cursor.fetchall()

    def batches(
        self, sql: str, size: int
    ) -> Generator[tuple[list[str], list[tuple[Any, ...]]], None, None]:
        """Run a query, and read its rows little by little."""
        with self._errors():
            cursor = self._connection.execute(sql)
            columns = [column[0] for column in cursor.description or ()]
            while rows := cursor.fetchmany(size):
                yield columns, rows

    def frame(self, sql: str) -> Any:
        """Run a query into a pandas DataFrame."""
        import pandas as pd

        names, rows = self.select(sql)
        whole = [_are_whole([row[at] for row in rows]) for at in range(len(names))]
        frame = pd.DataFrame(rows, columns=names)
        return alike(frame, [Column.WHOLE if each else Column.OTHER for each in whole])

    def add_rows(
        self, table: str, columns: Sequence[str], rows: Sequence[Sequence[str | int | None]]
    ) -> None:
        """Add many rows to a table of our own."""
        places = ", ".join("?" * len(columns))
        with self._errors():
            self._connection.executemany(
                f"INSERT INTO {table} ({', '.join(columns)}) VALUES ({places})", rows
            )

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

    def append_parquet(self, table: str, file: Path, fields: Mapping[str, str]) -> int | None:
        """Nothing: the database reads no such files."""
        return None

    @contextmanager
    def transaction(self) -> Iterator[None]:
        """A transaction: the statements inside take effect together, or not at all."""
        self.execute("BEGIN")
        try:
            yield
            self.execute("COMMIT")
        except BaseException:
            with suppress(sqlite3.Error):
                self._connection.rollback()
            raise

    @contextmanager
    def reading(self) -> Iterator[None]:
        """Statements that the database refuses if they change anything."""
        self.execute("PRAGMA query_only = on")
        try:
            yield
        finally:
            self.execute("PRAGMA query_only = off")

    @contextmanager
    def savepoint(self) -> Iterator[None]:
        """Nothing to do: every statement counts by itself."""
        yield

    def close(self) -> None:
        """End the connection, and its lock."""
        self._connection.close()
        if self._lock is not None:
            self._lock.release()

    @contextmanager
    def _errors(self) -> Iterator[None]:
        try:
            yield
        except sqlite3.OperationalError as error:
            # errors of the driver's own have no code; the lowest byte is SQLite's primary one
            code = getattr(error, "sqlite_errorcode", sqlite3.SQLITE_ERROR) & 0xFF
            if code in {sqlite3.SQLITE_BUSY, sqlite3.SQLITE_LOCKED}:
                raise EnvironmentMoved(
                    f"the database {self._path.name} is locked by another connection.",
                    next="Wait until it has finished, and try again.",
                ) from error
            raise self._refused(error) from error
        except sqlite3.Error as error:
            raise self._refused(error) from error

    def _refused(self, error: sqlite3.Error) -> TargetError:
        return TargetError(f"{self._path.name} says: {error}", next="Nothing was changed by it.")


def _plain(cell: Any) -> Any:
    """A value as the driver takes it; times as ISO 8601 text, decimal numbers by their digits."""
    if isinstance(cell, Decimal):  # a numeric column makes a number of it
        return str(cell)
    if isinstance(cell, dt.datetime):
        utc = cell.astimezone(dt.UTC).replace(tzinfo=None) if cell.tzinfo else cell
        return utc.isoformat(" ")
    if isinstance(cell, dt.date):
        return cell.isoformat()
    return cell.item() if hasattr(cell, "item") else cell


def _are_whole(values: Sequence[Any]) -> bool:
    """Whether a column has whole numbers, and nothing else but missing values."""
    kinds = {type(value) for value in values} - {type(None)}
    return kinds == {int}
