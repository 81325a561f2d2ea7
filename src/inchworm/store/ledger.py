"""The ledger: an append-only, hash-chained list of entries in a database.

Crash argument. Every entry is one row, inserted in one transaction together with the hash of the
row before; the row's number is its primary key. A crash leaves either the whole entry or none. Two
processes that append at once collide on the number, and the second tries again behind the first.
Projections (promotions, what each environment took) are worked out from the entries when they are
asked for and are never stored, so they cannot disagree with them.
"""

from __future__ import annotations

import json
import uuid
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from dataclasses import replace
from pathlib import Path
from typing import Any

import sqlalchemy as sa

from inchworm.core.errors import LedgerError, UsageError, did_you_mean
from inchworm.core.ledger import GENESIS, Entry, first_break
from inchworm.core.promotion import (
    TRANSITIONS,
    Draft,
    Promotion,
    State,
    StepReport,
    StepState,
)

_METADATA = sa.MetaData()
_ENTRIES = sa.Table(
    "entries",
    _METADATA,
    sa.Column("number", sa.Integer, primary_key=True, autoincrement=False),
    sa.Column("at", sa.Text, nullable=False),
    sa.Column("by", sa.Text, nullable=False),
    sa.Column("kind", sa.Text, nullable=False),
    sa.Column("about", sa.Text, nullable=False, index=True),
    sa.Column("body", sa.Text, nullable=False),
    sa.Column("before", sa.Text, nullable=False),
    sa.Column("hash", sa.Text, nullable=False),
)
_COLLISIONS = 50

About = Callable[[sa.Connection, int], str]
"""Works out what an entry is about, from the entries up to a number."""


class Ledger:
    """The record of everything, in a SQLite file.

    Args:
        path: the file; it is created with the first entry.
        now: the current time, ISO 8601, UTC.
        by: who is at work.
    """

    def __init__(self, path: Path, *, now: Callable[[], str], by: str) -> None:
        self._path = path
        self._now = now
        self._by = by
        self._started = False
        self._engine = sa.create_engine(f"sqlite:///{path}", connect_args={"timeout": 10})

    def close(self) -> None:
        """Let go of the file."""
        self._engine.dispose()

    @property
    def exists(self) -> bool:
        """Whether anything was ever recorded."""
        return self._path.exists()

    def append(self, kind: str, about: str | About, body: Mapping[str, Any]) -> Entry:
        """Add an entry; ``about`` may be worked out from the entries before it.

        Raises:
            LedgerError: when the ledger cannot be written.
        """
        self._start()
        for _ in range(_COLLISIONS):
            try:
                with self._connection() as connection:
                    entry = self._next(connection, kind, about, body)
                    _insert(connection, entry)
                    return entry
            except sa.exc.IntegrityError:
                continue  # another process took this number; go behind it
        raise LedgerError("could not get a turn.", where=str(self._path), next="Try again.")

    def entries(self, *, kind: str | None = None, about: str | None = None) -> list[Entry]:
        """Entries in order, all or those of one kind or about one thing."""
        if not self.exists:
            return []
        query = sa.select(_ENTRIES).order_by(_ENTRIES.c.number)
        if kind is not None:
            query = query.where(_ENTRIES.c.kind == kind)
        if about is not None:
            query = query.where(_ENTRIES.c.about == about)
        with self._connection() as connection:
            if not sa.inspect(connection).has_table(_ENTRIES.name):
                return []  # another process is just about to begin it
            return [_entry(row) for row in connection.execute(query)]

    def check(self) -> None:
        """Follow the chain from the first entry to the last.

        Raises:
            LedgerError: with the number of the first entry that does not fit.
        """
        if not self.exists:
            return
        with self._connection() as connection:
            rows = connection.execute(sa.select(_ENTRIES).order_by(_ENTRIES.c.number))
            broken = first_break((_entry(row), row.hash) for row in rows)
        if broken is not None:
            raise LedgerError(
                f"entry {broken} was altered or is missing.",
                where=str(self._path),
                next="Restore the ledger from a backup; the databases still say what is live.",
            )

    # ---- promotions ---------------------------------------------------------------------------

    def draft(self, draft: Draft, commit: str | None) -> Promotion:
        """Record a draft under the next promotion number."""
        body = {"draft": draft.to_json(), "commit": commit}
        entry = self.append("drafted", _next_promotion, body)
        return self.promotion(entry.about)

    def move(self, promotion: Promotion, state: State, message: str = "", **more: Any) -> Promotion:
        """Record that a promotion is in another state now.

        Raises:
            LedgerError: when that state may not follow the present one.
        """
        if state not in TRANSITIONS[promotion.state]:
            raise LedgerError(
                f"{promotion.id} is {promotion.state}; it cannot become {state}.",
                next="See inchworm history.",
            )
        self.append("state", promotion.id, {"state": state.value, "message": message, **more})
        return self.promotion(promotion.id)

    def step(self, promotion: Promotion, number: int, report: StepReport) -> None:
        """Record how a step stands."""
        body: dict[str, Any] = {"step": number, "state": report.state.value}
        if report.message:
            body["message"] = report.message
        if report.seconds is not None:
            body["seconds"] = round(report.seconds, 3)
        body |= {n: v for n in ("rows", "size") if (v := getattr(report, n)) is not None}
        self.append("step", promotion.id, body)

    def promotion(self, id_: str) -> Promotion:
        """A promotion by its id; case does not count.

        Raises:
            UsageError: when there is none.
        """
        wanted = id_.upper()
        entries = self.entries(about=wanted)
        if not entries or entries[0].kind != "drafted":
            known = [entry.about for entry in self.entries(kind="drafted")]
            raise UsageError(
                f"There is no promotion {id_}.",
                next=did_you_mean(wanted, known, "See inchworm history."),
            )
        return _replay(entries)

    def promotions(self) -> list[Promotion]:
        """All promotions, the oldest first."""
        by_id: dict[str, list[Entry]] = {}
        for entry in self.entries():
            if entry.kind in {"drafted", "state", "step"}:
                by_id.setdefault(entry.about, []).append(entry)
        return [_replay(entries) for entries in by_id.values()]

    def passed(self, bundle_digest: str) -> dict[str, Promotion]:
        """The environments that a bundle went into completely, each with the latest promotion."""
        return {
            promotion.draft.environment: promotion
            for promotion in self.promotions()
            if promotion.state is State.DONE and promotion.draft.bundle_digest == bundle_digest
        }

    # ---- rows ---------------------------------------------------------------------------------

    @property
    def id(self) -> str:
        """The ledger's own name: a database tells the promotions of two ledgers apart."""
        started = self.entries(kind="ledger-started")
        if not started:
            self._start()
            started = self.entries(kind="ledger-started")
        return str(started[0].body["ledger"])

    def _start(self) -> None:
        """Make the table and its first entry, unless they are there."""
        if self._started:
            return
        self._started = True
        self._path.parent.mkdir(parents=True, exist_ok=True)
        try:
            with self._connection() as connection:
                connection.execute(sa.schema.CreateTable(_ENTRIES, if_not_exists=True))
                for index in _ENTRIES.indexes:
                    connection.execute(sa.schema.CreateIndex(index, if_not_exists=True))
                if not connection.execute(sa.select(sa.func.count(_ENTRIES.c.number))).scalar():
                    body = {"ledger": uuid.uuid4().hex[:12]}
                    _insert(connection, self._next(connection, "ledger-started", "ledger", body))
        except sa.exc.IntegrityError:
            return  # another process started it in the same moment

    def _next(
        self, connection: sa.Connection, kind: str, about: str | About, body: Mapping[str, Any]
    ) -> Entry:
        latest = connection.execute(
            sa.select(_ENTRIES.c.number, _ENTRIES.c.hash)
            .order_by(_ENTRIES.c.number.desc())
            .limit(1)
        ).first()
        before = latest.number if latest else 0
        return Entry(
            number=before + 1,
            at=self._now(),
            by=self._by,
            kind=kind,
            about=about if isinstance(about, str) else about(connection, before),
            body=body,
            before=latest.hash if latest else GENESIS,
        )

    @contextmanager
    def _connection(self) -> Iterator[sa.Connection]:
        try:
            with self._engine.begin() as connection:
                yield connection
        except sa.exc.IntegrityError:
            raise
        except sa.exc.DBAPIError as error:
            raise LedgerError(
                f"cannot be used: {error.orig}.",
                where=str(self._path),
                next="Check that the file is a ledger, readable, writable and not locked.",
            ) from error


