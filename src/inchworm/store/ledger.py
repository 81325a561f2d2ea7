"""The ledger: an append-only, hash-chained list of entries in a database.

Crash argument. Every entry is one row, inserted in one transaction together with the hash of the
row before; the row's number is its primary key. A crash leaves either the whole entry or none.
Whoever appends takes the file's write lock before it reads the entry that it follows, so two
processes that append at once do so one behind the other.
Projections (promotions, what each environment took) are worked out from the entries when they are
asked for and are never stored, so they cannot disagree with them.
"""

from __future__ import annotations

import json
import sqlite3
import uuid
from collections.abc import Callable, Iterator, Mapping
from contextlib import closing, contextmanager
from pathlib import Path
from typing import Any

from inchworm.core.errors import LedgerError, UsageError, did_you_mean
from inchworm.core.ledger import GENESIS, Entry, first_break, promotion_of
from inchworm.core.promotion import TRANSITIONS, Draft, Promotion, State, StepReport

_TABLE = (
    """CREATE TABLE IF NOT EXISTS entries (
    number INTEGER NOT NULL PRIMARY KEY, at TEXT NOT NULL, by TEXT NOT NULL, kind TEXT NOT NULL,
    about TEXT NOT NULL, body TEXT NOT NULL, before TEXT NOT NULL, hash TEXT NOT NULL)""",
    "CREATE INDEX IF NOT EXISTS ix_entries_about ON entries (about)",
)
_COLUMNS = "number, at, by, kind, about, body, before"
_PATIENCE = 10.0
"""Seconds to wait for another process that writes."""

About = Callable[[sqlite3.Connection], str]
"""Works out what an entry is about, from the entries before it."""


