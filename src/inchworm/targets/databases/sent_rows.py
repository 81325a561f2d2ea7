"""The record of the rows that flows have sent, and of the requests and files that they took.

It is in the environment's own database.

A row is recorded as being sent before its request goes out, and as sent when the receiver has taken
it. Whatever is killed in between, the next run sends just those again that may not have arrived,
under the same key.
"""

from __future__ import annotations

import uuid
from abc import ABC, abstractmethod
from collections.abc import Collection, Iterable, Mapping, Sequence
from contextlib import closing
from typing import ClassVar

from inchworm.core.running.copying import TakenFile
from inchworm.core.running.sending import Message, Sent
from inchworm.targets.databases.protocols import Database

_AT_ONCE_FORMER = 10_000
"""Rows of an earlier version's table that are moved at a time."""

_OF_FORMER = ("flow", "identity", "state", "message", "reason", "changed_at", "run")
"""The columns of earlier versions' tables of rows; today there is the batch as well."""


class _OfFlow(ABC):
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
        self._schema = schema
        self._table = f"{schema}.{self.name}"
        self._flow = f"{project}:{flow}"

    def ensure(self) -> None:
        """Make the table, unless it is there, with what belongs to it.

        Raises:
            LockHeld: when another flow of ours does it, and takes long.
        """
        if self.name in self._tables():
            return
        with self._database.transaction():
            self._database.take_turn()
            tables = self._tables()
            if self.name not in tables:
                self._create(tables)

    def _tables(self) -> frozenset[str]:
        return self._database.tables_in(self._schema)

    @abstractmethod
    def _create(self, tables: frozenset[str]) -> None:
        """Make the table. Called inside a transaction.

        Args:
            tables: those that the bookkeeping has.
        """


