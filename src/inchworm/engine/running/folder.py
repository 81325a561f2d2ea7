"""The folder of a run: nobody else can look into it, and it goes, whatever becomes of the run."""

from __future__ import annotations

import os
import shutil
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from filelock import FileLock, Timeout

_PREFIX = "inchworm-run-"
_ALIVE = ".alive"
"""A file that is locked for as long as the run's process lives."""


@contextmanager
def private_folder() -> Iterator[Path]:
    """A folder that goes with the block; those that killed runs left go before it."""
    _remove_left()
    while True:
        folder = Path(tempfile.mkdtemp(prefix=_PREFIX))
        lock = FileLock(folder / _ALIVE)
        lock.acquire()
        if (folder / _ALIVE).exists():  # or somebody took it for left, before it was locked
            break
        lock.release()
    try:
        yield folder
    finally:
        shutil.rmtree(folder, ignore_errors=True)
        lock.release()


def _remove_left() -> None:
    """Remove the folders of runs of this user whose processes are gone."""
    for folder in Path(tempfile.gettempdir()).glob(f"{_PREFIX}*"):
        alive = folder / _ALIVE
        try:
            if folder.is_symlink() or not alive.exists() or folder.stat().st_uid != os.getuid():
                continue
            with FileLock(alive, timeout=0):
                shutil.rmtree(folder, ignore_errors=True)
        except (Timeout, OSError):
            continue  # it is at work, or somebody else removes it at this moment
