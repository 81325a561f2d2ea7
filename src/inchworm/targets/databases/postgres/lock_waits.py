"""Waiting for locks of PostgreSQL without keeping others waiting.

Whoever waits for an exclusive lock on a table has everybody behind that comes later, those who only
read too. So work that needs such locks waits for less than a second, gives up, lets through who has
queued, and tries again. When it takes longer, a second connection watches who is in the way.

It gives up before anybody else has to: a reader who holds what we wait for, and waits for what we
hold, would be told after a second (``deadlock_timeout``) that its query is cancelled. Such a reader
may have queued behind us when we waited for the first of several locks, so the time is for all.
"""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from threading import Event, Thread
from typing import Any

import psycopg

from inchworm.core.counting import counted
from inchworm.core.errors import TargetError
from inchworm.targets.databases.protocols import Result

ATTEMPTS = 15
"""How often work is tried that others keep from its locks."""
LIMIT = 0.8
"""Seconds for which each attempt waits for a lock, or for all locks that it takes together."""
WAIT = f"{LIMIT * 1000:.0f}ms"
PAUSE = 1.0
"""Seconds between two attempts, in which others go on."""
_LEAST = 50
"""Milliseconds that a lock is waited for when that time is over: work in between, such as making an
index, may take long, and a table that many read for an instant each is never free by itself."""
_SOON = 0.3
"""Seconds in which most work is done, and there is no need for a second connection."""
_LOOK = 0.1
"""Seconds between two looks at who is in the way."""

_BLOCKING = """
SELECT b.pid, coalesce(a.usename, ''), coalesce(a.application_name, ''),
       coalesce(a.state, ''), coalesce(left(regexp_replace(a.query, '\\s+', ' ', 'g'), 80), ''),
       to_char(a.xact_start AT TIME ZONE 'UTC', 'HH24:MI:SS')
FROM unnest(pg_blocking_pids(%s)) AS b(pid) LEFT JOIN pg_stat_activity a ON a.pid = b.pid
ORDER BY a.xact_start, b.pid LIMIT 3
"""

Connection = psycopg.Connection[tuple[Any, ...]]


class LockHeld(TargetError):
    """A lock that is needed is held by another session."""


class Patience:
    """The time for which all statements of an attempt together may wait for locks."""

    def __init__(self) -> None:
        self._until: float | None = None

    def left(self) -> int:
        """Milliseconds from now on, at least a few; the time begins with the first question."""
        if self._until is None:
            self._until = time.monotonic() + LIMIT
        return max(_LEAST, round((self._until - time.monotonic()) * 1000))


class Blockers:
    """Who keeps a session waiting.

    Args:
        pid: the session's process at the server.
        connect: opens another connection to the same database.
    """

    def __init__(self, pid: int, connect: Callable[[], Connection]) -> None:
        self._pid = pid
        self._connect = connect
        self._rows: list[tuple[Any, ...]] = []

    @contextmanager
    def watched(self) -> Iterator[None]:
        """Watch while the block runs; what was seen last is remembered."""
        is_over = Event()
        watching = Thread(target=self._watch, args=(is_over,), daemon=True)
        watching.start()
        try:
            yield
        finally:
            is_over.set()
            watching.join()

    def _watch(self, is_over: Event) -> None:
        if is_over.wait(_SOON):
            return
        # it only finds words for a message: without another connection there are none
        with suppress(TargetError, psycopg.Error), self._connect() as connection:
            while not is_over.wait(_LOOK):
                seen = connection.execute(_BLOCKING, [self._pid]).fetchall()
                self._rows = seen or self._rows

    def __str__(self) -> str:
        return "".join(f" {_described(*row)}." for row in self._rows)


def _described(pid: int, user: str, program: str, state: str, query: str, since: str | None) -> str:
    if not pid:  # as the server says it of transactions without a session
        return "A prepared transaction is in the way"
    who = ", ".join(part for part in (user, program) if part) or "of somebody else"
    began = f" since {since} UTC" if since else ""
    return f"Process {pid} ({who}) is {state or 'running'}{began}: {query}"


def try_for_locks(
    work: Callable[[], Result],
    blockers: Blockers,
    pause: Callable[[float], bool],
    *,
    once: bool = False,
) -> Result:
    """Do work in a transaction of its own, again and again while others hold its locks.

    Args:
        work: waits for a lock for ``WAIT``; has had no effect when it raises.
        blockers: who is in the way.
        pause: waits so many seconds; whether to go on.
        once: whether it is tried only once.

    Raises:
        TargetError: who held the locks, when no attempt got them.
    """
    attempts = 1 if once else ATTEMPTS
    for attempt in range(1, attempts + 1):
        with blockers.watched():
            try:
                return work()
            except LockHeld as error:
                held = error
        if attempt == attempts or not pause(PAUSE):
            break
    raise TargetError(
        f"{held.what}, {counted(attempt, 'time')}.{blockers}",
        next="Nothing was changed by it. Have that session end, and go on.",
    ) from held
