"""What is true, in plain Python and SQL; nothing here is the tool's."""

from __future__ import annotations

import sqlite3
from collections.abc import Sequence
from copy import deepcopy
from dataclasses import dataclass, field
from enum import Enum
from pathlib import Path
from typing import Any

import duckdb
import psycopg

Row = tuple[Any, ...]
Tables = dict[str, "Table"]


class Wrong(AssertionError):
    """What the tool did, or said, is not true."""


class Store(Enum):
    """How a model is kept."""

    VIEW = "view"
    TABLE = "table"
    REBUILT = "increment, rebuilt"
    KEPT = "increment, kept"

    @property
    def settings(self) -> str:
        """The lines of a model's settings."""
        if self in {Store.VIEW, Store.TABLE}:
            return f'store = "{self.value}"\n'
        change = "keep" if self is Store.KEPT else "rebuild"
        return f'store = "increment"\nsince = "id"\nkey = ["id"]\non_change = "{change}"\n'

    @property
    def grows(self) -> bool:
        """True if its rows stay when it is built again."""
        return self in {Store.REBUILT, Store.KEPT}


@dataclass(frozen=True)
class Model:
    """A model: every one has the columns ``id``, ``grp`` and ``val``, so that any can read any."""

    name: str
    store: Store
    query: str
    reads: tuple[str, ...]
    moved_from: str = ""

    @property
    def file(self) -> str:
        """Its text."""
        moved = f'moved_from = "{self.moved_from}"\n' if self.moved_from else ""
        return f"/*---\n{self.store.settings}{moved}---*/\n{self.query}\n"

    @property
    def is_dated(self) -> bool:
        """True if its query uses the day."""
        return ":as_of" in self.query


@dataclass
class Table:
    """A table that is no model: its columns with their types, and its rows."""

    columns: dict[str, str]
    rows: list[dict[str, Any]] = field(default_factory=list)

    @property
    def content(self) -> list[Row]:
        """The rows, sorted, each with its columns in their alphabetical order."""
        names = sorted(self.columns)
        return ordered([tuple(row.get(name) for name in names) for row in self.rows])


@dataclass(frozen=True)
class Change:
    """A change of a source table, as a migration makes it and takes it back."""

    what: str
    table: str
    column: str = ""
    other: str = ""

    @property
    def sql(self) -> str:
        """The statement."""
        name = self.table
        return {
            "make": f"CREATE TABLE {name} (id INTEGER NOT NULL, grp TEXT, val INTEGER)",
            "drop": f"DROP TABLE {name}",
            "add": f"ALTER TABLE {name} ADD COLUMN {self.column} INTEGER",
            "remove": f"ALTER TABLE {name} DROP COLUMN {self.column}",
            "rename": f"ALTER TABLE {name} RENAME COLUMN {self.column} TO {self.other}",
            "widen": f"ALTER TABLE {name} ALTER COLUMN {self.column} TYPE BIGINT",
            "update": f"UPDATE {name} SET val = val + 1000",
            "insert": f"INSERT INTO {name} (id, grp, val) VALUES ({self.column}, 'm', 7)",
        }[self.what]

    @property
    def undo(self) -> str:
        """The statement that takes it back."""
        name = self.table
        return {
            "make": f"DROP TABLE {name}",
            "add": f"ALTER TABLE {name} DROP COLUMN {self.column}",
            "rename": f"ALTER TABLE {name} RENAME COLUMN {self.other} TO {self.column}",
            "widen": f"ALTER TABLE {name} ALTER COLUMN {self.column} TYPE INTEGER",
            "update": f"UPDATE {name} SET val = val - 1000",
            "insert": f"DELETE FROM {name} WHERE id = {self.column}",
        }.get(self.what, "")

    def on(self, tables: Tables) -> None:
        """Do it to tables."""
        if self.what == "make":
            tables[self.table] = Table({"id": "INTEGER", "grp": "TEXT", "val": "INTEGER"})
            return
        table = tables[self.table]
        if self.what == "drop":
            del tables[self.table]
        elif self.what == "add":
            table.columns[self.column] = "INTEGER"
        elif self.what == "remove":
            _without(table, self.column)
        elif self.what == "rename":
            _renamed(table, self.column, self.other)
        elif self.what == "update":
            _raised(table, 1000)
        elif self.what == "insert":
            table.rows.append({"id": int(self.column), "grp": "m", "val": 7})

    def off(self, tables: Tables) -> None:
        """Take it back."""
        table = tables[self.table]
        if self.what == "make":
            del tables[self.table]
        elif self.what == "add":
            _without(table, self.column)
        elif self.what == "rename":
            _renamed(table, self.other, self.column)
        elif self.what == "update":
            _raised(table, -1000)
        elif self.what == "insert":
            table.rows = [row for row in table.rows if row["id"] != int(self.column)]

    def takes(self, tables: Tables) -> str:
        """The table or column of which it takes values away, if it does."""
        rows = tables[self.table].rows if self.table in tables else []
        if self.what == "drop" and rows:
            return self.table
        if self.what == "remove" and any(row.get(self.column) is not None for row in rows):
            return f"{self.table}.{self.column}"
        return ""

    def loses(self, tables: Tables) -> bool:
        """True if taking it back loses values that are there."""
        table = tables.get(self.table)
        if table is None:
            return False
        if self.what == "make":
            return bool(table.rows)
        return self.what == "add" and any(r.get(self.column) is not None for r in table.rows)


