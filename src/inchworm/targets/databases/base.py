"""What a database must be able to do, and which adapter an address asks for."""

from __future__ import annotations

import datetime as dt
from collections.abc import Collection, Iterable, Mapping, Sequence
from contextlib import AbstractContextManager
from dataclasses import dataclass
from pathlib import Path
from typing import Any, Protocol

from inchworm.core.errors import TargetError
from inchworm.core.structure.definitions import Definition
from inchworm.core.structure.tables import Table
from inchworm.targets.secrets import Secret


@dataclass(frozen=True, kw_only=True)
class Switch:
    """One model at the switch-over.

    Attributes:
        name: the real ``schema.table``.
        staging: the name that it was built under; None for a model that goes away.
        store: ``view`` or ``table``.
        view_sql: for a view, the SELECT with the names that count after the switch-over.
        replaced: the name under which a replaced or removed table is kept aside.
    """

    name: str
    staging: str | None
    store: str
    view_sql: str | None
    replaced: str


@dataclass(frozen=True, kw_only=True)
class Server:
    """What a database says about itself: its product and version, and its time with zone."""

    product: str
    version: str
    now: dt.datetime


class Database(Protocol):
    """A connection to one database.

    Everything raises :class:`~inchworm.core.errors.TargetError` when the database refuses.
    Statements outside :meth:`transaction` take effect at once. Parameters in SQL are written ``?``.
    """

    dialect: str
    identity: str
    """Who we are there, and where: ``lena at river_dev.duckdb``."""

    def lock(self, name: str) -> None:
        """Keep others from promoting under this name into this database, until the connection ends.

        Raises:
            EnvironmentMoved: when somebody else does; they are named.
        """
        ...

    def new_session(self) -> Database | None:
        """Another connection to the same database, to work with at the same time.

        None where only one connection can write.
        """
        ...

    def interrupt(self) -> None:
        """Have the statement that runs fail now, if there is one. Called from another thread."""
        ...

    def server(self) -> Server:
        """What the database says about itself."""
        ...

    def execute(self, sql: str, values: Sequence[Any] = ()) -> None:
        """Run a statement."""
        ...

    def execute_without_transaction(self, sql: str) -> None:
        """Run a statement that no transaction can hold; what a crashed attempt left goes first."""
        ...

    def rows(self, sql: str, values: Sequence[Any] = ()) -> list[tuple[Any, ...]]:
        """Run a query."""
        ...

    def frame(self, sql: str) -> Any:
        """Run a query into a pandas DataFrame."""
        ...

    def append_frame(self, table: str, frame: Any) -> None:
        """Add the rows of a pandas DataFrame to a table, columns matched by name."""
        ...

    def transaction(self) -> AbstractContextManager[None]:
        """Everything inside takes effect together, or not at all."""
        ...

    def scratch_schemas(self, schemas: Sequence[str]) -> AbstractContextManager[None]:
        """Scratch schemas to try things in; they, and all in them, go with the block.

        Raises:
            TargetError: when a schema of such a name is there.
        """
        ...

    def discard(self, schemas: Collection[str]) -> None:
        """Remove scratch schemas that a trial left because its process was killed."""
        ...

    def scratch_database(self, schema: str) -> AbstractContextManager[tuple[Database, str]]:
        """A place to try how a schema is made, and the name that it has there; nothing stays.

        What other schemas have can be referred to under its own name. It is a connection of its
        own, also where this one is for looking only.
        """
        ...

    def restructuring(self, upon: Sequence[str]) -> AbstractContextManager[None]:
        """A transaction in which tables may be dropped, made anew or get other types.

        Views of others upon what is named, and what else hangs on a table, are there afterwards as
        before.
        """
        ...

    def savepoint(self) -> AbstractContextManager[None]:
        """Inside a trial: if a statement inside fails, what was made before it is still there."""
        ...

    def structure(self, schemas: Iterable[str] | None = None) -> dict[str, Table]:
        """Tables and views with their columns, by real name; of some schemas or of all."""
        ...

    def definitions(self, schemas: Sequence[str]) -> list[Definition]:
        """What some schemas have, as statements that would make it again."""
        ...

    def kinds(self) -> Mapping[str, str]:
        """``table`` or ``view`` for each thing that :meth:`structure` lists."""
        ...

    def size(self, name: str) -> int | None:
        """The bytes that a table takes on disk; None where that is not told."""
        ...

    def about_rows(self, name: str) -> int | None:
        """Roughly how many rows a table has that is too big to be counted; None of any other."""
        ...

    def create_schema(self, schema: str) -> None:
        """Make a schema unless it is there."""
        ...

    def build(self, name: str, store: str, sql: str) -> int | None:
        """Make a table or view from a SELECT; the rows of a table.

        Raises:
            TargetError: also when something has that name already.
        """
        ...

    def empty_copy(self, name: str, sql: str) -> str:
        """The statement that makes an empty table with the columns of a SELECT, running nothing."""
        ...

    def drop(self, names: Collection[str]) -> None:
        """Remove tables and views, those that are there, and nothing that hangs on them.

        Raises:
            TargetError: when something else hangs on one of them.
        """
        ...

    def dependents(self, names: Collection[str]) -> Mapping[str, tuple[str, ...]]:
        """What hangs on tables and views and cannot be carried along when they are replaced.

        In words, such as ``trigger audit``, by the name of the table or view; objects that belong
        to it alone and go with it for good (indexes, its own keys) are left out.
        """
        ...

    def switch_over(self, switches: Sequence[Switch]) -> None:
        """Put what was built beside in place. Called inside a transaction.

        Raises:
            TargetError: when something hangs on what is replaced or removed that cannot be carried
                along; it is named.
        """
        ...

    def close(self) -> None:
        """End the connection."""
        ...


