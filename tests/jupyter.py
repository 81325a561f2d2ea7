"""A real Jupyter Server on this machine, for tests."""

from __future__ import annotations

import json
import os
import socket
import subprocess
import sys
import time
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import httpx

from tests.driver import PLAIN

TOKEN = "t0ken-of-the-server"


@dataclass(frozen=True)
class Jupyter:
    """A server that is running.

    Attributes:
        url: its address, over HTTP.
        folder: the folder that it shows.
    """

    url: str
    folder: Path

    def ask(self, method: str, path: str, body: Mapping[str, Any] | None = None) -> Any:
        """What it answers, as JSON; None where that is nothing."""
        headers = {"authorization": f"token {TOKEN}"}
        with httpx.Client(base_url=self.url, headers=headers, verify=PLAIN, timeout=60) as client:
            answer = client.request(method, path, json=body)
        answer.raise_for_status()
        return answer.json() if answer.content else None


@contextmanager
def server(folder: Path) -> Iterator[Jupyter]:
    """A server that shows a folder; it ends with the block."""
    with socket.create_server(("127.0.0.1", 0)) as free:
        port = free.getsockname()[1]
    log = folder.with_name("jupyter.log")
    folder.mkdir()
    _write_bare_kernel(folder.with_name("more"))
    options = {
        "port": port,
        "port_retries": 0,
        "root_dir": folder,
        "open_browser": False,
        "allow_root": True,
        "terminals_enabled": False,
    }
    with log.open("wb") as output:
        process = subprocess.Popen(
            [
                *(sys.executable, "-m", "jupyter_server", f"--IdentityProvider.token={TOKEN}"),
                *(f"--ServerApp.{name}={value}" for name, value in options.items()),
            ],
            env={
                **os.environ,
                "JUPYTER_RUNTIME_DIR": str(folder.with_name("jupyter")),
                "JUPYTER_PATH": str(folder.with_name("more")),
            },
            stdout=output,
            stderr=output,
        )
    jupyter = Jupyter(f"http://127.0.0.1:{port}", folder)
    try:
        while not _answers(jupyter):
            assert process.poll() is None, log.read_text()
            time.sleep(0.1)
        yield jupyter
    finally:
        process.terminate()
        process.wait()


BARE = "bare"
"""A kernel in whose environment Inchworm is not installed, as far as Python tells."""

_WITHOUT = """
import importlib.metadata as metadata
every = metadata.distributions
metadata.distributions = lambda **k: (d for d in every(**k) if d.metadata["Name"] != "inchworm")
from ipykernel.kernelapp import launch_new_instance
launch_new_instance()
"""


def _write_bare_kernel(folder: Path) -> None:
    kernel = folder / "kernels" / BARE
    kernel.mkdir(parents=True)
    argv = [sys.executable, "-c", _WITHOUT, "-f", "{connection_file}"]
    specification = {"argv": argv, "display_name": BARE, "language": "python"}
    (kernel / "kernel.json").write_text(json.dumps(specification))


def _answers(jupyter: Jupyter) -> bool:
    try:
        jupyter.ask("GET", "/api")
    except httpx.TransportError:
        return False
    return True