def _without(table: Table, column: str) -> None:
    del table.columns[column]
    for row in table.rows:
        row.pop(column, None)


def _renamed(table: Table, old: str, new: str) -> None:
    table.columns[new] = table.columns.pop(old)
    for row in table.rows:
        row[new] = row.pop(old, None)


def _raised(table: Table, by: int) -> None:
    for row in table.rows:
        if row["val"] is not None:
            row["val"] += by


Wanted = dict[str, tuple[str, ...]]
"""The columns of each table of a wanted structure, by full name."""


@dataclass(frozen=True)
class Release:
    """What a bundle has."""

    name: str
    models: dict[str, Model]
    changes: tuple[Change, ...]
    adopted: dict[int, str]
    """The environment in which a change, by its place, was made by hand."""
    wanted: Wanted
    migrates: bool
    """False once the schema ``src`` is managed by its wanted structure."""
    factor: int
    """What its notebook multiplies by."""


@dataclass(frozen=True)
class Entered:
    """What a promotion left."""

    release: Release
    models: dict[str, Model]
    ran: int
    holds: dict[str, Model | None]
    has_flows: bool
    wanted: Wanted
    migrates: bool
    day: dict[str, str]
    factor: int


@dataclass
class Place:
    """An environment as it has to be.

    Attributes:
        key: the name that it had first.
        tables: the tables of ``src`` and ``kept``, by full name.
        models: the models that are live, by name.
        ran: how many changes of the project ran.
        behind: live tables whose rows may be older than what they read.
        by_hand: what somebody changed there and nobody took up, in words.
        made: tables that somebody made by hand where no model is live, by full name.
        entered: what every promotion left, the latest last: its release, models and changes.
        day: the day with which each live model was built.
        is_unfinished: whether a promotion stopped halfway.
        has_flows: whether the flows and the notebook are live.
        wanted: the wanted structures that are live.
        migrates: whether the live schema ``src`` is managed by migrations.
        files: the files that lie in its folder, each with its row.
        taken: those of them that a flow took.
        study: the rows that the notebook stored last.
        grants: the models on which somebody gave a right.
        may_lose: what its file lets go with rows.
        unpassed: models that stayed as they were because a hold kept them so further up the route.
        is_partly: whether only some parts of its release went in last.
    """

    key: str
    url: str
    name: str
    formerly: str = ""
    tables: Tables = field(default_factory=dict)
    models: dict[str, Model] = field(default_factory=dict)
    ran: int = 0
    behind: set[str] = field(default_factory=set)
    by_hand: set[str] = field(default_factory=set)
    made: Tables = field(default_factory=dict)
    entered: list[Entered] = field(default_factory=list)
    is_unfinished: bool = False
    hand: Change | None = None
    """What somebody changed by hand in ``src``, and nobody has taken up or back."""
    holds: dict[str, Model | None] = field(default_factory=dict)
    day: dict[str, str] = field(default_factory=dict)
    has_flows: bool = False
    factor: int = 1
    """What the notebook that is live multiplies by."""
    wanted: Wanted = field(default_factory=dict)
    migrates: bool = True
    files: dict[str, dict[str, Any]] = field(default_factory=dict)
    taken: set[str] = field(default_factory=set)
    study: list[Row] | None = None
    grants: set[str] = field(default_factory=set)
    by_ledger: str = ""
    """The ledger that its last promotion is of; another one need not have heard of it."""
    was_granted: bool = False
    """Whether somebody has ever given a right there."""
    may_lose: set[str] = field(default_factory=set)
    unpassed: set[str] = field(default_factory=set)
    is_partly: bool = False

    @property
    def release(self) -> Release | None:
        """The release that went in last."""
        return self.entered[-1].release if self.entered else None

    def enter(self, release: Release) -> None:
        """Note what a promotion has left."""
        entered = Entered(
            release,
            dict(self.models),
            self.ran,
            dict(self.holds),
            self.has_flows,
            dict(self.wanted),
            self.migrates,
            dict(self.day),
            self.factor,
        )
        self.entered.append(entered)
        self.is_unfinished = False

    def copy(self) -> Place:
        """The same, to change it."""
        return deepcopy(self)

    def mark_behind(self, changed: set[str]) -> None:
        """Note which live tables may be older than what they read, once relations have changed."""
        waiting = set(changed)
        while waiting:
            name = waiting.pop()
            for model in self.models.values():
                if name in model.reads:
                    if model.store is Store.VIEW:
                        waiting.add(model.name)
                    else:
                        self.behind.add(model.name)


