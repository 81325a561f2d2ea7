"""The interface of a place that stores a ledger."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from contextlib import AbstractContextManager
from typing import NamedTuple, Protocol

from inchworm.core.errors import LedgerError
from inchworm.core.ledger.entries import Row
from inchworm.core.ledger.runs import RunsAsked

IndexRow = tuple[int, str, str, str, str, str, str, int, int, int, float]
"""A promotion's line of the index; the columns are those of
:class:`~inchworm.core.ledger.promotions.Summary`."""

RunRow = tuple[int, str, str, str, str, str, str, str, str, str, str, str, int]
"""A run's line of the index; the columns are those of
:class:`~inchworm.core.ledger.runs.RunSummary`."""


def damaged_index(place: str, what: str) -> LedgerError:
    """Return the error of an index that is not what the entries make it.

    Args:
        place: where the ledger is.
        what: what is wrong with it, in words.
    """
    return LedgerError(
        f"its index is damaged: {what}.",
        where=place,
        next="Delete the rows of its tables promotions and runs: they are made again from the "
        "entries. Then: inchworm ledger verify.",
    )


class Tail(NamedTuple):
    """The end of the chain: the latest entry, and how many entries of a kind there are."""

    latest: Row
    count: Callable[[str], int]


class LedgerTransaction(Protocol):
    """Work on a ledger that takes effect as a whole."""

    def tail(self) -> Tail | None:
        """The end of the chain; None of a ledger that has not begun."""
        ...

    def about(self, about: str) -> list[Row]:
        """The entries about one thing, in order."""
        ...

    def append(self, rows: Sequence[Row]) -> None:
        """Add entries behind the latest one."""
        ...

    def put_index(self, row: IndexRow) -> None:
        """Write the index's line of a promotion, replacing its former one."""
        ...

    def put_run(self, row: RunRow) -> None:
        """Write the index's line of a run, replacing its former one."""
        ...

    def later_runs(self) -> list[str]:
        """Runs that began or ended behind the latest entry that the index of runs knows."""
        ...


class LedgerStorage(Protocol):
    """A place in which the entries of one ledger are, and an index of its promotions and runs.

    Everything raises :class:`~inchworm.core.errors.LedgerError` when the place refuses. The index
    can be worked out from the entries at any time; it is there for speed alone.
    """

    place: str
    """Where it is, for messages."""

    @property
    def exists(self) -> bool:
        """Whether anything was ever recorded."""
        ...

    def begin(self) -> None:
        """Make the tables, unless they are there."""
        ...

    def transaction(self) -> AbstractContextManager[LedgerTransaction]:
        """Work on the ledger while nobody else can append to it."""
        ...

    def rows(
        self,
        *,
        kind: str | None = None,
        about: str | None = None,
        after: int = 0,
        containing: str | None = None,
    ) -> Iterator[Row]:
        """Entries in order: all, or those of one kind, about one thing, or behind a number.

        Args:
            containing: a text that the body has, without wildcards of SQL.
        """
        ...

    def index(self) -> list[IndexRow]:
        """The index's line of every promotion, by number."""
        ...

    def count(self) -> int:
        """How many entries there are."""
        ...

    def not_indexed(self) -> list[str]:
        """Promotions with a draft or a change of state that the index does not know."""
        ...

    def runs(self, asked: RunsAsked) -> list[RunRow]:
        """The index's lines of runs, by number."""
        ...

    def runs_not_indexed(self) -> list[str]:
        """Runs that the index does not know, or not to their end."""
        ...
