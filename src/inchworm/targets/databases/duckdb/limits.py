"""What statements may take of a DuckDB file's process, while several run at a time.

DuckDB has one limit of memory and one number of threads for a file, whatever the connection. So of
the work that is done at a time the largest limit counts, and none where some of it has none.
"""

from __future__ import annotations

import threading
from collections.abc import Iterator
from contextlib import contextmanager
from typing import NamedTuple

import duckdb


class Limit(NamedTuple):
    """Bytes of memory, and threads; None for as much as there is."""

    memory: int | None
    threads: int | None


class Limits:
    """The limits of one opened file; all connections to it share them."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._active: list[Limit] = []
        self._usual_threads: int | None = None
        """The number that the file was opened with; None while nobody has asked for another."""

    @contextmanager
    def within(self, connection: duckdb.DuckDBPyConnection, limit: Limit) -> Iterator[None]:
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
            with self._lock:
                self._active.remove(limit)
                self._apply(connection)

    def _apply(self, connection: duckdb.DuckDBPyConnection) -> None:
        if self._usual_threads is None:
            if self._active == [Limit(None, None)]:
                return  # nobody has asked for anything yet
            row = connection.execute("SELECT current_setting('threads')").fetchone()
            assert row is not None
            self._usual_threads = int(row[0])
        memory = [each.memory for each in self._active if each.memory is not None]
        threads = [each.threads for each in self._active if each.threads is not None]
        if memory and len(memory) == len(self._active):
            connection.execute(f"SET memory_limit = '{max(memory)}B'")
        else:
            connection.execute("RESET memory_limit")
        has_threads = bool(threads) and len(threads) == len(self._active)
        connection.execute(f"SET threads = {max(threads) if has_threads else self._usual_threads}")