def _next_promotion(connection: sa.Connection, before: int) -> str:
    """The next promotion's id, counting no entry later than ``before``.

    If another process adds one in this moment, it takes the number behind ``before`` itself, so
    that ours is refused and tried again; counting it here would give its id twice.
    """
    drafted = (
        sa.select(sa.func.count(_ENTRIES.c.number))
        .where(_ENTRIES.c.kind == "drafted")
        .where(_ENTRIES.c.number <= before)
    )
    return f"P{(connection.execute(drafted).scalar() or 0) + 1}"


def _insert(connection: sa.Connection, entry: Entry) -> None:
    connection.execute(
        _ENTRIES.insert().values(
            number=entry.number,
            at=entry.at,
            by=entry.by,
            kind=entry.kind,
            about=entry.about,
            body=json.dumps(entry.body, sort_keys=True, ensure_ascii=False),
            before=entry.before,
            hash=entry.hash,
        )
    )


def _entry(row: Any) -> Entry:
    return Entry(
        number=row.number,
        at=row.at,
        by=row.by,
        kind=row.kind,
        about=row.about,
        body=json.loads(row.body),
        before=row.before,
    )


def _replay(entries: list[Entry]) -> Promotion:
    """A promotion's present state from its entries."""
    first = entries[0]
    promotion = Promotion(
        id=first.about,
        draft=Draft.from_json(first.body["draft"]),
        state=State.DRAFTED,
        drafted_at=first.at,
        drafted_by=first.by,
        changed_at=first.at,
        changed_by=first.by,
        commit=first.body["commit"],
        steps={},
    )
    steps: dict[int, StepReport] = {}
    for entry in entries[1:]:
        if entry.kind == "step":
            steps[entry.body["step"]] = StepReport(
                state=StepState(entry.body["state"]),
                message=entry.body.get("message", ""),
                seconds=entry.body.get("seconds"),
                rows=entry.body.get("rows"),
                size=entry.body.get("size"),
            )
        elif entry.kind == "state":
            promotion = replace(
                promotion,
                state=State(entry.body["state"]),
                message=entry.body["message"],
                changed_at=entry.at,
                changed_by=entry.by,
            )
    return replace(promotion, steps=steps)
