"""Locks: one promotion at a time goes into an environment from one machine."""

from __future__ import annotations

import json
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from inchworm.core.errors import EnvironmentMoved


class Lock:
    """Only one promotion at a time goes into an environment; the lock ends with its process."""

    def __init__(self, folder: Path, environment: str) -> None:
        self._environment = environment
        self._file = folder / f"{environment}.lock"
        self._holder = folder / f"{environment}.holder.json"

    @contextmanager
    def held(self, by: Mapping[str, Any]) -> Iterator[None]:
        """Hold the lock.

        Raises:
            EnvironmentMoved: when another process holds it; it is named.
        """
        from filelock import FileLock, Timeout

        self._file.parent.mkdir(parents=True, exist_ok=True)
        lock = FileLock(self._file)
        try:
            lock.acquire(timeout=0)
        except Timeout as error:
            raise EnvironmentMoved(
                f"{self._environment} is locked: {self._said()}.",
                next="Wait until it has finished, and try again.",
            ) from error
        try:
            self._holder.write_text(json.dumps(dict(by)))
            yield
        finally:
            self._holder.unlink(missing_ok=True)
            lock.release()

    def _said(self) -> str:
        try:
            holder = json.loads(self._holder.read_text())
            return f"{holder['by']} promotes {holder['promotion']} (process {holder['process']})"
        except (OSError, ValueError, KeyError):
            return "another process promotes into it"
