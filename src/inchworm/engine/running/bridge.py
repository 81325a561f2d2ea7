"""The bridge between a kernel and the environment: it answers what a notebook asks.

The kernel may be made to send anything, so its requests are JSON, checked one by one; only what
goes to the kernel is pickled. Secrets that it was told are remembered, to be masked in everything
that is kept of the run.
"""

from __future__ import annotations

import json
import math
import pickle
import secrets
import socket
import threading
from collections.abc import Callable, Mapping
from contextlib import closing, suppress
from multiprocessing.connection import Connection, Listener
from pathlib import Path
from typing import Any

from msgspec import Struct, field
from sqlglot import exp

from inchworm.core.errors import InchwormError, UsageError, did_you_mean
from inchworm.core.identifiers import PartId, RelationName
from inchworm.core.parameters.matrix import FILE
from inchworm.core.parameters.values import Type
from inchworm.core.rendered import Store
from inchworm.core.sql.names import table_name
from inchworm.core.sql.renamed_tables import with_tables
from inchworm.core.sql.render import to_text
from inchworm.core.trust import NOTEBOOKS
from inchworm.engine.notebook_queries import query_with_values
from inchworm.engine.notebook_rows import columns_in_table
from inchworm.engine.running.site import RunSite
from inchworm.engine.running.switching import StoredTable
from inchworm.store.frames import read_frame
from inchworm.targets.databases.quoting import quoted
from inchworm.targets.secrets import Secrets

LARGEST_REQUEST = 16 * 1024 * 1024
"""Bytes of a request; rows come as files."""


class BridgeSocket:
    """Where a kernel of this machine reaches its bridge: a socket in the bridge's folder.

    Args:
        bridge: answers what comes.
    """

    def __init__(self, bridge: Bridge) -> None:
        self.key = secrets.token_bytes(32)
        self.address = str(bridge.folder / "bridge")
        self._bridge = bridge
        self._listener = Listener(self.address, family="AF_UNIX", authkey=self.key)
        self.is_closing = False
        """Whether nobody is answered any more once the request at work has been."""
        self._thread = threading.Thread(target=self._serve, daemon=True)
        self._thread.start()

    def close(self) -> None:
        """Answer nobody any more, once the request at work has been answered."""
        self.is_closing = True
        with suppress(OSError), socket.socket(socket.AF_UNIX) as knock:
            # whoever waits for a connection only wakes up when one comes; if it has left by now,
            # nobody answers, so this one says nothing and waits for nothing
            knock.connect(self.address)
        self._thread.join()
        self._listener.close()

    def _serve(self) -> None:
        from multiprocessing import AuthenticationError

        while not self.is_closing:
            try:
                connection = self._listener.accept()
            except (AuthenticationError, EOFError, OSError):
                continue  # not the kernel
            with closing(connection):
                self._answer_all(connection)

    def _answer_all(self, connection: Connection) -> None:
        while True:
            try:
                request = connection.recv_bytes(LARGEST_REQUEST)
            except (EOFError, OSError):
                return  # the kernel has ended, or sends what nobody can want
            try:
                connection.send_bytes(self._bridge.answer(request))
            except OSError:
                return


