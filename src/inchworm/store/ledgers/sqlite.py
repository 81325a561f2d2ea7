"""A ledger in a SQLite file: the default, for one checkout."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator, Sequence
from contextlib import closing, contextmanager
from pathlib import Path
from typing import Any

from inchworm.core.errors import LedgerError
from inchworm.store.ledgers.sql import SqlStorage, Statements, tables

_PATIENCE = 10.0
"""Seconds to wait for another process that writes."""


class SqliteLedger(SqlStorage):
    """A ledger in a file, which its owner alone can read.

    Args:
        path: the file; it is made with the first entry.
    """

    prefix = ""

    def __init__(self, path: Path) -> None:
        self.place = str(path)
        self._path = path
        self._is_begun = False

    @property
    def exists(self) -> bool:
        """Whether anything was ever recorded."""
        if not self._path.exists():
            return False
        with self._reading() as run:  # another process may be just about to begin it
            return bool(run("SELECT 1 FROM sqlite_master WHERE name = 'promotions'")) or bool(
                run("SELECT 1 FROM sqlite_master WHERE name = 'entries'")
            )

    def begin(self) -> None:
        """Make the file and its tables, unless they are there."""
        if self._is_begun:
            return  # a file that vanished meanwhile must not become an empty ledger
        self._path.parent.mkdir(parents=True, exist_ok=True)
        if not self._path.exists():
            self._path.touch(mode=0o600)
        self._is_begun = True
        with self._locked() as run:
            for statement in tables(self.prefix, "INTEGER"):
                run(statement)

    @contextmanager
    def _locked(self) -> Iterator[Statements]:
        with self._connection() as connection:
            connection.execute("BEGIN IMMEDIATE")  # read under the lock that writes need
            try:
                yield _running(connection)
            except BaseException:
                if connection.in_transaction:
                    connection.rollback()
                raise
            connection.execute("COMMIT")

    @contextmanager
    def _reading(self) -> Iterator[Statements]:
        with self._connection() as connection:
            yield _running(connection)

    @contextmanager
    def _connection(self) -> Iterator[sqlite3.Connection]:
        try:
            with closing(
                sqlite3.connect(
                    f"{self._path.absolute().as_uri()}?mode=rw",
                    uri=True,
                    timeout=_PATIENCE,
                    isolation_level=None,
                )
            ) as connection:
                yield connection
        except sqlite3.Error as error:
            raise LedgerError(
                f"cannot be used: {error}.",
                where=self.place,
                next="Check that the file is a ledger, readable, writable and not locked.",
            ) from error


def _running(connection: sqlite3.Connection) -> Statements:
    def run(sql: str, values: Sequence[Any] = ()) -> list[tuple[Any, ...]]:
        return connection.execute(sql, values).fetchall()

    return run
