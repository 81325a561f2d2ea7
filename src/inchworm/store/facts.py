"""What was worked out at earlier readings of a project, so that little has to be done again.

One SQLite file: what each file looked like and its digest, the outline of each part, the facts of
each part as text, and what the last check said. It is written in one transaction, and only if
nobody has written to it since it was read: two readings of different files are never mixed. It is a
convenience: what is missing, damaged, not sealed with the user's key, or was written by another
version of the program is worked out again, and nothing is said about it.
"""

from __future__ import annotations

import json
import os
import sqlite3
from collections.abc import Iterator, Mapping, Sequence
from contextlib import suppress
from functools import cached_property
from typing import TYPE_CHECKING, Any

from inchworm.core.identifiers import PartId
from inchworm.core.lineage.facts_cache import UNREADABLE, FactsCache
from inchworm.core.parts import Seen
from inchworm.safe_files import check_no_link
from inchworm.store.remembered_values import Remembering

if TYPE_CHECKING:
    from inchworm.core.lineage.facts import Outline

FILE = ".inchworm/facts.sqlite"

_TABLES = """
CREATE TABLE about (stamp TEXT NOT NULL, writing TEXT NOT NULL);
CREATE TABLE seals (about TEXT PRIMARY KEY, seal TEXT NOT NULL) WITHOUT ROWID;
CREATE TABLE files (path TEXT PRIMARY KEY, size INT, changed INT, status INT, node INT, digest TEXT)
  WITHOUT ROWID;
CREATE TABLE outlines (part TEXT PRIMARY KEY, seal TEXT, outline TEXT) WITHOUT ROWID;
CREATE TABLE facts (part TEXT PRIMARY KEY, seal TEXT, facts TEXT);
CREATE TABLE checked (seal TEXT, result TEXT);
CREATE TABLE ordered (seal TEXT, names TEXT);
"""
_PATIENCE = 0.2
"""Seconds to wait for another process that writes; after that, nothing is remembered."""


