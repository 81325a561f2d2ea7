"""The APIs of the host and of the simulated platform, held against their own descriptions.

Run it with ``python -m tests.service_api [EXAMPLES]``, each night: schemathesis sends each
operation of a real server so many requests that fit its document, and as many that do not. No
answer may be one that the document does not know, and none a 5xx that it does not name.
"""

from __future__ import annotations

import contextlib
import datetime as dt
import socket
import subprocess
import sys
import tempfile
import threading
from collections.abc import Iterator
from pathlib import Path

import uvicorn
from starlette.applications import Starlette

from inchworm.host import app as host_app
from inchworm.host.host import Host
from inchworm.host.tokens import Tokens
from inchworm.sim import app as sim_app
from inchworm.sim.store import SimStore

TOKEN = "open-sesame"


def simulated(folder: Path) -> Starlette:
    """The simulated platform, whose secrets the same token opens."""
    file = folder / "platform.sqlite"
    SimStore(file).grant(TOKEN, None)
    return sim_app.create_app(file, TOKEN, resolve=lambda reference: f"told {reference}")


def host(folder: Path) -> Starlette:
    """A host that watches nothing."""

    def nothing(*_: object) -> None:
        raise AssertionError("nothing is started here")

    watching = Host(names=(), workplace=nothing, start=nothing, say=print)  # type: ignore[arg-type]
    tokens = Tokens.of({"dev": TOKEN})
    now = dt.datetime(2026, 5, 1, 12, 0, tzinfo=dt.UTC)
    return host_app.create_app(watching, lambda asked: [], lambda: now, tokens, None, tokens)


@contextlib.contextmanager
def served(app: Starlette) -> Iterator[str]:
    """The address of a server of an application; it ends with the block."""
    with socket.create_server(("127.0.0.1", 0)) as listening:
        config = uvicorn.Config(app, log_level="warning", lifespan="off")
        server = uvicorn.Server(config)
        thread = threading.Thread(target=server.run, kwargs={"sockets": [listening]})
        thread.start()
        try:
            yield f"http://127.0.0.1:{listening.getsockname()[1]}"
        finally:
            server.should_exit = True
            thread.join()


def main(examples: int) -> int:
    """Test both; the number of those that failed."""
    failed = 0
    for name, make in (("host", host), ("simulated platform", simulated)):
        with tempfile.TemporaryDirectory() as folder, served(make(Path(folder))) as address:
            print(f"== {name}", flush=True)
            command = [
                *(sys.executable, "-m", "schemathesis.cli", "run", f"{address}/openapi.json"),
                *("--header", f"Authorization: Bearer {TOKEN}"),
                *("--max-examples", str(examples), "--seed", "1", "--checks", "all"),
            ]
            failed += subprocess.run(command, check=False).returncode != 0
    return failed


if __name__ == "__main__":
    sys.exit(main(int(sys.argv[1]) if len(sys.argv) > 1 else 500))
