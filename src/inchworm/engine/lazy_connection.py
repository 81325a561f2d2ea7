"""A database that is connected when it is needed: many looks at an environment need none."""

from __future__ import annotations

from collections.abc import Callable
from concurrent.futures import Future, ThreadPoolExecutor

from inchworm.targets.databases import Database


class LazyConnection:
    """A connection to a database, from the first time that somebody needs it.

    To open a database with thousands of tables takes long, and a driver or server does that while
    Python goes on. One thread uses a connection at a time.

    Args:
        connect: connects to it; it may raise a TargetError, which whoever needs it gets.
    """

    def __init__(self, connect: Callable[[], Database]) -> None:
        self._connect = connect
        self._future: Future[Database] | None = None

    def begin(self) -> None:
        """Connect in the background; somebody is going to need it."""
        if self._future is None:
            background = ThreadPoolExecutor(1)
            self._future = background.submit(self._connect)
            background.shutdown(wait=False)

    @property
    def database(self) -> Database:
        """The database, connected.

        Raises:
            TargetError: when it cannot be reached.
            EnvironmentMoved: when another process holds it.
        """
        if self._future is None:
            connected: Future[Database] = Future()
            connected.set_result(self._connect())
            self._future = connected
        return self._future.result()

    def close(self) -> None:
        """Let go of the connection, if there is one."""
        future, self._future = self._future, None
        if future is not None and future.exception() is None:
            future.result().close()
