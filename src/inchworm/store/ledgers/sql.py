"""What every ledger in a SQL database has in common: its tables, and the statements on them.

Crash argument. Every entry is one row, inserted in one transaction together with the hash of the
row before; the row's number is its primary key. A crash leaves either the whole entry or none.
Whoever appends takes the ledger's write lock before it reads the entry that it follows, so two
processes that append at once do so one behind the other.
The index is written in the transaction of the entries that it is worked out from. It says up to
which entry it was worked out, so an index that lacks something, because an older version of the
program appended, is found out and caught up with. That of runs has no gaps before the latest entry
that it knows, as whoever writes to it catches up first; so nothing but what came later is looked
for, unless it has fewer runs than began.
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Iterator, Sequence
from contextlib import AbstractContextManager, contextmanager
from typing import Any, Protocol

from inchworm.core.identifiers import promotion_number
from inchworm.core.ledger.entries import Row
from inchworm.core.ledger.events import Drafted, RunEnded, RunStarted, StateChanged
from inchworm.core.ledger.runs import RunsAsked
from inchworm.store.ledgers.protocol import (
    IndexRow,
    LedgerTransaction,
    RunRow,
    Tail,
    damaged_index,
)

COLUMNS = "number, at, by, kind, about, body, before, hash"
INDEX_COLUMNS = (
    "number, environment, bundle, bundle_digest, state, changed_at, changed_by, through, "
    "steps, steps_over, seconds"
)
RUN_COLUMNS = (
    "number, environment, subject, corner, bundle, bundle_digest, started, state, began_at, "
    "began_by, changed_at, message, through"
)
_FEW = 100
"""Entries per statement."""


class Statements(Protocol):
    """Runs statements with ``?`` for parameters."""

    def __call__(self, sql: str, values: Sequence[Any] = ()) -> list[tuple[Any, ...]]:
        """The rows of one."""
        ...


class SqlTransaction:
    """Work on a ledger, inside a transaction that holds its write lock.

    Args:
        run: runs statements in the transaction.
        prefix: stands before the name of every table.
    """

    def __init__(self, run: Statements, prefix: str) -> None:
        self._run = run
        self._prefix = prefix

    def tail(self) -> Tail | None:
        """The end of the chain; None of a ledger that has not begun."""
        entries = f"{self._prefix}entries"
        latest = self._run(f"SELECT {COLUMNS} FROM {entries} ORDER BY number DESC LIMIT 1")
        if not latest:
            return None
        return Tail(Row(*latest[0]), self._count)

    def _count(self, kind: str) -> int:
        entries = f"{self._prefix}entries"
        ((count,),) = self._run(f"SELECT count(*) FROM {entries} WHERE kind = ?", [kind])
        return int(count)

    def about(self, about: str) -> list[Row]:
        """The entries about one thing, in order."""
        rows = self._run(
            f"SELECT {COLUMNS} FROM {self._prefix}entries WHERE about = ? ORDER BY number", [about]
        )
        return [Row(*row) for row in rows]

    def append(self, rows: Sequence[Row]) -> None:
        """Add entries behind the latest one."""
        for at in range(0, len(rows), _FEW):
            some = rows[at : at + _FEW]
            places = ", ".join(["(?, ?, ?, ?, ?, ?, ?, ?)"] * len(some))
            self._run(
                f"INSERT INTO {self._prefix}entries ({COLUMNS}) VALUES {places}",
                [value for row in some for value in row],
            )

    def put_index(self, row: IndexRow) -> None:
        """Write the index's line of a promotion, replacing its former one."""
        table = f"{self._prefix}promotions"
        self._run(f"DELETE FROM {table} WHERE number = ?", [row[0]])
        places = ", ".join("?" * len(row))
        self._run(f"INSERT INTO {table} ({INDEX_COLUMNS}) VALUES ({places})", row)

    def put_run(self, row: RunRow) -> None:
        """Write the index's line of a run, replacing its former one."""
        table = f"{self._prefix}runs"
        self._run(f"DELETE FROM {table} WHERE number = ?", [row[0]])
        places = ", ".join("?" * len(row))
        self._run(f"INSERT INTO {table} ({RUN_COLUMNS}) VALUES ({places})", row)

    def later_runs(self) -> list[str]:
        """Runs that began or ended behind the latest entry that the index of runs knows."""
        ((through,),) = self._run(f"SELECT coalesce(max(through), 0) FROM {self._prefix}runs")
        _whole((through,), "through", f"{self._prefix}runs")
        return _runs_behind(self._run, self._prefix, through)