def ordered(rows: Sequence[Row]) -> list[Row]:
    """Rows in an order of their own."""
    return sorted((tuple(row) for row in rows), key=lambda row: [str(value) for value in row])


class Witness:
    """Asks an environment's database by its own driver."""

    def __init__(self, url: str) -> None:
        self.kind, _, rest = url.partition(":")
        self.url, self.path = url, Path(rest.removeprefix("///"))
        if self.kind == "postgresql":
            self._connection: Any = psycopg.connect(url, autocommit=True)
        elif self.kind == "duckdb":
            self.path.parent.mkdir(parents=True, exist_ok=True)
            self._connection = duckdb.connect(str(self.path))
        else:
            self.path.parent.mkdir(parents=True, exist_ok=True)
            self._connection = sqlite3.connect(self.path, isolation_level=None)
            for schema in {"src", "m", "kept", *self._attachable()}:
                file = self.path.with_name(f"{self.path.stem}.{schema}{self.path.suffix}")
                self._connection.execute(f"ATTACH '{file}' AS \"{schema}\"")

    def _attachable(self) -> list[str]:
        files = self.path.parent.glob(f"{self.path.stem}.*{self.path.suffix}")
        return [file.name[len(self.path.stem) + 1 : -len(self.path.suffix)] for file in files]

    def __enter__(self) -> Witness:
        return self

    def __exit__(self, *_: object) -> None:
        self._connection.close()

    def run(self, sql: str) -> None:
        """Run a statement as somebody's hand would."""
        self._connection.execute(sql)

    def may_read(self, role: str, name: str) -> bool:
        """Whether a role of PostgreSQL may read a relation."""
        asked = f"SELECT has_table_privilege('{role}', '{name}', 'SELECT')"
        return self.rows(asked) == [(True,)]

    def rows(self, sql: str) -> list[Row]:
        """The rows of a query, sorted."""
        return ordered(self._connection.execute(sql).fetchall())

    def columns(self, name: str) -> list[str]:
        """The columns of a relation; none where there is none."""
        schema, table = name.split(".")
        if self.kind == "sqlite":
            asked = f"SELECT name FROM pragma_table_info('{table}', '{schema}')"
        else:
            asked = (
                "SELECT column_name FROM information_schema.columns "
                f"WHERE table_schema = '{schema}' AND table_name = '{table}'"
            )
        return [str(row[0]) for row in self.rows(asked)]

    def relations(self, schema: str) -> set[str]:
        """The tables and views of a schema."""
        if self.kind == "sqlite":
            asked = f"SELECT name FROM {schema}.sqlite_master WHERE type IN ('table', 'view')"
        else:
            asked = (
                f"SELECT table_name FROM information_schema.tables WHERE table_schema = '{schema}'"
            )
        return {f"{schema}.{row[0]}" for row in self.rows(asked)}

    def types(self, query: str) -> list[str]:
        """The types of a query's columns, as the database tells them; SQLite's tell nothing."""
        if self.kind == "duckdb":
            return [str(row[1]) for row in self._connection.execute(f"DESCRIBE {query}").fetchall()]
        if self.kind == "postgresql":
            cursor = self._connection.execute(f"SELECT * FROM ({query}) q LIMIT 0")
            return [str(column.type_code) for column in cursor.description]
        return []
