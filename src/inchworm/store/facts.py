"""What was worked out at earlier readings of a project, so that little has to be done again.

One SQLite file: what each file looked like and its digest, the outline of each part, the facts of
each part as text, and what the last check said. It is written in one transaction. It is a
convenience: what is missing, damaged, or was written by another version of the program is worked
out again, and nothing is said about it.
"""

from __future__ import annotations

import json
import sqlite3
import zlib
from collections.abc import Iterator, Mapping, Sequence
from contextlib import suppress
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Any

from inchworm.core.identifiers import PartId
from inchworm.core.lineage.facts_cache import UNREADABLE, FactsCache
from inchworm.core.parts import Seen

if TYPE_CHECKING:
    from inchworm.core.lineage.facts import Outline

FILE = ".inchworm/facts.sqlite"

_TABLES = """
CREATE TABLE about (stamp TEXT NOT NULL);
CREATE TABLE files (path TEXT PRIMARY KEY, size INT, changed INT, status INT, node INT, digest TEXT)
  WITHOUT ROWID;
CREATE TABLE outlines (part TEXT PRIMARY KEY, sum INT, outline TEXT) WITHOUT ROWID;
CREATE TABLE facts (part TEXT PRIMARY KEY, sum INT, facts TEXT);
CREATE TABLE checked (sum INT, said TEXT);
CREATE TABLE ordered (sum INT, said TEXT);
"""
_PATIENCE = 0.2
"""Seconds to wait for another process that writes; after that, nothing is remembered."""


