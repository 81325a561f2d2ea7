"""A way to a server that can be cut at a chosen instant, as a network would."""

from __future__ import annotations

import socket
import threading
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from urllib.parse import urlsplit


class Wire:
    """Passes bytes between clients and a server until it is told to cut.

    Attributes:
        armed: the next connection on which a client sends this text is cut.
        then: if given, only at this text, sent on that connection afterwards.
        reaches: whether the server still gets what the cut falls on.
        cuts: how many connections were cut.
    """

    def __init__(self, server: tuple[str, int]) -> None:
        self._server = server
        self._listening = socket.create_server(("127.0.0.1", 0))
        self.port: int = self._listening.getsockname()[1]
        self.armed: bytes | None = None
        self.then: bytes | None = None
        self.reaches = False
        self.cuts = 0
        threading.Thread(target=self._accept, daemon=True).start()

    def arm(self, at: str, then: str | None = None, *, reaches: bool = False) -> None:
        """Cut at a text."""
        self.armed = at.encode()
        self.then = None if then is None else then.encode()
        self.reaches = reaches

    def close(self) -> None:
        """Take no more connections."""
        self._listening.close()

    def _accept(self) -> None:
        with suppress(OSError):  # closed
            while True:
                client, _ = self._listening.accept()
                server = socket.create_connection(self._server)
                answered = threading.Event()
                for work in (self._to_server, self._to_client):
                    thread = threading.Thread(target=work, args=(client, server, answered))
                    thread.daemon = True
                    thread.start()

    def _to_server(
        self, client: socket.socket, server: socket.socket, answered: threading.Event
    ) -> None:
        is_marked = False
        with ended(client, server), suppress(OSError):
            while data := client.recv(65536):
                if self.armed is not None and self.armed in data:
                    is_marked = True
                is_cut = is_marked and (self.then is None or self.then in data)
                if is_cut:
                    self.armed = None
                    self.cuts += 1
                    client.shutdown(socket.SHUT_RDWR)
                    if self.reaches:
                        answered.clear()
                        server.sendall(data)
                        answered.wait(timeout=30)  # until the server has done it
                    server.shutdown(socket.SHUT_RDWR)
                    return
                server.sendall(data)

    def _to_client(
        self, client: socket.socket, server: socket.socket, answered: threading.Event
    ) -> None:
        with ended(client, server), suppress(OSError):
            while data := server.recv(65536):
                answered.set()
                client.sendall(data)


@contextmanager
def ended(*connections: socket.socket) -> Iterator[None]:
    """Both ends are over when one direction is: whoever waits for the other one wakes up.

    To close a socket does not wake who receives from it in another thread.
    """
    try:
        yield
    finally:
        for connection in connections:
            with suppress(OSError):  # it is over
                connection.shutdown(socket.SHUT_RDWR)


@contextmanager
def wire(url: str) -> Iterator[tuple[Wire, str]]:
    """A wire to a server, and the address through it."""
    parts = urlsplit(url)
    assert parts.hostname is not None
    assert parts.port is not None
    made = Wire((parts.hostname, parts.port))
    try:
        yield made, url.replace(f":{parts.port}/", f":{made.port}/")
    finally:
        made.close()
