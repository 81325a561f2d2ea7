"""Waiting for what ends in other threads, while signals wait, too."""

from __future__ import annotations

import signal
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from queue import Empty, SimpleQueue
from threading import current_thread, main_thread
from types import FrameType
from typing import Any, Generic, TypeVar

from msgspec import Struct

Ended = TypeVar("Ended")
"""What is heard of an end."""

_LOOKS_UP = 0.5
"""Seconds after which a wait is begun anew: a signal in the instant before it does not end it."""


class _Signal(Struct, frozen=True):
    """A signal that came meanwhile, and what it would have done at once."""

    number: int
    handler: Callable[[int, FrameType | None], object]


class Deferred(Generic[Ended]):
    """What ends in other threads, and signals that come meanwhile."""

    def __init__(self) -> None:
        self.queue: SimpleQueue[Ended | _Signal] = SimpleQueue()
        self._signals: list[_Signal] = []
        """Those that came behind something that has ended, which is heard of first."""

    def get(self, idle: Callable[[], None]) -> list[Ended]:
        """Wait until an action ends; all that have ended by then.

        A signal does here what it would have done at once; ``idle`` is called where it takes long.

        Raises:
            KeyboardInterrupt: when the signal is that of Ctrl-C.
        """
        ended: list[Ended] = []
        while not ended:
            self._heed_signals()
            try:
                self._sort(self.queue.get(timeout=_LOOKS_UP), ended)
            except Empty:
                idle()  # and a signal that came just before the wait has been heard by now
        while not self.queue.empty():
            self._sort(self.queue.get(), ended)
        return ended

    def let_go(self) -> None:
        """Have each signal that came do what it would have done at once; forget what ended."""
        while not self.queue.empty():
            self._sort(self.queue.get(), [])
        self._heed_signals()

    def _heed_signals(self) -> None:
        while self._signals:
            came = self._signals.pop(0)
            came.handler(came.number, None)

    def _sort(self, came: Ended | _Signal, ended: list[Ended]) -> None:
        if isinstance(came, _Signal):
            self._signals.append(came)
        else:
            ended.append(came)


@contextmanager
def signals_deferred() -> Iterator[Deferred[Any]]:
    """Have signals raise only where the caller waits: nowhere else, and never while it has a lock.

    The locks of threads and their pools are taken by code in which an exception out of a signal
    would leave them taken for ever, and everybody waiting for them. In other threads than the main
    one no signal arrives.
    """
    deferred: Deferred[Any] = Deferred()
    handlers: dict[int, Callable[[int, FrameType | None], object]] = {}
    if current_thread() is main_thread():
        for each in (signal.SIGINT, signal.SIGTERM):
            handler = signal.getsignal(each)
            if callable(handler):
                handlers[each] = handler
                signal.signal(each, lambda n, _: deferred.queue.put(_Signal(n, handlers[n])))
    try:
        yield deferred
    finally:
        for number, handler in handlers.items():
            signal.signal(number, handler)
        deferred.let_go()
