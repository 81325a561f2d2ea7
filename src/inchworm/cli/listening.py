"""Where a server of ours listens."""

from __future__ import annotations

import errno
import socket

from inchworm.core.errors import UsageError

_QUEUE = 2048
"""Connections that may wait until they are taken."""


def listen(address: str, port: int) -> socket.socket:
    """A socket at which connections wait from now on.

    Args:
        address: one of this machine's, or a name of it.
        port: 0 for any that is free.

    Raises:
        UsageError: when nobody can listen there.
    """
    where = url_of(address, port).removeprefix("http://")
    try:
        family = socket.getaddrinfo(address, port, type=socket.SOCK_STREAM)[0][0]
        return socket.create_server((address, port), family=family, backlog=_QUEUE)
    except OSError as error:
        if error.errno == errno.EADDRINUSE:
            raise UsageError(
                f"Another process listens at {where} already.",
                next="Stop it, or give another --port; 0 takes any that is free.",
            ) from error
        if error.errno == errno.EACCES:
            raise UsageError(
                f"Only an administrator may listen at {where}.", next="Give a --port from 1024 on."
            ) from error
        raise UsageError(
            f"{address} is no address of this machine.",
            next="Give 127.0.0.1 for programs of this machine, 0.0.0.0 for others, too.",
        ) from error


def url_of(address: str, port: int) -> str:
    """What is asked for at an address and a port."""
    return f"http://[{address}]:{port}" if ":" in address else f"http://{address}:{port}"
