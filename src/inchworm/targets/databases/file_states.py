"""States of databases that are files: whether anybody has written to one since it was read."""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path

SETTLES_AFTER = 2.0
"""Seconds after which a file that is written to again gets another time for it, on every file
system: the coarsest count times in steps of two seconds."""


def stamp(files: Iterable[Path]) -> str:
    """Times and sizes of files: others, once anybody has written to one, added or removed one.

    Two writings in one step of the file system's clock may look the same.
    """
    return ", ".join(_seen(file) for file in files)


def settled_state(files: Iterable[Path], now: float) -> str | None:
    """The stamp of files, where nobody can write to one from now on and leave it as it is.

    Args:
        files: all that a database consists of, those included that it has at times only.
        now: the time, seconds since 1970.

    Returns:
        None where one was written to a moment ago.
    """
    files = tuple(files)
    before = stamp(files)
    times = [file.stat().st_ctime for file in files if file.exists()]
    if any(time > now - SETTLES_AFTER for time in times) or stamp(files) != before:
        return None
    return before


def _seen(file: Path) -> str:
    try:
        status = file.stat()
    except FileNotFoundError:
        return f"no {file.name}"
    return (
        f"{file.name} {status.st_dev} {status.st_ino} {status.st_size} "
        f"{status.st_mtime_ns} {status.st_ctime_ns}"
    )