class Ledger:
    """The record of everything, in a SQLite file.

    Args:
        path: the file; it is created with the first entry.
        now: the current time, ISO 8601, UTC.
        by: who is at work.
    """

    def __init__(self, path: Path, *, now: Callable[[], str], by: str) -> None:
        self._path = path
        self._now = now
        self._by = by
        self._started = False

    @property
    def exists(self) -> bool:
        """Whether anything was ever recorded."""
        return self._path.exists()

    def append(self, kind: str, about: str | About, body: Mapping[str, Any]) -> Entry:
        """Add an entry; ``about`` may be worked out from the entries before it.

        Raises:
            LedgerError: when the ledger cannot be written.
        """
        self._start()
        with self._transaction() as connection:
            entry = self._next(connection, kind, about, body)
            _insert(connection, entry)
        return entry

    def entries(self, *, kind: str | None = None, about: str | None = None) -> list[Entry]:
        """Entries in order, all or those of one kind or about one thing."""
        if not self.exists:
            return []
        wanted = {"kind": kind, "about": about}
        asked = {column: value for column, value in wanted.items() if value is not None}
        where = " AND ".join(f"{column} = :{column}" for column in asked)
        query = f"SELECT {_COLUMNS} FROM entries {f'WHERE {where}' if where else ''}"
        with self._connection() as connection:
            if not _has_entries(connection):
                return []  # another process is just about to begin it
            return [_entry(row) for row in connection.execute(f"{query} ORDER BY number", asked)]

    def check(self) -> None:
        """Follow the chain from the first entry to the last.

        Raises:
            LedgerError: with the number of the first entry that does not fit.
        """
        if not self.exists:
            return
        with self._connection() as connection:
            rows = connection.execute(f"SELECT {_COLUMNS}, hash FROM entries ORDER BY number")
            broken = first_break((_entry(row[:-1]), row[-1]) for row in rows)
        if broken is not None:
            raise LedgerError(
                f"entry {broken} was altered or is missing.",
                where=str(self._path),
                next="Restore the ledger from a backup; the databases still say what is live.",
            )

    # ---- promotions ---------------------------------------------------------------------------

    def draft(self, draft: Draft, commit: str | None) -> Promotion:
        """Record a draft under the next promotion number."""
        body = {"draft": draft.to_json(), "commit": commit}
        entry = self.append("drafted", _next_promotion, body)
        return self.promotion(entry.about)

    def move(self, promotion: Promotion, state: State, message: str = "", **more: Any) -> Promotion:
        """Record that a promotion is in another state now.

        Raises:
            LedgerError: when that state may not follow the present one.
        """
        if state not in TRANSITIONS[promotion.state]:
            raise LedgerError(
                f"{promotion.id} is {promotion.state}; it cannot become {state}.",
                next="See inchworm history.",
            )
        self.append("state", promotion.id, {"state": state.value, "message": message, **more})
        return self.promotion(promotion.id)

    def step(self, promotion: Promotion, number: int, report: StepReport) -> None:
        """Record how a step stands."""
        body: dict[str, Any] = {"step": number, "state": report.state.value}
        if report.message:
            body["message"] = report.message
        if report.seconds is not None:
            body["seconds"] = round(report.seconds, 3)
        body |= {n: v for n in ("rows", "size") if (v := getattr(report, n)) is not None}
        self.append("step", promotion.id, body)

    def promotion(self, id_: str) -> Promotion:
        """A promotion by its id; case does not count.

        Raises:
            UsageError: when there is none.
        """
        wanted = id_.upper()
        entries = self.entries(about=wanted)
        if not entries or entries[0].kind != "drafted":
            known = [entry.about for entry in self.entries(kind="drafted")]
            raise UsageError(
                f"There is no promotion {id_}.",
                next=did_you_mean(wanted, known, "See inchworm history."),
            )
        return promotion_of(entries)

    def promotions(self) -> list[Promotion]:
        """All promotions, the oldest first."""
        by_id: dict[str, list[Entry]] = {}
        for entry in self.entries():
            if entry.kind in {"drafted", "state", "step"}:
                by_id.setdefault(entry.about, []).append(entry)
        return [promotion_of(entries) for entries in by_id.values()]

    def passed(self, bundle_digest: str) -> dict[str, Promotion]:
        """The environments that a bundle went into completely, each with the latest promotion."""
        return {
            promotion.draft.environment: promotion
            for promotion in self.promotions()
            if promotion.state is State.DONE and promotion.draft.bundle_digest == bundle_digest
        }

    # ---- rows ---------------------------------------------------------------------------------

    @property
    def id(self) -> str:
        """The ledger's own name: a database tells the promotions of two ledgers apart."""
        started = self.entries(kind="ledger-started")
        if not started:
            self._start()
            started = self.entries(kind="ledger-started")
        return str(started[0].body["ledger"])

    def _start(self) -> None:
        """Make the table and its first entry, unless they are there."""
        if self._started:
            return
        self._started = True
        self._path.parent.mkdir(parents=True, exist_ok=True)
        with self._transaction() as connection:
            for statement in _TABLE:
                connection.execute(statement)
            if connection.execute("SELECT 1 FROM entries LIMIT 1").fetchone() is None:
                body = {"ledger": uuid.uuid4().hex[:12]}
                _insert(connection, self._next(connection, "ledger-started", "ledger", body))

    def _next(
        self, connection: sqlite3.Connection, kind: str, about: str | About, body: Mapping[str, Any]
    ) -> Entry:
        latest = connection.execute(
            "SELECT number, hash FROM entries ORDER BY number DESC LIMIT 1"
        ).fetchone()
        before, link = latest if latest is not None else (0, GENESIS)
        return Entry(
            number=before + 1,
            at=self._now(),
            by=self._by,
            kind=kind,
            about=about if isinstance(about, str) else about(connection),
            body=body,
            before=link,
        )

    @contextmanager
    def _transaction(self) -> Iterator[sqlite3.Connection]:
        """A connection on which everything takes effect together, or not at all."""
        with self._connection() as connection:
            connection.execute("BEGIN IMMEDIATE")  # read under the lock that writes need
            try:
                yield connection
            except BaseException:
                if connection.in_transaction:
                    connection.rollback()
                raise
            connection.execute("COMMIT")

    @contextmanager
    def _connection(self) -> Iterator[sqlite3.Connection]:
        try:
            with closing(
                sqlite3.connect(self._path, timeout=_PATIENCE, isolation_level=None)
            ) as connection:
                yield connection
        except sqlite3.Error as error:
            raise LedgerError(
                f"cannot be used: {error}.",
                where=str(self._path),
                next="Check that the file is a ledger, readable, writable and not locked.",
            ) from error


def _has_entries(connection: sqlite3.Connection) -> bool:
    found = connection.execute("SELECT 1 FROM sqlite_master WHERE name = 'entries'")
    return found.fetchone() is not None


def _next_promotion(connection: sqlite3.Connection) -> str:
    """The next promotion's id; nobody else can add one before ours is there."""
    (drafted,) = connection.execute(
        "SELECT count(*) FROM entries WHERE kind = 'drafted'"
    ).fetchone()
    return f"P{drafted + 1}"


def _insert(connection: sqlite3.Connection, entry: Entry) -> None:
    connection.execute(
        f"INSERT INTO entries ({_COLUMNS}, hash) VALUES (?, ?, ?, ?, ?, ?, ?, ?)",
        (
            entry.number,
            entry.at,
            entry.by,
            entry.kind,
            entry.about,
            json.dumps(entry.body, sort_keys=True, ensure_ascii=False),
            entry.before,
            entry.hash,
        ),
    )


def _entry(row: tuple[Any, ...]) -> Entry:
    number, at, by, kind, about, body, before = row
    return Entry(
        number=number,
        at=at,
        by=by,
        kind=kind,
        about=about,
        body=json.loads(body),
        before=before,
    )
