"""What statements may take of a DuckDB file's process, while several run at a time.

DuckDB has one limit of memory and one number of threads for a file, whatever the connection. So of
the work that is done at a time the largest limit counts, and none where some of it has none.
"""

from __future__ import annotations

import threading
from collections.abc import Iterator, Sequence
from contextlib import contextmanager, suppress
from typing import NamedTuple

import duckdb


class Limit(NamedTuple):
    """Bytes of memory, and threads; None for as much as there is."""

    memory: int | None
    threads: int | None


UNLIMITED = Limit(None, None)


class Limits:
    """The limits of one opened file; all connections to it share them."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._active: list[Limit] = []
        self._set = UNLIMITED
        """The limit that is in force."""
        self._usual_threads = 0
        """The number that the file was opened with; asked for where another one is set."""

    @contextmanager
    def limited_to(self, connection: duckdb.DuckDBPyConnection, limit: Limit) -> Iterator[None]:
        """Keep what runs in the block within a limit, as far as others let it.

        Args:
            connection: the one over which the settings are made; no statement runs over it.
            limit: the bytes and threads.
        """
        with self._lock:
            self._active.append(limit)
            self._apply(connection)
        try:
            yield
        finally:
            with self._lock, suppress(duckdb.Error):
                # where what goes on has more than it may, that is no fault of what has ended
                self._active.remove(limit)
                self._apply(connection)

    def _apply(self, connection: duckdb.DuckDBPyConnection) -> None:
        wanted = Limit(
            _largest([each.memory for each in self._active]),
            _largest([each.threads for each in self._active]),
        )
        if wanted.memory != self._set.memory:
            limited = f"SET memory_limit = '{wanted.memory}B'"
            connection.execute(limited if wanted.memory is not None else "RESET memory_limit")
        if wanted.threads != self._set.threads:
            if self._set.threads is None:
                row = connection.execute("SELECT current_setting('threads')").fetchone()
                assert row is not None
                self._usual_threads = int(row[0])
            connection.execute(f"SET threads = {wanted.threads or self._usual_threads}")
        self._set = wanted


def _largest(limits: Sequence[int | None]) -> int | None:
    """The largest of some limits; None where one of them is none, or there are none."""
    known = [each for each in limits if each is not None]
    return max(known) if known and len(known) == len(limits) else None