class SqlStorage(ABC):
    """A ledger in a SQL database."""

    place: str
    prefix: str
    """Stands before the name of every table."""

    @property
    @abstractmethod
    def exists(self) -> bool:
        """Whether anything was ever recorded."""

    @abstractmethod
    def begin(self) -> None:
        """Make the tables, unless they are there."""

    @abstractmethod
    def _locked(self) -> AbstractContextManager[Statements]:
        """A transaction that nobody else can append beside."""

    @abstractmethod
    def _reading(self) -> AbstractContextManager[Statements]:
        """A connection for reading."""

    @contextmanager
    def transaction(self) -> Iterator[LedgerTransaction]:
        """Work on the ledger while nobody else can append to it."""
        with self._locked() as run:
            yield SqlTransaction(run, self.prefix)

    def rows(
        self,
        *,
        kind: str | None = None,
        about: str | None = None,
        after: int = 0,
        containing: str | None = None,
    ) -> Iterator[Row]:
        """Entries in order: all, or those of one kind, about one thing, or behind a number."""
        if not self.exists:
            return
        conditions = {
            "kind = ?": kind,
            "about = ?": about,
            "number > ?": after or None,
            "body LIKE ?": None if containing is None else f"%{containing}%",
        }
        asked = {column: value for column, value in conditions.items() if value is not None}
        where = " AND ".join(asked)
        query = f"SELECT {COLUMNS} FROM {self.prefix}entries {f'WHERE {where}' if where else ''}"
        with self._reading() as run:
            rows = run(f"{query} ORDER BY number", list(asked.values()))
        yield from map(Row._make, rows)

    def index(self) -> list[IndexRow]:
        """The index's line of every promotion, by number."""
        query = f"SELECT {INDEX_COLUMNS} FROM {self.prefix}promotions ORDER BY number"
        with self._reading() as run:
            return [_whole(row, INDEX_COLUMNS, self.place) for row in run(query)]

    def count(self) -> int:
        """How many entries there are."""
        if not self.exists:
            return 0
        with self._reading() as run:
            ((count,),) = run(f"SELECT count(*) FROM {self.prefix}entries")
        return int(count)

    def not_indexed(self) -> list[str]:
        """Promotions with a draft or a change of state that the index does not know."""
        latest = (
            f"SELECT about, max(number) FROM {self.prefix}entries WHERE kind IN (?, ?) "
            "GROUP BY about"
        )
        with self._reading() as run:
            indexed = run(f"SELECT number, through FROM {self.prefix}promotions")
            through = dict(_whole(row, "number, through", self.place) for row in indexed)
            return [
                about
                for about, number in run(latest, [Drafted.kind, StateChanged.kind])
                if number > through.get(promotion_number(about), 0)
            ]

    def runs(self, asked: RunsAsked) -> list[RunRow]:
        """The index's lines of runs, by number."""
        conditions = {
            "environment = ?": asked.environment,
            "subject = ?": None if asked.subject is None else str(asked.subject),
            "state = ?": None if asked.state is None else asked.state.value,
        }
        values = {column: value for column, value in conditions.items() if value is not None}
        where = f"WHERE {' AND '.join(values)}" if values else ""
        query = f"SELECT {RUN_COLUMNS} FROM {self.prefix}runs {where} ORDER BY number DESC"
        limit = "" if asked.latest is None else f" LIMIT {asked.latest:d}"
        with self._reading() as run:
            rows = run(f"{query}{limit}", list(values.values()))
        return [_whole(row, RUN_COLUMNS, self.place) for row in rows[::-1]]

    def runs_not_indexed(self) -> list[str]:
        """Runs that the index does not know, or not to their end."""
        table = f"{self.prefix}runs"
        began = f"SELECT count(*) FROM {self.prefix}entries WHERE kind = ? AND number <= ?"
        with self._reading() as run:
            query = f"SELECT coalesce(max(through), 0), count(*) FROM {table}"
            ((through, indexed),) = run(query)
            _whole((indexed, through), "number, through", self.place)
            ((expected,),) = run(began, [RunStarted.kind, through])
            has_lost_some = indexed != expected
            return _runs_behind(run, self.prefix, 0 if has_lost_some else through)