class FactsStore(FactsCache):
    """The facts of one project's parts, kept in a file.

    Args:
        path: the file; it need not exist.
        stamp: of everything but the project's files that facts depend on. Facts with another stamp
            are forgotten.
    """

    def __init__(self, path: Path, stamp: str) -> None:
        self._path = path
        self._stamp = stamp
        self._new: dict[PartId, str] = {}
        self._gone: set[PartId] = set()
        self.checked: Any = None
        self._connection: sqlite3.Connection | None = None
        self._is_busy = False
        """Whether another process writes to the file, which is left to it then."""
        try:
            self._load()
        except (sqlite3.Error, *UNREADABLE) as error:
            self._give_up(error)

    def _load(self) -> None:
        if not self._path.is_file():
            return
        self._connection = sqlite3.connect(self._path, timeout=_PATIENCE)
        read = self._connection.execute
        if read("SELECT stamp FROM about").fetchone() != (self._stamp,):
            self.forget()
            return
        for sum_, text in read("SELECT sum, said FROM checked"):
            if sum_ == zlib.crc32(text.encode()):
                self.checked = json.loads(text)

    @cached_property
    def files(self) -> dict[str, Seen]:
        """What the files looked like, by path."""
        if self._connection is None:
            return {}
        try:
            rows = self._connection.execute("SELECT * FROM files").fetchall()
            return {path: Seen(*seen) for path, *seen in rows}
        except (sqlite3.Error, *UNREADABLE) as error:
            self._give_up(error)
            return {}

    @cached_property
    def order(self) -> Sequence[str]:  # type: ignore[override]  # fetched when it is asked for
        """The names of all models so that each came after those that it read."""
        if self._connection is None:
            return ()
        names: list[str] = []
        with suppress(sqlite3.Error, *UNREADABLE):  # then it is worked out again
            for sum_, text in self._connection.execute("SELECT sum, said FROM ordered"):
                names = json.loads(text) if sum_ == zlib.crc32(text.encode()) else []
        return names

    @cached_property
    def _outlines(self) -> dict[PartId, Outline]:
        """The outlines of all parts that something is known about, without damaged ones."""
        from inchworm.core.lineage.facts_text import read_outline, read_outlines

        outlines: list[Outline] = []
        if self._connection is not None:
            try:
                rows = self._connection.execute("SELECT sum, outline FROM outlines").fetchall()
                whole = (text for sum_, text in rows if sum_ == zlib.crc32(text.encode()))
                outlines = read_outlines(whole)
            except (sqlite3.Error, *UNREADABLE) as error:
                self._give_up(error)
        outlines += map(read_outline, self._new.values())
        return {outline.part: outline for outline in outlines}

    def names(self) -> tuple[str, ...]:
        """The parts that are remembered, as ``kind:name``, whatever is known about them."""
        if self._connection is None:
            return ()
        try:
            return tuple(name for (name,) in self._connection.execute("SELECT part FROM outlines"))
        except sqlite3.Error:
            return ()

    def forget(self) -> None:
        """Know nothing, and remove the file."""
        self.close()
        for fetched in ("_outlines", "files", "order"):
            self.__dict__.pop(fetched, None)
        self.checked = None
        with suppress(OSError):
            self._path.unlink(missing_ok=True)

    def _give_up(self, error: Exception) -> None:
        """Know nothing of what cannot be read: remove it, unless somebody writes to it just now."""
        self._is_busy = getattr(error, "sqlite_errorcode", None) == sqlite3.SQLITE_BUSY
        if self._is_busy:
            self.close()
        else:
            self.forget()

    def close(self) -> None:
        """Let go of the file."""
        if self._connection is not None:
            self._connection.close()
            self._connection = None

    # ---- facts --------------------------------------------------------------------------------

    def __getitem__(self, part: PartId) -> str:
        if part in self._new:
            return self._new[part]
        if part in self._gone or self._connection is None:
            raise KeyError(part)
        try:
            row = self._connection.execute(
                "SELECT sum, facts FROM facts WHERE part = ?", (str(part),)
            ).fetchone()
        except (sqlite3.Error, UnicodeDecodeError) as error:
            raise KeyError(part) from error
        if row is None or row[0] != zlib.crc32(str(row[1]).encode()):
            raise KeyError(part)
        return str(row[1])

    def __setitem__(self, part: PartId, text: str) -> None:
        self._new[part] = text
        if "_outlines" in self.__dict__:  # else they are fetched when somebody asks for one
            from inchworm.core.lineage.facts_text import read_outline

            self._outlines[part] = read_outline(text)

    def __delitem__(self, part: PartId) -> None:
        self._gone.add(part)
        self._new.pop(part, None)
        self._outlines.pop(part, None)

    def __iter__(self) -> Iterator[PartId]:
        return iter(self._outlines)

    def __len__(self) -> int:
        return len(self._outlines)

    def outline(self, part: PartId) -> Outline | None:
        return self._outlines.get(part)

    # ---- keeping ------------------------------------------------------------------------------

    def save(self, files: Mapping[str, Seen], checked: Any = None) -> None:
        """Keep what is new. That it cannot be kept is no fault that anybody has to hear of.

        Args:
            files: what the project's files look like now.
            checked: what the check of just these files said.
        """
        if not (self._new or self._gone or files != self.files or checked != self.checked):
            return
        if self._is_busy:
            return
        with suppress(sqlite3.Error, OSError):
            if self._connection is None:
                self._path.parent.mkdir(parents=True, exist_ok=True)
                self._connection = sqlite3.connect(self._path, timeout=_PATIENCE)
            self._connection.execute("PRAGMA synchronous = OFF")
            with self._connection as transaction:
                self._write(transaction, files, checked)
        self.files, self.checked = dict(files), checked

    def _write(self, to: sqlite3.Connection, files: Mapping[str, Seen], checked: Any) -> None:
        from inchworm.core.lineage.facts_text import outline_line

        to.execute("BEGIN IMMEDIATE")
        if not to.execute("SELECT 1 FROM sqlite_master").fetchone():
            for statement in _TABLES.split(";")[:-1]:
                to.execute(statement)
            to.execute("INSERT INTO about VALUES (?)", (self._stamp,))
        new_files = [(path, *seen) for path, seen in files.items() if self.files.get(path) != seen]
        to.executemany("INSERT OR REPLACE INTO files VALUES (?, ?, ?, ?, ?, ?)", new_files)
        gone = [(path,) for path in self.files.keys() - files.keys()]
        to.executemany("DELETE FROM files WHERE path = ?", gone)
        left = [(str(part),) for part in self._gone - self._new.keys()]
        to.executemany("DELETE FROM outlines WHERE part = ?", left)
        to.executemany("DELETE FROM facts WHERE part = ?", left)
        heads = ((str(part), outline_line(text)) for part, text in self._new.items())
        to.executemany(
            "INSERT OR REPLACE INTO outlines VALUES (?, ?, ?)",
            ((name, zlib.crc32(line.encode()), line) for name, line in heads),
        )
        to.executemany(
            "INSERT OR REPLACE INTO facts VALUES (?, ?, ?)",
            ((str(part), zlib.crc32(text.encode()), text) for part, text in self._new.items()),
        )
        if "order" in self.__dict__:
            order = json.dumps(list(self.order), ensure_ascii=False)
            to.execute("DELETE FROM ordered")
            to.execute("INSERT INTO ordered VALUES (?, ?)", (zlib.crc32(order.encode()), order))
        to.execute("DELETE FROM checked")
        if checked is not None:
            text = json.dumps(checked, ensure_ascii=False)
            to.execute("INSERT INTO checked VALUES (?, ?)", (zlib.crc32(text.encode()), text))