class SentRows(_OfFlow):
    """The rows that one flow has sent, and those that are on their way or dead letters.

    The first grow for as long as the flow runs: of a row that was sent there is a short key, and
    that of the batch it was in; of the batch, when and by which run. What a row says is in a table
    of its own, until the row has arrived.
    """

    name = "unsent_rows"
    _keys = "sent_keys"
    _batches = "sent_batches"

    def __init__(self, database: Database, schema: str, project: str, flow: str) -> None:
        super().__init__(database, schema, project, flow)
        self._keys_table = f"{schema}.{self._keys}"
        self._batches_table = f"{schema}.{self._batches}"

    def known(self, identities: Collection[str]) -> set[str]:
        """Those of some rows that were sent before, are on their way, or were refused."""
        by_key = {_key(self._flow, identity): identity for identity in identities}
        is_asked, keys = self._database.one_of("row_key", "UUID", by_key)
        sent = self._database.rows(f"SELECT row_key FROM {self._keys_table} WHERE {is_asked}", keys)
        is_asked, values = self._database.one_of("identity", "VARCHAR", identities)
        unsent = self._database.rows(
            f"SELECT identity FROM {self._table} WHERE flow = ? AND {is_asked}",
            [self._flow, *values],
        )
        return {by_key[str(key)] for (key,) in sent} | {each for (each,) in unsent}

    def messages(self, state: Sent, *, in_vain: bool = False) -> list[Message]:
        """The messages that stand so.

        Args:
            state: how they stand.
            in_vain: of those that are being sent, the ones that an earlier run tried in vain.
        """
        is_asked = f"AND reason {'<>' if in_vain else '='} ''" if state is Sent.SENDING else ""
        rows = self._database.rows(
            f"SELECT identity, message FROM {self._table} "
            f"WHERE flow = ? AND state = ? {is_asked} ORDER BY changed_at, identity",
            [self._flow, state.value],
        )
        return [Message.of_text(identity, text) for identity, text in rows]

    def add(self, messages: Sequence[tuple[Message, Sent, str]], at: str, run: str) -> str:
        """Record new messages, with where they stand and why; the key of their batch.

        Called inside a transaction.
        """
        batch = _new_key()
        self._add_unsent(
            (self._flow, message.identity, state.value, message.text, reason, at, run, batch)
            for message, state, reason in messages
        )
        return batch

    def sent(self, identities: Collection[str], at: str, run: str, batch: str | None) -> None:
        """Record that messages have arrived; what they said is forgotten. In a transaction.

        Args:
            identities: the messages.
            at: the time, ISO 8601, UTC.
            run: the run that sent them.
            batch: where they are all that is still on its way of a batch, its key. DuckDB keeps
                four kilobytes of memory in use for each statement that deletes rows by their
                identities, and none for one that deletes a batch.
        """
        if not identities:
            return
        if batch is not None:
            is_sent, values = "batch = ? AND state = ?", [batch, Sent.SENDING.value]
        else:
            is_sent, values = self._database.one_of("identity", "VARCHAR", identities)
        self._database.execute(
            f"DELETE FROM {self._table} WHERE flow = ? AND {is_sent}", [self._flow, *values]
        )
        self._add_sent(self._flow, at, run, (_key(self._flow, each) for each in identities))

    def stand(self, identity: str, state: Sent, reason: str, at: str) -> None:
        """Record where a message stands, and why. Called inside a transaction."""
        self._database.execute(
            f"UPDATE {self._table} SET state = ?, reason = ?, changed_at = ? "
            "WHERE flow = ? AND identity = ?",
            [state.value, reason, at, self._flow, identity],
        )

    def _create(self, tables: frozenset[str]) -> None:
        """Make the three tables; what earlier versions recorded moves there."""
        self._make(self._keys_table, ("row_key UUID", "batch UUID"), "PRIMARY KEY (row_key)")
        texts = ("flow VARCHAR", "sent_at VARCHAR", "run VARCHAR")
        self._make(self._batches_table, ("batch UUID", *texts), "PRIMARY KEY (batch)")
        self._make(
            self._table,
            (*(f"{name} VARCHAR" for name in _OF_FORMER), "batch UUID"),
            "PRIMARY KEY (flow, identity), UNIQUE (flow, batch, identity)",
        )
        for former in ("sent_rows", "waiting_rows"):
            if former in tables:
                self._take_over(f"{self._schema}.{former}")
        if "arrived_rows" in tables:
            self._take_over_keys(f"{self._schema}.arrived_rows")

    def _make(self, table: str, columns: Sequence[str], keys: str) -> None:
        """Make a table, with indexes by its keys where those do not stay in memory.

        In memory they take a hundred bytes a row, of millions that were sent; and a scan of the
        keys answers for thousands of rows at a time. One run of a flow has the database to itself
        there.
        """
        described = [f"{column} NOT NULL" for column in columns]
        if not self._database.indexes_in_memory:
            described.append(keys)
        self._database.execute(f"CREATE TABLE {table} ({', '.join(described)})")

    def _take_over(self, former: str) -> None:
        """Move the rows that an earlier version recorded, of all flows, and remove its table."""
        query = f"SELECT {', '.join(_OF_FORMER)} FROM {former}"
        with closing(self._database.batches(query, _AT_ONCE_FORMER)) as batches:
            for _, rows in batches:
                sent: dict[tuple[str, str, str], list[str]] = {}
                for flow, identity, state, _, _, at, run in rows:
                    if state == Sent.SENT:
                        sent.setdefault((flow, at, run), []).append(_key(flow, identity))
                for (flow, at, run), keys in sent.items():
                    self._add_sent(flow, at, run, keys)
                batch = _new_key()
                self._add_unsent((*row, batch) for row in rows if row[2] != Sent.SENT)
        self._database.execute(f"DROP TABLE {former}")

    def _take_over_keys(self, former: str) -> None:
        """Move the keys that an earlier version recorded, of all flows, and remove its table."""
        query = f"SELECT DISTINCT flow, sent_at, run FROM {former}"
        batches = [(*row, _new_key()) for row in self._database.rows(query)]
        columns = ("flow", "sent_at", "run", "batch")
        self._database.add_rows(self._batches_table, columns, batches)
        same = " AND ".join(f"b.{name} = f.{name}" for name in columns[:-1])
        self._database.execute(
            f"INSERT INTO {self._keys_table} (row_key, batch) "
            "SELECT f.row_key, b.batch "
            f"FROM {former} AS f JOIN {self._batches_table} AS b ON {same}"
        )
        self._database.execute(f"DROP TABLE {former}")

    def _add_sent(self, flow: str, at: str, run: str, keys: Iterable[str]) -> None:
        """Record keys of rows of a flow as sent, in a batch of their own."""
        batch = _new_key()
        columns = ("batch", "flow", "sent_at", "run")
        self._database.add_rows(self._batches_table, columns, [(batch, flow, at, run)])
        self._database.add_rows(
            self._keys_table, ("row_key", "batch"), [(key, batch) for key in keys]
        )

    def _add_unsent(self, rows: Iterable[tuple[str, ...]]) -> None:
        self._database.add_rows(self._table, (*_OF_FORMER, "batch"), list(rows))


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

    def _create(self, tables: frozenset[str]) -> None:
        """Make the table; its key keeps two requests at once apart."""
        self._database.execute(
            f"CREATE TABLE {self._table} (flow VARCHAR NOT NULL, "
            "request VARCHAR NOT NULL, taken_at VARCHAR NOT NULL, PRIMARY KEY (flow, request))"
        )


