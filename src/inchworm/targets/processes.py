"""Processes that a program of others has started: found wherever they went, and ended.

A process that leaves its group and session, and whose parent is gone, is still known by a variable
of its environment, which it has from whoever started it.
"""

from __future__ import annotations

import platform
import secrets
from collections.abc import Iterator, Mapping
from pathlib import Path
from typing import TYPE_CHECKING

from msgspec import Struct, field

if TYPE_CHECKING:
    from psutil import Process

_VARIABLE = "INCHWORM_STARTED"
_PATIENCE = 2.0
"""Seconds that processes may take to be gone, once they were killed."""

_ROUNDS = 5
"""How often they are looked for: one may start another while it is being ended."""


class Descendants(Struct, frozen=True):
    """A program's processes, the first and all that come from it."""

    mark: str = field(default_factory=lambda: secrets.token_hex(8))

    @property
    def environ(self) -> Mapping[str, str]:
        """The variable that the first of them has to get."""
        return {_VARIABLE: self.mark}

    def end(self, first: int | None) -> list[str]:
        """Kill them all. Called from any thread.

        Args:
            first: the number of the first process, if it is known; it need not be there any more.

        Returns:
            Those that are left all the same, each as ``NAME (process NUMBER)``.
        """
        from psutil import wait_procs

        left: list[Process] = []
        for _ in range(_ROUNDS):
            processes = list(self._alive(first))
            for process in processes:
                _kill(process)
            _, left = wait_procs(processes, timeout=_PATIENCE)
            if not processes or left:
                break
        return [f"{_name(process)} (process {process.pid})" for process in left]

    def _alive(self, first: int | None) -> Iterator[Process]:
        """The tree below the first process, with that; and whatever has the mark."""
        import psutil

        known: set[int] = set()
        if first is not None and psutil.pid_exists(first):
            try:
                root = psutil.Process(first)
                tree = [*root.children(recursive=True), root]
            except psutil.Error:
                tree = []  # it has ended this moment
            known = {process.pid for process in tree}
            yield from tree
        for process in psutil.process_iter():
            if process.pid not in known and self._is_marked(process):
                yield process

    def _is_marked(self, process: Process) -> bool:
        import psutil

        try:
            is_alive = process.status() != psutil.STATUS_ZOMBIE
            return is_alive and process.environ().get(_VARIABLE) == self.mark
        except (psutil.Error, OSError):
            return False  # somebody else's, or gone


def named(number: int) -> str:
    """A process of this machine, as another one knows it: ``NUMBER/BEGINNING@MACHINE``."""
    return f"{number}/{_beginning(number)}@{platform.node()}"


def is_gone(process: str) -> bool:
    """Whether a process is not there any more; False where that cannot be told from here.

    Args:
        process: as ``named`` gives it.
    """
    known, _, machine = process.partition("@")
    number, _, beginning = known.partition("/")
    if machine != platform.node() or not number.isdigit():
        return False
    return _beginning(int(number)) != beginning


def _beginning(number: int) -> str:
    """When a process began, in ticks since the machine did; empty of one that is not at work.

    A clock that is set does not change it, and another process of the same number has another one.
    """
    try:
        fields = Path(f"/proc/{number}/stat").read_text().rpartition(")")[2].split()
    except ProcessLookupError:
        return ""
    except FileNotFoundError:
        return "" if Path("/proc/self/stat").exists() else _beginning_elsewhere(number)
    return "" if fields[0] == "Z" else fields[19]


def _beginning_elsewhere(number: int) -> str:
    """The same on machines without ``/proc``."""
    import psutil

    try:
        return f"{psutil.Process(number).create_time():.0f}"
    except psutil.Error:
        return ""


def _kill(process: Process) -> None:
    import psutil

    try:
        process.kill()
    except psutil.NoSuchProcess:
        return  # it has ended by itself
    except psutil.AccessDenied:
        return  # it is somebody else's now, and is named as being left


def _name(process: Process) -> str:
    import psutil

    try:
        return process.name()
    except psutil.Error:
        return "it"
