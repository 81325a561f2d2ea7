"""The record of the rows that flows have sent, and of the requests and files that they took.

It is in the environment's own database.

A row is recorded as being sent before its request goes out, and as sent when the receiver has taken
it. Whatever is killed in between, the next run sends just those again that may not have arrived,
under the same key.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping, Sequence
from typing import ClassVar, TypeVar

from inchworm.core.running.copying import TakenFile
from inchworm.core.running.sending import Message, Sent
from inchworm.targets.databases.protocols import Database

T = TypeVar("T")

_AT_ONCE = 200
"""Rows per statement."""


class _OfFlow:
    """A table of the bookkeeping, as far as it is about one flow.

    Args:
        database: the environment's database.
        schema: that of the bookkeeping.
        project: the flow's project.
        flow: its name.
    """

    name: ClassVar[str]
    """That of the table."""

    def __init__(self, database: Database, schema: str, project: str, flow: str) -> None:
        self._database = database
        self._table = f"{schema}.{self.name}"
        self._flow = f"{project}:{flow}"


class SentRows(_OfFlow):
    """The rows that one flow has sent."""

    name = "sent_rows"

    def states(self, identities: Collection[str]) -> Mapping[str, Sent]:
        """Where rows stand, by identity; those that were never sent are left out."""
        states: dict[str, Sent] = {}
        for some in _batched(list(identities)):
            places = ", ".join("?" * len(some))
            rows = self._database.rows(
                f"SELECT identity, state FROM {self._table} "
                f"WHERE flow = ? AND identity IN ({places})",
                [self._flow, *some],
            )
            states |= {identity: Sent(state) for identity, state in rows}
        return states

    def messages(self, state: Sent) -> list[tuple[Message, str]]:
        """The messages that stand so, each with the reason."""
        rows = self._database.rows(
            f"SELECT identity, message, reason FROM {self._table} WHERE flow = ? AND state = ? "
            "ORDER BY changed_at, identity",
            [self._flow, state.value],
        )
        return [(Message.of_text(identity, text), reason) for identity, text, reason in rows]

    def add(self, messages: Sequence[tuple[Message, Sent, str]], at: str, run: str) -> None:
        """Record new messages, with where they stand and why. Called inside a transaction."""
        for some in _batched(messages):
            places = ", ".join(["(?, ?, ?, ?, ?, ?, ?)"] * len(some))
            values = [
                value
                for message, state, reason in some
                for value in (
                    self._flow,
                    message.identity,
                    state.value,
                    message.text,
                    reason,
                    at,
                    run,
                )
            ]
            self._database.execute(f"INSERT INTO {self._table} VALUES {places}", values)

    def sent(self, identities: Collection[str], at: str, run: str) -> None:
        """Record that messages have arrived; what they said is forgotten. In a transaction."""
        for some in _batched(list(identities)):
            places = ", ".join("?" * len(some))
            self._database.execute(
                f"UPDATE {self._table} SET state = ?, message = '', reason = '', changed_at = ?, "
                f"run = ? WHERE flow = ? AND identity IN ({places})",
                [Sent.SENT.value, at, run, self._flow, *some],
            )

    def stand(self, identity: str, state: Sent, reason: str, at: str) -> None:
        """Record where a message stands, and why. Called inside a transaction."""
        self._database.execute(
            f"UPDATE {self._table} SET state = ?, reason = ?, changed_at = ? "
            "WHERE flow = ? AND identity = ?",
            [state.value, reason, at, self._flow, identity],
        )

    def ensure(self) -> None:
        """Make the table, unless it is there."""
        self._database.execute(
            f"CREATE TABLE IF NOT EXISTS {self._table} (flow VARCHAR NOT NULL, "
            "identity VARCHAR NOT NULL, state VARCHAR NOT NULL, message VARCHAR NOT NULL, "
            "reason VARCHAR NOT NULL, changed_at VARCHAR NOT NULL, run VARCHAR NOT NULL, "
            "PRIMARY KEY (flow, identity))"
        )


class TakenRequests(_OfFlow):
    """The keys of the requests that one flow has taken in."""

    name = "taken_requests"

    def take(self, key: str, at: str) -> bool:
        """Record a key; False if it was there. Called inside a transaction."""
        known = self._database.rows(
            f"SELECT 1 FROM {self._table} WHERE flow = ? AND request = ?", [self._flow, key]
        )
        if known:
            return False
        self._database.execute(f"INSERT INTO {self._table} VALUES (?, ?, ?)", [self._flow, key, at])
        return True

    def ensure(self) -> None:
        """Make the table, unless it is there; its key keeps two requests at once apart."""
        self._database.execute(
            f"CREATE TABLE IF NOT EXISTS {self._table} (flow VARCHAR NOT NULL, "
            "request VARCHAR NOT NULL, taken_at VARCHAR NOT NULL, PRIMARY KEY (flow, request))"
        )


class TakenFiles(_OfFlow):
    """The files that one flow has taken."""

    name = "taken_files"

    def all(self) -> Mapping[str, TakenFile]:
        """Every file that was taken, by path."""
        rows = self._database.rows(
            f"SELECT path, digest, stamp, taken_at, run FROM {self._table} WHERE flow = ?",
            [self._flow],
        )
        return {
            path: TakenFile(path=path, digest=digest, stamp=stamp, at=at, run=run)
            for path, digest, stamp, at, run in rows
        }

    def add(self, file: TakenFile) -> None:
        """Record that a file was taken. Called inside the transaction of what it brought."""
        self._database.execute(
            f"INSERT INTO {self._table} VALUES (?, ?, ?, ?, ?, ?)",
            [self._flow, file.path, file.digest, file.stamp, file.at, file.run],
        )

    def stamped(self, path: str, stamp: str) -> None:
        """Record how a file is listed now, whose content is as it was taken."""
        self._database.execute(
            f"UPDATE {self._table} SET stamp = ? WHERE flow = ? AND path = ?",
            [stamp, self._flow, path],
        )

    def ensure(self) -> None:
        """Make the table, unless it is there; its key keeps two runs at once apart."""
        self._database.execute(
            f"CREATE TABLE IF NOT EXISTS {self._table} (flow VARCHAR NOT NULL, "
            "path VARCHAR NOT NULL, digest VARCHAR NOT NULL, stamp VARCHAR NOT NULL, "
            "taken_at VARCHAR NOT NULL, run VARCHAR NOT NULL, PRIMARY KEY (flow, path))"
        )


def _batched(items: Sequence[T]) -> Iterable[Sequence[T]]:
    return (items[at : at + _AT_ONCE] for at in range(0, len(items), _AT_ONCE))
