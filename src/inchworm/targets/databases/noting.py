"""Notes of the statements that a session runs, for the record of what was done."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from typing import Any


class Noting:
    """A session whose statements can be noted."""

    _notes: list[str] | None = None
    """Where statements are noted; None while nobody asks for it."""

    @contextmanager
    def noting(self) -> Iterator[list[str]]:
        """Note the statements that run in the block, in their order.

        Those with values are left out: they are the bookkeeping's own.
        """
        notes: list[str] = []
        self._notes = notes
        try:
            yield notes
        finally:
            self._notes = None

    def _note(self, sql: str, values: Sequence[Any]) -> None:
        if self._notes is not None and not values:
            self._notes.append(sql)
