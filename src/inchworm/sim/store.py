"""The storage of a simulated platform, in a SQLite file."""

from __future__ import annotations

import datetime as dt
import hashlib
import json
import sqlite3
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from inchworm.core.errors import TargetError

_TABLES = """
CREATE TABLE IF NOT EXISTS items (
    kind TEXT, name TEXT, digest TEXT, document TEXT, state TEXT, reason TEXT, changed_at TEXT,
    PRIMARY KEY (kind, name));
CREATE TABLE IF NOT EXISTS schedules (
    pipeline TEXT, name TEXT, cron TEXT, timezone TEXT, state TEXT,
    PRIMARY KEY (pipeline, name));
CREATE TABLE IF NOT EXISTS tokens (digest TEXT PRIMARY KEY, ends_at REAL);
CREATE TABLE IF NOT EXISTS secrets (
    path TEXT, version INTEGER, data TEXT, ends_at REAL, PRIMARY KEY (path, version));
CREATE TABLE IF NOT EXISTS received (path TEXT, key TEXT, body TEXT, at TEXT);
CREATE TABLE IF NOT EXISTS faults (target TEXT PRIMARY KEY, reason TEXT);
CREATE TABLE IF NOT EXISTS clock (ahead INTEGER NOT NULL);
"""

FURTHEST = 50 * 366 * 24 * 60 * 60
"""Seconds by which the clock can be moved at most, either way."""


def moved(now: dt.datetime, ahead: int) -> dt.datetime:
    """The time by a clock that is so many seconds ahead."""
    return now + dt.timedelta(seconds=ahead)


def _digest(token: str) -> str:
    return hashlib.sha256(token.encode()).hexdigest()