class Bridge(Struct):
    """Answers one kernel.

    Attributes:
        part: the notebook.
        site: where its queries run and its rows are staged.
        folder: a folder that nobody else can look into.
    """

    part: PartId
    site: RunSite
    folder: Path
    stored: dict[RelationName, StoredTable] = field(default_factory=dict)
    measures: dict[str, float] = field(default_factory=dict)
    kept: dict[str, str] = field(default_factory=dict)
    """The names of files that it kept, each with that under which it is kept with the run."""
    revealed: set[str] = field(default_factory=set)
    """Secrets that the notebook was told."""

    def answer(self, request: bytes) -> bytes:
        """The answer to a request: whether it can be answered, and with what, pickled."""
        try:
            answer: tuple[bool, Any] = (True, self._answer(json.loads(request)))
        except InchwormError as error:
            answer = (False, {"what": error.what, "next": error.next})
        except (ValueError, TypeError, KeyError) as error:
            answer = (False, {"what": f"the request makes no sense: {error}", "next": None})
        return pickle.dumps(answer)

    def _answer(self, request: Mapping[str, Any]) -> Any:
        calls: Mapping[str, Callable[[Mapping[str, Any]], Any]] = {
            "query": lambda asked: self._query(str(asked["sql"])),
            "table": lambda asked: self._table(str(asked["name"])),
            "value": lambda asked: self._value(str(asked["name"])),
            "store": self._store,
            "measure": lambda asked: self._measure(str(asked["name"]), float(asked["value"])),
            "keep": lambda asked: self._keep(str(asked["name"]), str(asked["file"])),
        }
        return calls[str(request["call"])](request)

    # ---- reading ------------------------------------------------------------------------------

    def _query(self, sql: str) -> Any:
        dialect = self.site.assembly.dialect
        tree = query_with_values(sql, dialect, self.site.prepared.values)
        for table in tree.find_all(exp.Table):
            if table.args.get("db"):
                self._check_not_merged(RelationName(table_name(table, dialect)))
        text = to_text(with_tables(tree, self._present, dialect), self.site.database.dialect)
        with self.site.database.reading():
            return self.site.database.frame(text)

    def _table(self, name: str) -> Any:
        table = RelationName(name.lower())
        self._check_not_merged(table)
        with self.site.database.reading():
            return self.site.database.frame(f"SELECT * FROM {quoted(self._present(table))}")

    def _present(self, name: str) -> RelationName:
        """A table under the name that it is read by: one that was replaced whole, where staged."""
        is_stored = name.lower() in self.stored
        return self.site.staged(name.lower()) if is_stored else self.site.physical(name)

    def _check_not_merged(self, table: RelationName) -> None:
        stored = self.stored.get(table)
        if stored is not None and stored.key:
            raise UsageError(
                f"{table} is read after rows were stored into it by key, which go live only when "
                "the notebook has ended.",
                next="Use the frame that was stored.",
            )

    def _value(self, name: str) -> Any:
        values = self.site.prepared.values
        if name not in values:
            near = did_you_mean(name, values, f"Declare it in {FILE}.")
            raise UsageError(f"There is no parameter {name}.", next=near)
        value = values[name]
        if value.type is not Type.SECRET:
            return value.plain
        machine, store = self.site.context.machine, self.site.environment.secret_store
        with closing(Secrets(machine, store)) as opened:
            secret = opened.resolve(value.text, NOTEBOOKS).reveal()
        self.revealed.add(secret)
        return secret

    # ---- storing ------------------------------------------------------------------------------

    def _store(self, asked: Mapping[str, Any]) -> int:
        table = RelationName(str(asked["table"]).lower())
        key = tuple(map(str, asked["key"]))
        columns = tuple(map(str, asked["columns"]))
        file = self.folder / Path(str(asked["file"])).name
        if table not in self.site.store_of(self.part):
            raise UsageError(
                f"{table} is no table that {self.part} is known to store.",
                next="Write its name, and columns = {...}, as literals in env.store; then the "
                "promotion of the notebook makes it.",
            )
        missing = [name for name in key if name not in columns]
        if missing:
            raise UsageError(
                f"The rows for {table} lack {', '.join(missing)} of the key.",
                next="Give the frame all columns of the key.",
            )
        frame = read_frame(file)
        file.unlink()
        live = self.site.physical(table)
        own = self.site.database.tables([live])[live].columns
        names = columns_in_table(columns, table, [column.name for column in own])
        key, columns = (tuple(names[name] for name in some) for some in (key, columns))
        self._stage(table, columns, frame.rename(columns=names))
        self.stored[table] = StoredTable(table=table, key=key, columns=columns, rows=len(frame))
        return len(frame)

    def _stage(self, table: RelationName, columns: tuple[str, ...], frame: Any) -> None:
        """Put rows into a staging table with the columns of the live one, anew if they come again.

        Rows that come without a key are all that the table is going to have, so it has all columns.
        """
        if table in self.stored and self.stored[table].key:
            raise UsageError(
                f"{table} is stored twice.",
                next="Put the frames together, and store them once.",
            )
        database, live, staged = (
            self.site.database,
            self.site.physical(table),
            self.site.staged(table),
        )
        with database.transaction():
            if table in self.stored:
                self.site.staging.discard([live])
            database.build(staged, Store.TABLE, f"SELECT * FROM {quoted(live)} LIMIT 0")
            database.append_frame(staged, frame[list(columns)])
            self.site.staging.built(live)

    def _keep(self, name: str, carried: str) -> None:
        file = self.folder / Path(carried).name
        content = file.read_bytes()
        file.unlink()
        if any(secret.encode() in content for secret in self.revealed):
            raise UsageError(
                f"{name} has a secret in it that the notebook was told.",
                next="Write the file without it: whatever is kept can be read by others.",
            )
        plain = Path(name).name
        self.kept[plain] = self.site.context.keep(f"{self.part.name}-{plain}", content)

    def _measure(self, name: str, value: float) -> None:
        if not math.isfinite(value):
            raise UsageError(f"{name} = {value} is no number.", next="Measure a finite number.")
        self.measures[name] = value
