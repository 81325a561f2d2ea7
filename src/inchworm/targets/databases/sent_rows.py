"""The record of the rows that flows have sent, and of the requests and files that they took.

It is in the environment's own database.

A row is recorded as being sent before its request goes out, and as sent when the receiver has taken
it. Whatever is killed in between, the next run sends just those again that may not have arrived,
under the same key.
"""

from __future__ import annotations

import uuid
from collections.abc import Collection, Iterable, Mapping, Sequence
from contextlib import closing
from typing import ClassVar

from inchworm.core.running.copying import TakenFile
from inchworm.core.running.sending import Message, Sent
from inchworm.targets.databases.protocols import Database

_AT_ONCE_FORMER = 10_000
"""Rows of an earlier version's table that are moved at a time."""

_WAITING = ("flow", "identity", "state", "message", "reason", "changed_at", "run")
"""The columns of the table of rows that have not arrived."""


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
    """The rows that one flow has sent, and those that are on their way or dead letters.

    There are two tables, as the first grows for as long as the flow runs: of a row that was sent it
    has a short key and nothing else that is long. What a row says is in the second, until it has
    arrived.
    """

    name = "arrived_rows"
    _waiting = "waiting_rows"
    _former = "sent_rows"
    """The one table of earlier versions."""

    def __init__(self, database: Database, schema: str, project: str, flow: str) -> None:
        super().__init__(database, schema, project, flow)
        self._schema = schema
        self._waiting_table = f"{schema}.{self._waiting}"

    def known(self, identities: Collection[str]) -> set[str]:
        """Those of some rows that were sent before, are on their way, or were refused."""
        by_key = {_key(self._flow, identity): identity for identity in identities}
        is_asked, keys = self._database.one_of("row_key", "UUID", by_key)
        arrived = self._database.rows(f"SELECT row_key FROM {self._table} WHERE {is_asked}", keys)
        is_asked, values = self._database.one_of("identity", "VARCHAR", identities)
        waiting = self._database.rows(
            f"SELECT identity FROM {self._waiting_table} WHERE flow = ? AND {is_asked}",
            [self._flow, *values],
        )
        return {by_key[str(key)] for (key,) in arrived} | {each for (each,) in waiting}

    def messages(self, state: Sent) -> list[tuple[Message, str]]:
        """The messages that stand so, each with the reason."""
        rows = self._database.rows(
            f"SELECT identity, message, reason FROM {self._waiting_table} "
            "WHERE flow = ? AND state = ? ORDER BY changed_at, identity",
            [self._flow, state.value],
        )
        return [(Message.of_text(identity, text), reason) for identity, text, reason in rows]

    def add(self, messages: Sequence[tuple[Message, Sent, str]], at: str, run: str) -> None:
        """Record new messages, with where they stand and why. Called inside a transaction."""
        self._database.add_rows(
            self._waiting_table,
            _WAITING,
            [
                (self._flow, message.identity, state.value, message.text, reason, at, run)
                for message, state, reason in messages
            ],
        )

    def sent(self, identities: Collection[str], at: str, run: str) -> None:
        """Record that messages have arrived; what they said is forgotten. In a transaction."""
        is_sent, values = self._database.one_of("identity", "VARCHAR", identities)
        self._database.execute(
            f"DELETE FROM {self._waiting_table} WHERE flow = ? AND {is_sent}",
            [self._flow, *values],
        )
        self._arrived((self._flow, identity, at, run) for identity in identities)

    def stand(self, identity: str, state: Sent, reason: str, at: str) -> None:
        """Record where a message stands, and why. Called inside a transaction."""
        self._database.execute(
            f"UPDATE {self._waiting_table} SET state = ?, reason = ?, changed_at = ? "
            "WHERE flow = ? AND identity = ?",
            [state.value, reason, at, self._flow, identity],
        )

    def ensure(self) -> None:
        """Make the tables, unless they are there; what an earlier version recorded moves there.

        Raises:
            LockHeld: when another flow of ours does it, and takes long.
        """
        if self._tables() >= {self.name, self._waiting}:
            return
        with self._database.transaction():
            self._database.take_turn()
            tables = self._tables()
            if tables >= {self.name, self._waiting}:
                return
            columns = "row_key UUID NOT NULL, flow VARCHAR NOT NULL, sent_at VARCHAR NOT NULL, "
            self._make(self._table, f"{columns}run VARCHAR NOT NULL", "row_key")
            columns = " VARCHAR NOT NULL, ".join(_WAITING)
            self._make(self._waiting_table, f"{columns} VARCHAR NOT NULL", "flow, identity")
            if self._former in tables:
                self._take_over(f"{self._schema}.{self._former}")

    def _make(self, table: str, columns: str, key: str) -> None:
        """Make a table, with an index by its key where that does not stay in memory.

        In memory it takes a hundred bytes a row, of millions that were sent; and a scan of the keys
        answers for thousands of rows at a time. One run of a flow has the database to itself there.
        """
        index = "" if self._database.indexes_in_memory else f", PRIMARY KEY ({key})"
        self._database.execute(f"CREATE TABLE {table} ({columns}{index})")

    def _tables(self) -> frozenset[str]:
        return self._database.tables_in(self._schema)

    def _take_over(self, former: str) -> None:
        """Move what an earlier version recorded, of all flows, and remove its table."""
        query = f"SELECT {', '.join(_WAITING)} FROM {former}"
        with closing(self._database.batches(query, _AT_ONCE_FORMER)) as batches:
            for _, rows in batches:
                arrived = [row for row in rows if row[2] == Sent.SENT]
                self._arrived((flow, identity, at, run) for flow, identity, *_, at, run in arrived)
                waiting = [row for row in rows if row[2] != Sent.SENT]
                self._database.add_rows(self._waiting_table, _WAITING, waiting)
        self._database.execute(f"DROP TABLE {former}")

    def _arrived(self, rows: Iterable[tuple[str, str, str, str]]) -> None:
        """Record rows as sent: flow, identity, time and run of each."""
        self._database.add_rows(
            self._table,
            ("row_key", "flow", "sent_at", "run"),
            [(_key(flow, identity), flow, at, run) for flow, identity, at, run in rows],
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


def _key(flow: str, identity: str) -> str:
    """The key of a row that was sent: a UUID made from names (RFC 9562, version 5).

    It takes a quarter of the memory that an index over flow and identity takes.
    """
    return str(uuid.uuid5(uuid.NAMESPACE_OID, f"{flow} {identity}"))
