"""A real PostgreSQL server for tests: one that runs, or a throw-away cluster."""

from __future__ import annotations

import os
import shutil
import socket
import subprocess
import tempfile
import uuid
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import psycopg
import pytest

GIVEN = "INCHWORM_TEST_POSTGRES"
"""Address of a server on which tests may make databases; without it a cluster is made."""
REQUIRED = "INCHWORM_TEST_POSTGRES_REQUIRED"
"""Set where tests must not be skipped for want of a server."""


def _binaries() -> Path | None:
    on_path = shutil.which("initdb")
    if on_path is not None:
        return Path(on_path).parent
    found = sorted(Path("/usr/lib/postgresql").glob("*/bin/initdb"))
    return found[-1].parent if found else None


def _as_nobody_special(command: list[str]) -> list[str]:
    """The server refuses to run as root."""
    if os.geteuid() != 0:
        return command
    return [shutil.which("runuser") or "/usr/sbin/runuser", "-u", "postgres", "--", *command]


def _in_memory() -> Path | None:
    """A folder in memory, where there is room: each test has a database made, and thrown away."""
    if not os.access(_MEMORY, os.W_OK):
        return None
    return _MEMORY if shutil.disk_usage(_MEMORY).free > _ROOM else None


_MEMORY = Path("/dev/shm")
_ROOM = 4 * 1024**3
"""Bytes that have to be free there."""


@contextmanager
def server() -> Iterator[str]:
    """The address of a server, without a database; it is gone with the block if it was made."""
    given = os.environ.get(GIVEN)
    if given is not None:
        yield given.rstrip("/")
        return
    binaries = _binaries()
    if binaries is None:
        if os.environ.get(REQUIRED):
            pytest.fail("PostgreSQL is not installed, and must be")
        pytest.skip(f"PostgreSQL is not installed; install it, or set {GIVEN}")
    folder = Path(tempfile.mkdtemp(prefix="inchworm-pg-", dir=_in_memory()))
    if os.geteuid() == 0:
        shutil.chown(folder, "postgres")
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        port = free.getsockname()[1]

    def run(program: str, *arguments: str) -> None:
        command = _as_nobody_special([str(binaries / program), *arguments])
        done = subprocess.run(command, cwd=folder, capture_output=True, text=True, check=False)
        assert done.returncode == 0, done.stdout + done.stderr

    data = str(folder / "data")
    run("initdb", "--pgdata", data, "--username", "river", "--auth", "trust", "--no-sync")
    settings = f"-p {port} -k {folder} -c fsync=off -c autovacuum=off -c listen_addresses=127.0.0.1"
    run("pg_ctl", "-D", data, "-w", "-l", str(folder / "log"), "-o", settings, "start")
    try:
        yield f"postgresql://river@127.0.0.1:{port}"
    finally:
        run("pg_ctl", "-D", data, "-m", "immediate", "stop")
        shutil.rmtree(folder, ignore_errors=True)


@contextmanager
def database(address: str) -> Iterator[str]:
    """The address of an empty database of its own."""
    name = f"t{uuid.uuid4().hex[:12]}"
    with psycopg.connect(f"{address}/postgres", autocommit=True) as connection:
        create_database(connection, name)
        try:
            yield f"{address}/{name}"
        finally:
            connection.execute(f"DROP DATABASE {name} WITH (FORCE)".encode())


def create_database(connection: psycopg.Connection, name: str, template: str = "template1") -> None:
    """Make a database that is a copy of another one; as files, which takes half as long."""
    how = "STRATEGY FILE_COPY" if connection.info.server_version >= _COPIES_FILES else ""
    connection.execute(f"CREATE DATABASE {name} TEMPLATE {template} {how}".encode())


_COPIES_FILES = 150_000
"""The version from which on a server can be told to."""