class SimStore:
    """Items, schedules and injected faults."""

    def __init__(self, path: Path) -> None:
        self._path = path
        path.parent.mkdir(parents=True, exist_ok=True)
        with self._open() as connection:
            connection.executescript(_TABLES)

    @contextmanager
    def _open(self) -> Iterator[sqlite3.Connection]:
        connection = sqlite3.connect(self._path, timeout=10)
        connection.row_factory = sqlite3.Row
        try:
            with connection:
                yield connection
        except sqlite3.DatabaseError as error:
            raise TargetError(
                f"the file of a simulated service cannot be used: {error}.",
                where=str(self._path),
                next="Move the file away: the service begins again with nothing in it.",
            ) from error
        finally:
            connection.close()

    def items(self) -> list[dict[str, Any]]:
        """All items without their documents."""
        with self._open() as connection:
            query = "SELECT kind, name, digest, state, reason, changed_at FROM items ORDER BY 1, 2"
            return [dict(row) for row in connection.execute(query)]

    def item(self, kind: str, name: str) -> dict[str, Any] | None:
        """One item with its document."""
        with self._open() as connection:
            query = "SELECT * FROM items WHERE kind = ? AND name = ?"
            row = connection.execute(query, (kind, name)).fetchone()
        if row is None:
            return None
        return {**dict(row), "document": json.loads(row["document"])}

    @property
    def is_untouched(self) -> bool:
        """Whether nothing was ever put here: the service of a fresh clone, say."""
        with self._open() as connection:
            (version,) = connection.execute("PRAGMA user_version").fetchone()
            (items,) = connection.execute("SELECT count(*) FROM items").fetchone()
        return not version and not items

    def put(self, item: dict[str, Any]) -> None:
        """Add or replace an item."""
        with self._open() as connection:
            connection.execute("PRAGMA user_version = 1")
            connection.execute(
                "INSERT OR REPLACE INTO items VALUES (?, ?, ?, ?, ?, ?, ?)",
                (
                    item["kind"],
                    item["name"],
                    item["digest"],
                    json.dumps(item["document"]),
                    item["state"],
                    item["reason"],
                    item["changed_at"],
                ),
            )

    def remove(self, kind: str, name: str) -> bool:
        """Remove an item, and the schedules of a pipeline; whether it was there."""
        with self._open() as connection:
            if kind == "pipeline":
                connection.execute("DELETE FROM schedules WHERE pipeline = ?", (name,))
            removed = connection.execute(
                "DELETE FROM items WHERE kind = ? AND name = ?", (kind, name)
            )
            return removed.rowcount > 0

    def schedules(self) -> list[dict[str, Any]]:
        """All schedules."""
        with self._open() as connection:
            return [
                dict(row) for row in connection.execute("SELECT * FROM schedules ORDER BY 1, 2")
            ]

    def keep_schedules(self, pipeline: str, schedules: dict[str, dict[str, str]]) -> None:
        """Make a pipeline's schedules these; new ones are off, known ones keep their state."""
        with self._open() as connection:
            states = {
                row["name"]: row["state"]
                for row in connection.execute(
                    "SELECT name, state FROM schedules WHERE pipeline = ?", (pipeline,)
                )
            }
            connection.execute("DELETE FROM schedules WHERE pipeline = ?", (pipeline,))
            for name, schedule in schedules.items():
                connection.execute(
                    "INSERT INTO schedules VALUES (?, ?, ?, ?, ?)",
                    (
                        pipeline,
                        name,
                        schedule.get("cron", ""),
                        schedule.get("timezone", "UTC"),
                        states.get(name, "off"),
                    ),
                )

    def set_schedule(self, pipeline: str, name: str, state: str) -> bool:
        """Set a schedule's state; whether it is there."""
        with self._open() as connection:
            query = "UPDATE schedules SET state = ? WHERE pipeline = ? AND name = ?"
            return connection.execute(query, (state, pipeline, name)).rowcount > 0

    def grant(self, token: str, ends_at: float | None) -> None:
        """Let a token open the secrets until some time; only its digest is kept."""
        with self._open() as connection:
            connection.execute(
                "INSERT OR REPLACE INTO tokens VALUES (?, ?)", (_digest(token), ends_at)
            )

    def opens(self, token: str, now: float) -> bool:
        """Whether a token opens the secrets."""
        with self._open() as connection:
            query = "SELECT ends_at FROM tokens WHERE digest = ?"
            row = connection.execute(query, (_digest(token),)).fetchone()
        return row is not None and (row["ends_at"] is None or now < row["ends_at"])

    def keep_secret(self, path: str, references: dict[str, str], ends_at: float | None) -> int:
        """Keep where a new version of a secret is, by key, and never the secret; its number."""
        with self._open() as connection:
            query = "SELECT max(version) AS last FROM secrets WHERE path = ?"
            version = int(connection.execute(query, (path,)).fetchone()["last"] or 0) + 1
            connection.execute(
                "INSERT INTO secrets VALUES (?, ?, ?, ?)",
                (path, version, json.dumps(references), ends_at),
            )
        return version

    def secret(self, path: str, version: int | None) -> dict[str, Any] | None:
        """One version of a secret, the latest by default: its references, number, and its end."""
        query = "SELECT * FROM secrets WHERE path = ? ORDER BY version DESC"
        with self._open() as connection:
            versions = [dict(row) for row in connection.execute(query, (path,))]
        for row in versions:
            if version is None or row["version"] == version:
                return row | {"references": json.loads(row["data"])}
        return None

    def receive(self, path: str, key: str, body: str, at: str) -> None:
        """Keep what was sent to a path, unless it has a key that came there before."""
        with self._open() as connection:
            query = "SELECT 1 FROM received WHERE path = ? AND key = ?"
            if key and connection.execute(query, (path, key)).fetchone():
                return
            connection.execute("INSERT INTO received VALUES (?, ?, ?, ?)", (path, key, body, at))

    def received(self) -> list[dict[str, Any]]:
        """All that was sent here, in the order in which it came."""
        with self._open() as connection:
            query = "SELECT path, key, body, at FROM received ORDER BY rowid"
            return [dict(row) for row in connection.execute(query)]

    def ahead(self) -> int:
        """Seconds by which the clock of the service is ahead of that of the machine."""
        with self._open() as connection:
            row = connection.execute("SELECT ahead FROM clock").fetchone()
        return 0 if row is None else int(row["ahead"])

    def set_ahead(self, seconds: int) -> None:
        """Move the clock."""
        with self._open() as connection:
            connection.execute("DELETE FROM clock")
            connection.execute("INSERT INTO clock VALUES (?)", (seconds,))

    def faults(self) -> dict[str, str]:
        """Injected faults: the reason for each ``kind:name``."""
        with self._open() as connection:
            return {
                row["target"]: row["reason"] for row in connection.execute("SELECT * FROM faults")
            }

    def set_fault(self, target: str, reason: str | None) -> None:
        """Inject a fault, or take it back."""
        with self._open() as connection:
            connection.execute("DELETE FROM faults WHERE target = ?", (target,))
            if reason is not None:
                connection.execute("INSERT INTO faults VALUES (?, ?)", (target, reason))