class FactsStore(FactsCache):
    """The facts of one project's parts, kept in a file.

    Args:
        place: the project's folder, and what seals them.
        file: the file, relative to it; it need not exist.
        stamp: of everything but the project's files that facts depend on. Facts with another stamp
            are forgotten.
    """

    def __init__(self, place: Remembering, file: str, stamp: str) -> None:
        self._path = place.root / file
        self._sealer = place.sealer
        self._stamp = stamp
        self._writing = ""
        """The name of the writing that was read; empty where there is no file."""
        self._new: dict[PartId, str] = {}
        self._gone: set[PartId] = set()
        self.checked: Any = None
        self._connection: sqlite3.Connection | None = None
        self._is_busy = False
        """Whether another process writes to the file, which is left to it then."""
        check_no_link(place.root, self._path)
        try:
            self._load()
        except (sqlite3.Error, *UNREADABLE) as error:
            self._give_up(error)

    def _load(self) -> None:
        if not self._path.is_file():
            return
        self._connection = sqlite3.connect(self._path, timeout=_PATIENCE)
        read = self._connection.execute
        about = read("SELECT stamp, writing FROM about").fetchone()
        if about is None or about[0] != self._stamp:
            self.forget()
            return
        self._writing = str(about[1])
        for seal, text in read("SELECT seal, result FROM checked"):
            if seal == self._seal("checked", text):
                self.checked = json.loads(text)

    def _rows(self, query: str, *values: str) -> list[tuple[Any, ...]]:
        """Return the rows of a query; none if the file was written to since it was read."""
        assert self._connection is not None
        rows = self._connection.execute(query, values).fetchall()
        writing = self._connection.execute("SELECT writing FROM about").fetchone()
        return rows if writing == (self._writing,) else []

    def _seal(self, about: str, text: str) -> str:
        """The seal of one thing that holds for all that the stamp is of."""
        return self._sealer.seal(f"{self._stamp} {about}", text)

    @cached_property
    def files(self) -> dict[str, Seen]:
        """What the files looked like, by path."""
        if self._connection is None:
            return {}
        try:
            rows = self._rows("SELECT * FROM files")
            files = {path: Seen(*seen) for path, *seen in rows}
            sealed = self._rows("SELECT seal FROM seals WHERE about = 'files'")
            return files if sealed == [(self._seal_of(files),)] else {}
        except (sqlite3.Error, *UNREADABLE) as error:
            self._give_up(error)
            return {}

    def _seal_of(self, files: Mapping[str, Seen]) -> str:
        """The seal of what files looked like."""
        lines = (f"{path}\0{seen[:4]}\0{seen.digest}" for path, seen in sorted(files.items()))
        return self._seal("files", "\0".join(lines))

    @cached_property
    def order(self) -> Sequence[str]:  # type: ignore[override]  # fetched when it is asked for
        """The names of all models so that each came after those that it read."""
        if self._connection is None:
            return ()
        names: list[str] = []
        with suppress(sqlite3.Error, *UNREADABLE):  # then it is worked out again
            for seal, text in self._rows("SELECT seal, names FROM ordered"):
                names = json.loads(text) if seal == self._seal("order", text) else []
        return names

    @cached_property
    def _outlines(self) -> dict[PartId, Outline]:
        """The outlines of all parts that something is known about, without damaged ones."""
        from inchworm.core.lineage.facts_text import read_outline, read_outlines

        outlines: list[Outline] = []
        if self._connection is not None:
            try:
                rows = self._rows("SELECT part, seal, outline FROM outlines")
                whole = (
                    text for part, seal, text in rows if seal == self._seal(f"outline {part}", text)
                )
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
            rows = self._rows("SELECT seal, facts FROM facts WHERE part = ?", str(part))
        except (sqlite3.Error, UnicodeDecodeError) as error:
            raise KeyError(part) from error
        if not rows or rows[0][0] != self._seal(f"facts {part}", str(rows[0][1])):
            raise KeyError(part)
        return str(rows[0][1])

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
            to.execute("INSERT INTO about VALUES (?, '')", (self._stamp,))
            self._writing = ""
        if to.execute("SELECT writing FROM about").fetchone() != (self._writing,):
            return  # somebody else has read other files since, and remembers those
        self._writing = os.urandom(16).hex()
        to.execute("UPDATE about SET writing = ?", (self._writing,))
        new_files = [(path, *seen) for path, seen in files.items() if self.files.get(path) != seen]
        to.executemany("INSERT OR REPLACE INTO files VALUES (?, ?, ?, ?, ?, ?)", new_files)
        gone = [(path,) for path in self.files.keys() - files.keys()]
        to.executemany("DELETE FROM files WHERE path = ?", gone)
        left = [(str(part),) for part in self._gone - self._new.keys()]
        to.executemany("DELETE FROM outlines WHERE part = ?", left)
        to.executemany("DELETE FROM facts WHERE part = ?", left)
        to.execute("INSERT OR REPLACE INTO seals VALUES ('files', ?)", (self._seal_of(files),))
        heads = ((str(part), outline_line(text)) for part, text in self._new.items())
        to.executemany(
            "INSERT OR REPLACE INTO outlines VALUES (?, ?, ?)",
            ((name, self._seal(f"outline {name}", line), line) for name, line in heads),
        )
        to.executemany(
            "INSERT OR REPLACE INTO facts VALUES (?, ?, ?)",
            ((str(p), self._seal(f"facts {p}", text), text) for p, text in self._new.items()),
        )
        if "order" in self.__dict__:
            order = json.dumps(list(self.order), ensure_ascii=False)
            to.execute("DELETE FROM ordered")
            to.execute("INSERT INTO ordered VALUES (?, ?)", (self._seal("order", order), order))
        to.execute("DELETE FROM checked")
        if checked is not None:
            text = json.dumps(checked, ensure_ascii=False)
            to.execute("INSERT INTO checked VALUES (?, ?)", (self._seal("checked", text), text))
