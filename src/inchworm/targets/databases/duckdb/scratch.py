"""Databases in memory: all of one instance of DuckDB, which takes longer to start than to use.

An instance registers thousands of functions when it starts, some 30 ms; to attach another empty
database to one that has started takes one.
"""

from __future__ import annotations

from functools import cache
from itertools import count
from threading import Lock

import duckdb

from inchworm.targets.databases.duckdb.places import NO_PLACES

_BASE = "memory"
"""The database that an instance in memory begins with."""

_taken: set[int] = set()
"""The numbers of those that are there: the same command always meets the same names."""

_lock = Lock()


@cache
def _started() -> duckdb.DuckDBPyConnection:
    connection = duckdb.connect(":memory:", config=NO_PLACES.config)
    for statement in NO_PLACES.narrowing:
        connection.execute(statement)
    # locked, so that no script can have what it reads logged or profiled into a file
    connection.execute("SET lock_configuration = true")
    return connection


def _instance() -> duckdb.DuckDBPyConnection:
    with _lock:  # or two threads would start one each
        return _started().cursor()


class Scratch:
    """An empty database in memory, with nothing of any other."""

    def __init__(self) -> None:
        with _lock:
            self._number = next(number for number in count(1) if number not in _taken)
            _taken.add(self._number)
        self._name = f"inchworm_scratch_{self._number}"
        with _instance() as instance:
            instance.execute(f"ATTACH ':memory:' AS {self._name}")

    def connection(self) -> duckdb.DuckDBPyConnection:
        """A connection to it."""
        connection = _instance()
        connection.execute(f"USE {self._name}")
        return connection

    def drop(self) -> None:
        """Let go of it, and of all that it has. Its connections are closed."""
        with _instance() as instance:
            instance.execute(f"USE {_BASE}")
            instance.execute(f"DETACH {self._name}")
        _taken.discard(self._number)