class RequestContents(_OfFlow):
    """The content of each request that one flow has taken in under a key."""

    name = "request_contents"

    def fits(self, key: str, digest: str) -> bool:
        """True unless another content came under the key; earlier versions kept none."""
        known = self._database.rows(
            f"SELECT digest FROM {self._table} WHERE flow = ? AND request = ?", [self._flow, key]
        )
        return not known or known[0][0] == digest

    def add(self, key: str, digest: str) -> None:
        """Record the content of a key that is new. Called inside a transaction."""
        self._database.execute(
            f"INSERT INTO {self._table} VALUES (?, ?, ?)", [self._flow, key, digest]
        )

    def _create(self, tables: frozenset[str]) -> None:
        self._database.execute(
            f"CREATE TABLE {self._table} (flow VARCHAR NOT NULL, request VARCHAR NOT NULL, "
            "digest VARCHAR NOT NULL, PRIMARY KEY (flow, request))"
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

    def _create(self, tables: frozenset[str]) -> None:
        """Make the table; its key keeps two runs at once apart."""
        self._database.execute(
            f"CREATE TABLE {self._table} (flow VARCHAR NOT NULL, "
            "path VARCHAR NOT NULL, digest VARCHAR NOT NULL, stamp VARCHAR NOT NULL, "
            "taken_at VARCHAR NOT NULL, run VARCHAR NOT NULL, PRIMARY KEY (flow, path))"
        )


def ensure_flows(database: Database, schema: str, project: str, flow: str) -> None:
    """Make all that flows record, so that no two runs have to at once.

    Args:
        database: the environment's database.
        schema: that of the bookkeeping.
        project: the flow's project.
        flow: the name of any flow.

    Raises:
        LockHeld: when a run does it, and takes long.
    """
    for record in (SentRows, TakenRequests, RequestContents, TakenFiles):
        record(database, schema, project, flow).ensure()


def _key(flow: str, identity: str) -> str:
    """The key of a row that was sent: a UUID made from names (RFC 9562, version 5).

    It takes a quarter of the memory that an index over flow and identity takes.
    """
    return str(uuid.uuid5(uuid.NAMESPACE_OID, f"{flow} {identity}"))


def _new_key() -> str:
    """A key for a batch: a random UUID."""
    return str(uuid.uuid4())