_NUMBERS: dict[str, type | tuple[type, ...]] = {
    **dict.fromkeys(("number", "through", "steps", "steps_over"), int),
    "seconds": (int, float),
}
"""Columns of the index that are no texts."""


def _whole(row: tuple[Any, ...], columns: str, place: str) -> Any:
    """Return a row of the index, if it has just its columns, each with a value of its type.

    Raises:
        LedgerError: when it does not.
    """
    names = columns.split(", ")
    is_whole = len(row) == len(names) and all(
        isinstance(value, _NUMBERS.get(name, str)) for name, value in zip(names, row, strict=True)
    )
    if not is_whole:
        raise damaged_index(place, f"a row begins with {row[:1]!r:.60}")
    return row


def _runs_behind(run: Statements, prefix: str, number: int) -> list[str]:
    """Runs that began or ended behind an entry."""
    query = f"SELECT DISTINCT about FROM {prefix}entries WHERE number > ? AND kind IN (?, ?)"
    return [about for (about,) in run(query, [number, RunStarted.kind, RunEnded.kind])]


def tables(prefix: str, number: str) -> list[str]:
    """The statements that make the tables.

    Args:
        prefix: stands before the name of every table.
        number: the type of a whole number.
    """
    return [
        f"CREATE TABLE IF NOT EXISTS {prefix}entries (number {number} NOT NULL PRIMARY KEY, "
        "at TEXT NOT NULL, by TEXT NOT NULL, kind TEXT NOT NULL, about TEXT NOT NULL, "
        "body TEXT NOT NULL, before TEXT NOT NULL, hash TEXT NOT NULL)",
        f"CREATE INDEX IF NOT EXISTS ix_entries_about ON {prefix}entries (about)",
        f"CREATE INDEX IF NOT EXISTS ix_entries_kind ON {prefix}entries (kind, about, number)",
        f"CREATE TABLE IF NOT EXISTS {prefix}promotions (number {number} NOT NULL PRIMARY KEY, "
        "environment TEXT NOT NULL, bundle TEXT NOT NULL, bundle_digest TEXT NOT NULL, "
        "state TEXT NOT NULL, changed_at TEXT NOT NULL, changed_by TEXT NOT NULL, "
        f"through {number} NOT NULL, steps {number} NOT NULL, steps_over {number} NOT NULL, "
        "seconds DOUBLE PRECISION NOT NULL)",
        *table_of_runs(prefix, number),
    ]


def table_of_runs(prefix: str, number: str) -> list[str]:
    """Those of the table that ledgers of earlier versions lack."""
    return [
        f"CREATE TABLE IF NOT EXISTS {prefix}runs (number {number} NOT NULL PRIMARY KEY, "
        "environment TEXT NOT NULL, subject TEXT NOT NULL, corner TEXT NOT NULL, "
        "bundle TEXT NOT NULL, bundle_digest TEXT NOT NULL, started TEXT NOT NULL, "
        "state TEXT NOT NULL, began_at TEXT NOT NULL, began_by TEXT NOT NULL, "
        f"changed_at TEXT NOT NULL, message TEXT NOT NULL, through {number} NOT NULL)",
        f"CREATE INDEX IF NOT EXISTS ix_runs_subject ON {prefix}runs (subject, environment)",
        f"CREATE INDEX IF NOT EXISTS ix_runs_state ON {prefix}runs (state)",
        f"CREATE INDEX IF NOT EXISTS ix_runs_through ON {prefix}runs (through)",
    ]
