"""The chain of a ledger's entries: adding to it, reading it, and following it to its end."""

from __future__ import annotations

import datetime as dt
import uuid
from collections.abc import Callable, Collection, Mapping, Sequence

from inchworm.core.errors import LedgerError
from inchworm.core.ledger.entries import BEGINNING, Entry, Head, Row, first_break
from inchworm.core.ledger.events import (
    Drafted,
    Event,
    HeadSigned,
    LedgerStarted,
    RunEnded,
    RunStarted,
    StateChanged,
    event_of,
)
from inchworm.store.ledger_index import put_into_index, put_runs_into_index
from inchworm.store.ledgers.protocol import LedgerStorage, Tail

About = Callable[[Tail], str]
"""Works out what an entry is about, from the end of the chain before it."""


class Chain:
    """Entries, each with the hash of the one before, in the place that stores them.

    Args:
        storage: where the entries are.
        now: the current time, ISO 8601, UTC.
        by: who is at work.
        is_gone: whether a process, as a run's plan names it, is not there any more, as far as that
            can be told from here.
    """

    def __init__(
        self,
        storage: LedgerStorage,
        *,
        now: Callable[[], str],
        by: str,
        is_gone: Callable[[str], bool] = lambda process: False,
    ) -> None:
        self._storage = storage
        self._is_gone = is_gone
        self._now = now
        self._by = by
        self._id: str | None = None
        self._is_ready = False

    @property
    def exists(self) -> bool:
        """Whether anything was ever recorded.

        Raises:
            LedgerError: when it was there a moment ago, and is gone.
        """
        exists = self._storage.exists
        if self._id is not None and not exists:
            raise LedgerError(
                "vanished while this command was using it.",
                where=self._storage.place,
                next="Find out who removed it, and restore its latest copy.",
            )
        return exists

    @property
    def id(self) -> str:
        """The ledger's own name: a database tells the promotions of two ledgers apart."""
        if self._id is None:
            started = self.entries(kind=LedgerStarted.kind)
            self._id = _started(started[0]) if started else self._start()
        return self._id

    @property
    def place(self) -> str:
        """Its own name with where it is: copies of a ledger in two places go their own ways."""
        return f"{self.id} at {self._storage.place}"

    def begin(self) -> str:
        """Make the first entry, unless there is one; the ledger's name."""
        return self.id

    def append(self, about: str | About, *events: Event) -> list[Entry]:
        """Add entries about one thing; ``about`` may be worked out from the entries before.

        Raises:
            LedgerError: when the ledger cannot be written.
        """
        ledger = self.id
        self._make_ready()
        with self._storage.transaction() as transaction:
            tail = transaction.tail()
            if tail is None or not tail.latest.is_whole:
                raise self._broken(tail.latest.number if tail else 1)
            name = about if isinstance(about, str) else about(tail)
            head = Head(tail.latest.number, tail.latest.hash)
            entries = self._chained(head, name, events)
            transaction.append([entry.row for entry in entries])
            if any(isinstance(event, Drafted | StateChanged) for event in events):
                put_into_index(transaction, ledger, name)
            if any(isinstance(event, RunStarted | RunEnded) for event in events):
                put_runs_into_index(transaction, ledger, transaction.later_runs())
        return entries

    def entries(
        self, *, kind: str | None = None, about: str | None = None, containing: str | None = None
    ) -> list[Entry]:
        """Entries in order: all, or those of one kind, about one thing, or whose body has a text.

        Raises:
            LedgerError: when one of them was altered.
        """
        rows = list(self._storage.rows(kind=kind, about=about, containing=containing))
        for row in rows:
            if not row.is_whole:
                raise self._broken(row.number)
        return [row.entry for row in rows]

    def count(self) -> int:
        """How many entries there are."""
        return self._storage.count()

    def check(self) -> None:
        """Follow the chain from the first entry to the last.

        Raises:
            LedgerError: with the number of the first entry that does not fit.
        """
        broken = first_break(self._storage.rows())
        if broken is not None:
            raise self._broken(broken)

    @property
    def head(self) -> Head:
        """The end of the chain."""
        with self._storage.transaction() as transaction:
            tail = transaction.tail()
        return Head(tail.latest.number, tail.latest.hash) if tail else BEGINNING

    def signed_heads(self) -> list[tuple[HeadSigned, dt.date]]:
        """The ends of the chain that people have signed, each with the day, the earliest first.

        Raises:
            LedgerError: when one of those entries was altered.
        """
        return [
            (HeadSigned.of(entry.body), dt.date.fromisoformat(entry.at[:10]))
            for entry in self.entries(kind=HeadSigned.kind)
        ]

    def hashes(self, numbers: Collection[int]) -> dict[int, str]:
        """The hashes of entries, by number; entries that there are not are left out."""
        return {row.number: row.hash for row in self._storage.rows() if row.number in numbers}

    def check_behind(self, heads: Mapping[str, Mapping[str, Head]]) -> None:
        """Hold the chain against what databases know of it, and follow it from there.

        Args:
            heads: by environment, the ends of ledgers' chains that its database keeps.

        Raises:
            LedgerError: when it lacks an entry that a database knows, or one was altered behind it.
        """
        if not self.exists:
            return
        own = self.id
        known = [(ends[own], name) for name, ends in heads.items() if own in ends]
        head, place = max(known, default=(BEGINNING, ""))
        rows = list(self._storage.rows(after=max(head.number - 1, 0)))
        if head is not BEGINNING:
            if not rows or (rows[0].number, rows[0].hash) != head:
                raise self._cut(head, place)
            rows.pop(0)
        broken = first_break(rows, head)
        if broken is not None:
            raise self._broken(broken)

    def check_has(self, head: Head) -> None:
        """Hold the chain against an end of it that somebody saw.

        Raises:
            LedgerError: when it lacks that entry, or has another one in its place.
        """
        rows = list(self._storage.rows(after=max(head.number - 1, 0)))
        if head.number and (not rows or (rows[0].number, rows[0].hash) != head):
            raise self._cut(head, "")

    def take_over(self, rows: Sequence[Row]) -> None:
        """Write entries of a whole chain into a ledger that has none."""
        self._make_ready()
        with self._storage.transaction() as transaction:
            if transaction.tail() is not None:
                raise LedgerError("somebody else has begun a ledger.", where=self._storage.place)
            transaction.append(rows)

    def _broken(self, number: int) -> LedgerError:
        return LedgerError(
            f"entry {number} was altered or is missing.",
            where=self._storage.place,
            next="Restore the ledger from a backup; the databases still say what is live.",
        )

    def _cut(self, head: Head, environment: str) -> LedgerError:
        who = f"the database of {environment} was told" if environment else "you have seen"
        return LedgerError(
            f"its entry {head.number} is missing or another one than {who}: "
            "the ledger was cut, altered, or is an old copy.",
            where=self._storage.place,
            next="Restore its latest copy. If that is lost, move the file away: inchworm ledger "
            "rebuild begins another one with what the databases know.",
        )

    def _start(self) -> str:
        """Make the first entry, unless another process just did; the ledger's name."""
        self._make_ready()
        with self._storage.transaction() as transaction:
            if transaction.tail() is None:
                event = LedgerStarted(ledger=uuid.uuid4().hex[:12])
                entries = self._chained(BEGINNING, "ledger", [event])
                transaction.append([entry.row for entry in entries])
            return _started(transaction.about("ledger")[0].entry)

    def _chained(self, head: Head, about: str, events: Sequence[Event]) -> list[Entry]:
        """Entries that follow the end of the chain."""
        entries: list[Entry] = []
        number, before = head
        for event in events:
            number += 1
            entry = Entry(
                number=number,
                at=self._now(),
                by=self._by,
                kind=event.kind,
                about=about,
                body=event.body,
                before=before,
            )
            before = entry.hash
            entries.append(entry)
        return entries

    def _make_ready(self) -> None:
        if not self._is_ready:
            self._storage.begin()
            self._is_ready = True


def _started(entry: Entry) -> str:
    event = event_of(entry)
    assert isinstance(event, LedgerStarted)
    return event.ledger