def connect(
    url: str,
    *,
    root: Path,
    password: Secret | None = None,
    read_only: bool = False,
    threads: int | None = None,
) -> Database:
    """Connect to the database at an address.

    Args:
        url: ``duckdb:///path`` or ``sqlite:///path``, relative paths starting at ``root``; or
            ``postgresql://user@host:port/database``, without a password.
        root: the project's folder.
        password: for databases that ask for one.
        read_only: for looking only; a database that is not there yet is then not created.
        threads: how many the database may use, where it can be told.

    Raises:
        TargetError: when there is no adapter, or the database cannot be reached.
    """
    kind, separator, place = url.partition("://")
    if kind == "duckdb" and separator:
        from inchworm.targets.databases.duckdb import DuckDb

        return DuckDb(
            _path(place, root),
            read_only=read_only,
            threads=threads,
        )
    if kind == "sqlite" and separator:
        from inchworm.targets.databases.sqlite import Sqlite

        return Sqlite(_path(place, root), read_only=read_only)
    if kind in {"postgresql", "postgres"} and separator:
        from inchworm.targets.databases.postgres import Postgres

        return Postgres(url, password=password, read_only=read_only)
    raise TargetError(
        f"there is no adapter for the database {url!r}.",
        next="Write duckdb:///path or sqlite:///path, relative to the project, or postgresql://...",
    )


def in_memory(dialect: str) -> Database | None:
    """An empty database for trying things, which nobody else sees.

    None for dialects of which no database runs inside the program.
    """
    if dialect == "duckdb":
        from inchworm.targets.databases.duckdb import IN_MEMORY, DuckDb

        return DuckDb(IN_MEMORY)
    if dialect == "sqlite":
        from inchworm.targets.databases.sqlite import IN_MEMORY, Sqlite

        return Sqlite(IN_MEMORY)
    return None


def _path(place: str, root: Path) -> Path:
    """Relative paths start at the project; with four slashes a path is absolute."""
    return Path(place[1:]) if place.startswith("//") else root / place.lstrip("/")


def quoted_one(name: str) -> str:
    """One name in double quotes, whatever letters it has."""
    return '"' + name.replace('"', '""') + '"'


def quoted(name: str) -> str:
    """``schema.table`` in double quotes, as standard SQL and all our databases read it."""
    return ".".join(map(quoted_one, name.split(".", 1)))
