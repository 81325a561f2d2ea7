"""PostgreSQL: a server that several people and programs use at once."""

from __future__ import annotations

import datetime as dt
import re
import time
from collections.abc import Callable, Collection, Generator, Iterator, Mapping, Sequence
from contextlib import contextmanager, suppress
from functools import partial
from pathlib import Path
from threading import Event
from typing import Any, Self

import psycopg
from psycopg import errors

from inchworm.core.errors import EnvironmentMoved, TargetError, WorkedOn
from inchworm.targets.databases.frames import Column, alike, in_utc
from inchworm.targets.databases.noting import Noting
from inchworm.targets.databases.postgres.lock_waits import (
    WAIT,
    Blockers,
    LockHeld,
    Patience,
    try_for_locks,
)
from inchworm.targets.databases.postgres.switch_over import ViewShapeChanged
from inchworm.targets.databases.protocols import Result, Server
from inchworm.targets.databases.quoting import quoted, quoted_one
from inchworm.targets.secret import Secret

_LOCK_TIMEOUT = "15s"
"""How long a statement waits for a lock that somebody else holds."""

_TURN = "inchworm switch-over"
"""The name of the lock by which those who switch over and those who look know of each other."""

_TAKES_LOCKS = re.compile(r"\s*(?:ALTER|CREATE|DROP|LOCK|REFRESH|TRUNCATE)\b", re.IGNORECASE)
"""Statements that may wait for locks while they keep readers waiting."""

_LET_IT_END = "Nothing was changed by it. Have the session that holds it end, and go on."

_LOOKS = 5
"""How often the catalogue is looked at, where it changes meanwhile."""

_PAUSE = 0.2
"""Seconds between two of them."""

_PASSING = (
    errors.DeadlockDetected,
    errors.InternalError_,
    errors.UndefinedObject,
    errors.UndefinedTable,
)
"""What the server says where something has gone, or is being changed, while it is looked at."""

_WHOLE = frozenset({20, 21, 23})
"""The numbers of the types bigint, smallint and integer."""

_COLUMNS = {
    **dict.fromkeys(_WHOLE, Column.WHOLE),
    16: Column.FLAG,
    700: Column.DECIMAL,  # real
    701: Column.DECIMAL,  # double precision
    1082: Column.DATE,
    1114: Column.DATE,
    1184: Column.ZONED,
    1700: Column.DECIMAL,  # numeric
}
"""What the server's types are in a DataFrame, by their numbers, where values do not tell."""

_UNFINISHED = """
SELECT n.nspname, c.relname FROM pg_index i JOIN pg_class c ON c.oid = i.indexrelid
JOIN pg_namespace n ON n.oid = c.relnamespace WHERE NOT i.indisvalid
"""


_APPLICATION = "inchworm"
"""Begins the name under which our sessions are seen in the server; the person's follows."""


