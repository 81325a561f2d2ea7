"""States of projects that many tests begin with: brought about once, then copied for each."""

from __future__ import annotations

import shutil
from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path
from typing import Any, TypeVar

import psycopg
from filelock import FileLock

from tests.driver import Program
from tests.postgres import create_database

Told = TypeVar("Told")

DEV = "duckdb:///.inchworm/dev.duckdb"
"""The database of a new project."""

SQLITE = "sqlite:///.inchworm/dev.sqlite"
"""That of one for which any will do."""


@dataclass(frozen=True)
class Kept:
    """A state of a project.

    Attributes:
        folder: the project's.
        url: the address of its database in a server, if it has one.
        told: what was returned when it had been brought about.
    """

    folder: Path
    url: str
    told: Any


def brought_about(folder: Path, build: Callable[[Path], object]) -> Path:
    """A project's folder as ``build`` makes it, once for all processes that ask for it.

    Args:
        folder: beside which others wait while it is made; the project's folder is in it.
        build: makes the folder that it is given.
    """
    folder.mkdir(parents=True, exist_ok=True)
    project, ready = folder / "riverwatch", folder / "ready"
    with FileLock(folder / "lock"):
        if not ready.exists():
            build(project)
            ready.touch()
    return project


class Once:
    """Brings states about.

    Args:
        folder: an empty folder in which they are kept.
    """

    def __init__(self, folder: Path) -> None:
        self._folder = folder
        self._kept: dict[tuple[str, str], Kept] = {}

    def __call__(
        self, build: Callable[[Program, str], Told], program: Program, url: str = DEV
    ) -> Told:
        """Have a new project and its empty database in the state that ``build`` brings about.

        Returns:
            What ``build`` returned.
        """
        kind = "postgresql" if url.startswith("postgresql:") else url
        key = (f"{build.__module__}.{build.__qualname__}", kind)
        kept = self._kept.get(key)
        if kept is None:
            told = build(program, url)
            self._kept[key] = self._keep(program, url, told)
            return told
        _restore(kept, program, url)
        answer: Told = kept.told
        return answer

    def _keep(self, program: Program, url: str, told: object) -> Kept:
        folder = self._folder / str(len(self._kept))
        shutil.copytree(program.folder, folder, symlinks=True)
        if not url.startswith("postgresql:"):
            return Kept(folder, url, told)
        name = f"{url.rpartition('/')[2]}_kept"
        _copy_database(url, name)
        return Kept(folder, f"{url.rpartition('/')[0]}/{name}", told)

    def close(self) -> None:
        """Remove what is kept in a server."""
        for kept in self._kept.values():
            if kept.url.startswith("postgresql:"):
                # a server that was made for these tests is gone by now, with all that it had
                with (
                    suppress(psycopg.OperationalError),
                    psycopg.connect(_beside(kept.url), autocommit=True) as server,
                ):
                    name = kept.url.rpartition("/")[2]
                    server.execute(f"DROP DATABASE IF EXISTS {name} WITH (FORCE)".encode())


def promoted(program: Program, url: str) -> None:
    """The state in which a new project is live in development."""
    program.promote(program.pack(), "dev")


def _restore(kept: Kept, program: Program, url: str) -> None:
    shutil.rmtree(program.folder)
    shutil.copytree(kept.folder, program.folder, symlinks=True)
    if not url.startswith("postgresql:"):
        return
    _copy_database(kept.url, url.rpartition("/")[2])
    was = kept.url.removesuffix("_kept")
    for file in (program.folder / "environments").iterdir():
        file.write_text(file.read_text().replace(was, url))


def _copy_database(url: str, name: str) -> None:
    """Make a database a copy of another one; whatever it was is gone."""
    with psycopg.connect(_beside(url), autocommit=True) as server:
        server.execute(f"DROP DATABASE IF EXISTS {name} WITH (FORCE)".encode())
        create_database(server, name, url.rpartition("/")[2])


def _beside(url: str) -> str:
    """Another database of the same server, to work from."""
    return f"{url.rpartition('/')[0]}/postgres"
