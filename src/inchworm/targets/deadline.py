"""A time after which work is ended."""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager

_AGAIN = 0.2
"""Seconds between two attempts to end work: a statement may only just have begun."""


@contextmanager
def deadline(seconds: float | None, end: Callable[[], None]) -> Iterator[threading.Event]:
    """Have what the block does ended once a time is over, again and again until it has.

    Args:
        seconds: the time; None for as long as it takes.
        end: has what is at work fail; called from another thread.

    Yields:
        An event that is set when the time is over.
    """
    over, done = threading.Event(), threading.Event()
    if seconds is None:
        yield over
        return

    def watch() -> None:
        if not done.wait(seconds):
            over.set()
            end()
            while not done.wait(_AGAIN):
                end()

    thread = threading.Thread(target=watch, daemon=True)
    thread.start()
    try:
        yield over
    finally:
        done.set()
        thread.join()
