"""Work that is ended: after a time, or once something else happens."""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager

_AGAIN = 0.2
"""Seconds between two attempts to end work: a statement may only just have begun."""


@contextmanager
def deadline(seconds: float | None, end: Callable[[], None]) -> Iterator[threading.Event]:
    """Have what the block does ended once a time is over.

    Args:
        seconds: the time; None for as long as it takes.
        end: has what is at work fail; called from another thread.

    Yields:
        An event that is set when the time is over.
    """
    if seconds is None:
        yield threading.Event()
        return
    with ended_once(lambda done: not done.wait(seconds), end) as over:
        yield over


@contextmanager
def ended_once(
    comes: Callable[[threading.Event], bool], end: Callable[[], None]
) -> Iterator[threading.Event]:
    """Have what the block does ended once a moment comes, again and again until it has.

    Args:
        comes: waits for the moment, and says whether it has come; it returns once the event that it
            is given is set. Called from another thread.
        end: has what is at work fail; called from another thread.

    Yields:
        An event that is set when the moment has come.
    """
    over, done = threading.Event(), threading.Event()

    def watch() -> None:
        if comes(done):
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
