"""Locks: one promotion or run at a time works in an environment from one machine."""

from __future__ import annotations

import json
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from inchworm.core.errors import EnvironmentMoved
from inchworm.safe_files import check_no_link

_A_LOOK = 0.2
"""Seconds for which somebody may have the lock who only looks whether another one has it."""


class Lock:
    """Only one promotion or run at a time works in an environment; it ends with its process."""

    def __init__(self, folder: Path, environment: str) -> None:
        self._environment = environment
        self._file = folder / f"{environment}.lock"
        self._holder = folder / f"{environment}.holder.json"

    @contextmanager
    def held(
        self,
        by: Mapping[str, Any],
        patience: float = 0.0,
        waiting: Callable[[str], None] = lambda why: None,
    ) -> Iterator[None]:
        """Hold the lock.

        Args:
            by: who holds it, for messages to others.
            patience: seconds to wait for it.
            waiting: hears who holds it, where somebody else does.

        Raises:
            EnvironmentMoved: when another process holds it for longer than that; it is named.
        """
        from filelock import FileLock, Timeout

        for file in (self._file, self._holder):
            check_no_link(file.parent.parent.parent, file)
        self._file.parent.mkdir(parents=True, exist_ok=True)
        lock = FileLock(self._file)
        try:
            lock.acquire(timeout=_A_LOOK)
        except Timeout:
            try:
                if patience:
                    waiting(self._said())
                lock.acquire(timeout=patience)
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

    def at_work(self) -> str:
        """Who works in it just now, in words; empty where nobody does on this machine."""
        from filelock import FileLock, Timeout

        if not self._holder.exists():
            return ""
        try:
            with FileLock(self._file).acquire(timeout=0):
                return ""  # of a process that was killed
        except Timeout:
            return self._said()
        except OSError:
            return ""  # whoever may not open the lock cannot tell

    def _said(self) -> str:
        try:
            holder = json.loads(self._holder.read_text())
            if "run" in holder:
                return f"{holder['by']} runs {holder['run']} (process {holder['process']})"
            return f"{holder['by']} promotes {holder['promotion']} (process {holder['process']})"
        except (OSError, ValueError, KeyError):
            return "another process works in it"
