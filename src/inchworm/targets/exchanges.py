"""Exchanges over a network that end in time: as a whole, not only from one piece to the next."""

from __future__ import annotations

import socket
import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from typing import TYPE_CHECKING, Any

from inchworm.targets.deadline import deadline

if TYPE_CHECKING:
    from urllib3 import PoolManager

_at_work = threading.local()


@contextmanager
def hung_up_after(
    seconds: float, connected: Callable[[], socket.socket | None] | None = None
) -> Iterator[Callable[[], bool]]:
    """Have an exchange fail that takes longer, by closing its connection.

    Args:
        seconds: how long it may take.
        connected: the connection; None for that of the request which this thread makes.

    Yields:
        Tells whether the time is over.
    """
    connections: list[_Known] = []
    _at_work.connections = connections

    def of_request() -> socket.socket | None:
        return connections[-1].used if connections else None

    def hang_up() -> None:
        sock = (connected or of_request)()
        if sock is not None:
            with suppress(OSError):  # it has been closed
                # not the method of an encrypted one, which would change it under its reader
                socket.socket.shutdown(sock, socket.SHUT_RDWR)

    with deadline(seconds, hang_up) as over:
        yield over.is_set


class _Known:
    """A connection that says when it is used, and keeps its socket at hand.

    The library lets go of the socket of a connection that the other side is going to close, while
    the answer is still being read from it.
    """

    used: socket.socket | None = None

    def connect(self) -> None:
        """Connect."""
        super().connect()  # type: ignore[misc]
        self.used = self.sock  # type: ignore[attr-defined]

    def request(self, *args: Any, **options: Any) -> None:
        """Send a request."""
        _at_work.connections.append(self)
        super().request(*args, **options)  # type: ignore[misc]


def limited(pools: PoolManager) -> PoolManager:
    """Connections whose requests ``hung_up_after`` can end."""
    from urllib3 import HTTPConnectionPool, HTTPSConnectionPool
    from urllib3.connection import HTTPConnection, HTTPSConnection

    class Plain(_Known, HTTPConnection): ...

    class Encrypted(_Known, HTTPSConnection): ...

    class PlainPool(HTTPConnectionPool):
        ConnectionCls = Plain

    class EncryptedPool(HTTPSConnectionPool):
        ConnectionCls = Encrypted

    pools.pool_classes_by_scheme = {"http": PlainPool, "https": EncryptedPool}
    return pools
