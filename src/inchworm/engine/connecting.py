"""A database that is connected when it is needed: many looks at an environment need none."""

from __future__ import annotations

from collections.abc import Callable
from concurrent.futures import Future, ThreadPoolExecutor

from inchworm.targets.databases import Database


class Connecting:
    """A connection to a database, from the first time that somebody needs it.

    To open a database with thousands of tables takes as long as all else that a draft does, and
    mostly waits for the disk: it can go on beside that.

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
        """The database, connected."""
        if self._future is None:
            connected: Future[Database] = Future()
            connected.set_result(self._connect())
            self._future = connected
        return self._future.result()

    def close(self) -> None:
        """Let go of the connection, if there is one."""
        if self._future is not None and self._future.exception() is None:
            self._future.result().close()
