"""A receiver on loopback that takes every row sent to it, and remembers it."""

from __future__ import annotations

import json
from collections import defaultdict
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from threading import Thread
from typing import Any


@dataclass
class Board:
    """What came, by the path of an environment.

    Attributes:
        url: where it listens.
        rows: the keys under which each row came, by path.
    """

    url: str
    rows: dict[str, dict[tuple[Any, ...], set[str]]] = field(
        default_factory=lambda: defaultdict(lambda: defaultdict(set))
    )


@contextmanager
def listening() -> Iterator[Board]:
    """A receiver that listens until the block ends."""
    board = Board("")

    class Taking(BaseHTTPRequestHandler):
        """Answers every request with 201."""

        def do_POST(self) -> None:
            """Take a row."""
            body = json.loads(self.rfile.read(int(self.headers["Content-Length"])))
            row = (body["id"], body.get("grp"), body.get("val"))
            board.rows[self.path][row].add(self.headers["Idempotency-Key"])
            self.send_response(201)
            self.send_header("Content-Length", "0")
            self.end_headers()

        def log_message(self, format: str, *args: object) -> None:
            """Print nothing."""

    server = ThreadingHTTPServer(("127.0.0.1", 0), Taking)
    board.url = f"http://127.0.0.1:{server.server_port}"
    thread = Thread(target=server.serve_forever, daemon=True)
    thread.start()
    try:
        yield board
    finally:
        server.shutdown()
        server.server_close()
        thread.join()