class PostgresSession(Noting):
    """A connection to a PostgreSQL database.

    Args:
        url: as libpq reads it, without a password.
        password: the password, handed over beside the address.
        read_only: the server then refuses every change.
    """

    dialect = "postgres"
    indexes_in_memory = False

    def __init__(
        self,
        url: str,
        *,
        password: Secret | None = None,
        read_only: bool = False,
        person: str = "",
    ) -> None:
        self._url = url
        self._person = person
        self._password = password
        self._interrupted = Event()
        self.writes_whole_names = False
        self._patience: Patience | None = None
        """With locks, while others are kept waiting; None while nobody is."""
        self._has_all_locks = False
        self._read_only = read_only
        self._held: Callable[[], None] | None = None
        """Takes the locks again that were taken for as long as the connection lives."""
        self._connection = self._connect()
        info = self._connection.info
        self.identity = f"{info.user} at {info.dbname}"
        self._where = f"{info.dbname} on {info.host}"
        self._begin()

    def _begin(self) -> None:
        self._wait_for_locks(_LOCK_TIMEOUT)
        self.execute("SET TIME ZONE 'UTC'")  # moments are told alike, whoever asks
        if self._read_only:
            self.execute("SET default_transaction_read_only = on")

    def _connect(self) -> psycopg.Connection[tuple[Any, ...]]:
        secret = {} if self._password is None else {"password": self._password.reveal()}
        try:
            return psycopg.connect(
                self._url,
                autocommit=True,
                connect_timeout=10,
                application_name=f"{_APPLICATION} {self._person}".strip(),
                **secret,  # type: ignore[arg-type]  # the driver names none of libpq's settings
            )
        except psycopg.Error as error:
            raise TargetError(
                f"the database cannot be reached: {self._masked(_first_line(error))}",
                next="Check its address and password in the environment file, and that it runs.",
            ) from error

    def lock(self, name: str) -> None:
        """Keep others from promoting into this database until the connection ends."""
        (got,) = self.rows("SELECT pg_try_advisory_lock(hashtextextended(?, 0))", [name])
        if got[0]:
            self._held = partial(self.lock, name)
            return
        raise EnvironmentMoved(
            f"somebody promotes or runs something in {self._where}{self._workers()}.",
            next="Wait until it has finished, and try again.",
        )

    def share(self, name: str, alone: Collection[str]) -> None:
        """Work beside others, on what nobody else works on, until the connection ends."""
        (got,) = self.rows("SELECT pg_try_advisory_lock_shared(hashtextextended(?, 0))", [name])
        if not got[0]:
            raise EnvironmentMoved(
                f"a promotion works in {self._where}{self._workers()}.",
                next="Wait until it has finished, and try again.",
            )
        for each in sorted(alone):  # always in one order, though nobody waits with one in hand
            key = f"{name} {each}"
            (got,) = self.rows("SELECT pg_try_advisory_lock(hashtextextended(?, 0))", [key])
            if not got[0]:
                self.rows("SELECT pg_advisory_unlock_all()")
                raise WorkedOn(
                    f"somebody works on {each} in {self._where}{self._workers()}.",
                    name=each,
                    next="Wait until it has finished, and try again.",
                )
        self._held = partial(self.share, name, alone)

    def keep_writers_out(self, table: str) -> None:
        """Lock it; others still read it."""
        self.execute(f"LOCK TABLE {quoted(table)} IN SHARE ROW EXCLUSIVE MODE")

    def take_turn(self) -> None:
        """Wait for others that switch over or look, as for any lock."""
        self.rows("SELECT pg_advisory_xact_lock(hashtextextended(?, 0))", [_TURN])

    def reading_catalogue(self, work: Callable[[], Result]) -> Result:
        """Look while nobody of us switches over; again where somebody else changed what is there.

        To spell a view or a constraint, the server locks the relation for a moment, and says that
        it could not be opened where it has gone since it was listed.
        """
        for attempt in range(1, _LOOKS + 1):
            self.rows("SELECT pg_advisory_lock_shared(hashtextextended(?, 0))", [_TURN])
            try:
                return work()
            except TargetError as error:
                if attempt == _LOOKS or not isinstance(error.__cause__, _PASSING):
                    raise
            finally:
                with suppress(TargetError):  # it ends with the connection at the latest
                    self.rows("SELECT pg_advisory_unlock_shared(hashtextextended(?, 0))", [_TURN])
            time.sleep(_PAUSE)
        raise AssertionError("the last attempt returns or raises")

    def _workers(self) -> str:
        """Who works in the database, in brackets; empty where nobody is seen."""
        holders = self.rows(
            "SELECT DISTINCT a.pid, a.usename, coalesce(a.client_addr::text, 'this machine'), "
            "a.application_name "
            "FROM pg_locks l JOIN pg_stat_activity a ON a.pid = l.pid "
            "WHERE l.locktype = 'advisory' AND l.granted AND a.datname = current_database() "
            "AND a.pid <> pg_backend_pid() ORDER BY 1"
        )
        named = ", ".join(
            f"{name.removeprefix(_APPLICATION).strip() or user} as {user} from {client} "
            f"(process {pid})"
            for pid, user, client, name in holders
        )
        return f": {named}" if named else ""

    def new_session(self) -> Self:
        """Another session."""
        return type(self)(self._url, password=self._password, person=self._person)

    def revive(self) -> bool:
        """Connect again; what was prepared for whoever had to wait is forgotten."""
        if not self._connection.closed:
            return False
        self._connection = self._connect()
        self._has_all_locks = False
        self._begin()
        if self._held is not None:
            self._held()
        return True

    def interrupt(self) -> None:
        """Ask the server to cancel what this session does."""
        self._interrupted.set()
        with suppress(psycopg.Error):  # it may have ended, and the connection with it
            self._connection.cancel_safe(timeout=5)

    @contextmanager
    def limited_to(self, memory: int | None, threads: int | None) -> Iterator[None]:
        """Keep queries in the block from more processes at a time; the memory is the server's."""
        if threads is None:
            yield
            return
        self.execute(f"SET max_parallel_workers_per_gather = {threads - 1}")
        try:
            yield
        finally:
            if not self._connection.closed:
                self.execute("RESET max_parallel_workers_per_gather")

    def keep_log_short(self) -> None:
        """Nothing to do: the server takes care of its log."""

    def locking(self, work: Callable[[], Result], *, brief: bool = True) -> Result:
        """Do work that needs locks: again and again, so that nobody waits for long behind it."""
        self._interrupted.clear()
        pid = self._connection.info.backend_pid
        blockers = Blockers(pid, self._connect)
        if not brief:
            return try_for_locks(work, blockers, self._pause, once=True)

        def attempt() -> Result:
            self._patience, self._has_all_locks = Patience(), False
            try:
                return work()
            finally:
                self._patience = None

        before = self._lock_timeout
        self._wait_for_locks(WAIT)
        try:
            return try_for_locks(attempt, blockers, self._pause)
        finally:
            if not self._connection.closed:
                self._wait_for_locks(before)

    def take_locks(self, statements: Sequence[str], *, are_all: bool) -> None:
        """Run statements that wait for locks, none for longer than all of them may together.

        Called inside a transaction, with which the limit ends.

        Args:
            statements: one of them may wait for several locks, each for as long as it may in all.
            are_all: whether nothing that follows needs a lock that somebody else may hold.

        Raises:
            LockHeld: when another session holds one of the locks for longer.
        """
        patience = self._patience or Patience()
        for statement in statements:
            self._limit(f"statement_timeout TO {patience.left()}")
            try:
                self._execute(statement, ())
            except TargetError as error:
                if not isinstance(error.__cause__, errors.QueryCanceled):
                    raise
                raise LockHeld(
                    f"{self._where} says: waited {WAIT} for a lock", next=_LET_IT_END
                ) from error
        if statements:
            self._limit("statement_timeout TO DEFAULT")
        self._has_all_locks = are_all

    def _limit(self, setting: str) -> None:
        with self._errors():
            self._run(f"SET LOCAL {setting}", ())

    def _wait_for_locks(self, limit: str) -> None:
        self._lock_timeout = limit
        self.execute(f"SET lock_timeout = '{limit}'")

    def _pause(self, seconds: float) -> bool:
        return not self._interrupted.wait(seconds)

    def server(self) -> Server:
        """The server's version and its clock."""
        ((version, now),) = self.rows("SELECT current_setting('server_version'), clock_timestamp()")
        return Server(product="PostgreSQL", version=version.split()[0], now=_with_zone(now))

    def execute(self, sql: str, values: Sequence[Any] = ()) -> None:
        """Run a statement."""
        if self._patience and not self._has_all_locks and _TAKES_LOCKS.match(sql):
            self._limit(f"lock_timeout TO {self._patience.left()}")
        self._execute(sql, values)

    def _execute(self, sql: str, values: Sequence[Any]) -> None:
        with self._errors():
            self._run(sql, values)
        self._note(sql, values)

    def execute_without_transaction(self, sql: str) -> None:
        """Run a statement by itself. An index that was not finished would be taken for one."""
        words = set(re.findall(r"\w+", sql))
        for schema, name in self.rows(_UNFINISHED):
            if name in words:
                self.execute(f"DROP INDEX {quoted(f'{schema}.{name}')}")
        self.execute(sql)

    def rows(self, sql: str, values: Sequence[Any] = ()) -> list[tuple[Any, ...]]:
        """Run a query."""
        with self._errors():
            return self._run(sql, values).fetchall()

    def one_of(self, column: str, type_name: str, texts: Collection[str]) -> tuple[str, list[Any]]:
        """The condition that a column has one of some texts, and the values that it takes."""
        return f"{column} = ANY (?::{type_name}[])", [list(texts)]

    def select(self, sql: str) -> tuple[list[str], list[tuple[Any, ...]]]:
        """Run a query; the names of its columns, and its rows."""
        with self._errors():
            cursor = self._run(sql, ())
            return [column.name for column in cursor.description or ()], cursor.fetchall()

    def batches(
        self, sql: str, size: int
    ) -> Generator[tuple[list[str], list[tuple[Any, ...]]], None, None]:
        """Run a query on a connection of its own, and read its rows little by little."""
        session = self.new_session()
        try:
            with (
                session._errors(),
                session._connection.transaction(),
                session._connection.cursor("rows") as cursor,
            ):
                cursor.execute(sql.encode())
                columns = [column.name for column in cursor.description or ()]
                while rows := cursor.fetchmany(size):
                    yield columns, rows
        finally:
            session.close()

    def frame(self, sql: str) -> Any:
        """Run a query into a pandas DataFrame."""
        import pandas as pd

        with self._errors():
            cursor = self._run(sql, ())
            description, rows = cursor.description or [], cursor.fetchall()
        frame = pd.DataFrame(rows, columns=[column.name for column in description])
        return alike(frame, [_COLUMNS.get(c.type_code, Column.OTHER) for c in description])

    def add_rows(
        self, table: str, columns: Sequence[str], rows: Sequence[Sequence[str | int | None]]
    ) -> None:
        """Add many rows to a table of our own; psycopg sends them without waiting for each."""
        places = ", ".join(["%s"] * len(columns))
        sql = f"INSERT INTO {table} ({', '.join(columns)}) VALUES ({places})"
        with self._errors(), self._connection.cursor() as cursor:
            cursor.executemany(sql.encode(), rows)

    def append_frame(self, table: str, frame: Any) -> None:
        """Add the rows of a pandas DataFrame to a table, columns matched by name."""
        import pandas as pd

        columns = ", ".join(quoted_one(str(column)) for column in frame.columns)
        frame = in_utc(frame)
        plain = frame.astype(object).where(frame.notna(), None)
        for at, type_ in enumerate(self._types(f"SELECT {columns} FROM {quoted(table)} LIMIT 0")):
            if type_ in _WHOLE:  # pandas has whole numbers as floats where one is missing
                cells = [_whole(cell) for cell in plain.iloc[:, at]]
                plain.isetitem(at, pd.Series(cells, index=plain.index, dtype=object))
        with (
            self._errors(),
            self._connection.cursor() as cursor,
            cursor.copy(f"COPY {quoted(table)} ({columns}) FROM STDIN".encode()) as copy,
        ):
            for row in plain.itertuples(index=False, name=None):
                copy.write_row(row)

    def _types(self, sql: str) -> list[int]:
        """The types of a query's columns, as the server numbers them."""
        with self._errors():
            return [column.type_code for column in self._run(sql, ()).description or ()]

    def append_parquet(self, table: str, file: Path, fields: Mapping[str, str]) -> int | None:
        """Nothing: the database reads no such files."""
        return None

    @contextmanager
    def transaction(self) -> Iterator[None]:
        """A transaction: the statements inside take effect together, or not at all."""
        self.execute("BEGIN")
        try:
            yield
        except BaseException:
            with suppress(psycopg.Error):  # a lost connection has rolled back by itself
                self._connection.rollback()
            raise
        self.execute("COMMIT")

    @contextmanager
    def reading(self) -> Iterator[None]:
        """A transaction in which the server refuses every change, also by functions."""
        self.execute("BEGIN READ ONLY")
        try:
            yield
        finally:
            with suppress(psycopg.Error):  # a lost connection has rolled back by itself
                self._connection.rollback()

    @contextmanager
    def savepoint(self) -> Iterator[None]:
        """Inside a trial: if a statement inside fails, what was made before it is still there."""
        self.execute("SAVEPOINT attempt")
        try:
            yield
        except TargetError:
            self.execute("ROLLBACK TO SAVEPOINT attempt")
            raise
        self.execute("RELEASE SAVEPOINT attempt")

    def close(self) -> None:
        """End the connection."""
        self._connection.close()

    def _run(self, text: str, values: Sequence[Any]) -> psycopg.Cursor[tuple[Any, ...]]:
        if not values:
            return self._connection.execute(text.encode())
        given = [_array(value) if isinstance(value, list) else value for value in values]
        return self._connection.execute(text.replace("%", "%%").replace("?", "%s").encode(), given)

    @contextmanager
    def _errors(self) -> Iterator[None]:
        try:
            yield
        except errors.DeadlockDetected as error:
            raise LockHeld(
                f"{self._where} says: another session and this one waited for each other",
                next="Nothing was changed by it. Go on.",
            ) from error
        except errors.LockNotAvailable as error:
            raise LockHeld(
                f"{self._where} says: waited {self._lock_timeout} for a lock", next=_LET_IT_END
            ) from error
        except errors.InvalidTableDefinition as error:
            refused = self._refused(error)
            raise ViewShapeChanged(refused.what, next=refused.next) from error
        except errors.QueryCanceled as error:
            raise TargetError(
                f"{self._where} says: {_first_line(error)}",
                next="Nothing was changed by it. Raise the statement timeout there, and go on.",
            ) from error
        except psycopg.OperationalError as error:
            if not self._connection.closed:
                raise self._refused(error) from error
            raise TargetError(
                f"{self._where} does not answer any more: {self._masked(_first_line(error))}",
                next="Go on once it does: its bookkeeping says what took effect.",
            ) from error
        except psycopg.Error as error:
            raise self._refused(error) from error

    def _refused(self, error: psycopg.Error) -> TargetError:
        detail = error.diag.message_detail
        message = self._masked(_first_line(error)) + (f" ({detail})" if detail else "")
        return TargetError(f"{self._where} says: {message}", next="Nothing was changed by it.")

    def _masked(self, text: str) -> str:
        if self._password is None:
            return text
        return text.replace(self._password.reveal(), str(self._password))


def _with_zone(moment: Any) -> dt.datetime:
    assert isinstance(moment, dt.datetime)
    return moment if moment.tzinfo else moment.replace(tzinfo=dt.UTC)


def _array(texts: Sequence[str]) -> str:
    """Texts as an array constant (PostgreSQL 15, section 8.15.2).

    The driver's own way takes a hundred times as long, which thousands of names feel.
    """
    escaped = (text.replace("\\", "\\\\").replace('"', '\\"') for text in texts)
    return "{" + ",".join(f'"{text}"' for text in escaped) + "}"


def _whole(cell: object) -> object:
    return int(cell) if isinstance(cell, float) and cell.is_integer() else cell


def _first_line(error: Exception) -> str:
    lines = [line.strip() for line in str(error).splitlines() if line.strip()]
    return lines[0] if lines else type(error).__name__
