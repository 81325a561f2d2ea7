"""What a database must be able to do: four protocols, and all of them together.

A product is a package beside this module, with a module for each of the protocols.
"""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable, Collection, Generator, Iterable, Mapping, Sequence
from contextlib import AbstractContextManager
from pathlib import Path
from typing import Any, Protocol, Self, TypeVar

from msgspec import Struct

from inchworm.core.environments.rights import Rights
from inchworm.core.identifiers import RelationName
from inchworm.core.rendered import Store
from inchworm.core.structure.changes import Change
from inchworm.core.structure.definitions import Definition
from inchworm.core.structure.left_out import LeftOut
from inchworm.core.structure.tables import Table

Result = TypeVar("Result")


class Switch(Struct, frozen=True, kw_only=True):
    """One model at the switch-over.

    Attributes:
        name: its physical name.
        staging: the name that it was built under; None for a model that goes away.
        store: whether it becomes a view or a table.
        view_sql: for a view, the SELECT with the names that count after the switch-over.
        replaced: the name under which a replaced or removed table is kept aside.
        former: the relation of another name whose rights and comments it takes over.
        was_live: whether what is staged was live before, and may have triggers and policies of
            that time.
    """

    name: RelationName
    staging: RelationName | None
    store: Store
    view_sql: str | None
    replaced: RelationName
    former: RelationName | None = None
    was_live: bool = False


class Server(Struct, frozen=True, kw_only=True):
    """A database's product and version; ``now`` has a zone, and is None where it has no clock."""

    product: str
    version: str
    now: dt.datetime | None


class Session(Protocol):
    """A connection: statements, queries and transactions.

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

    def share(self, name: str, alone: Collection[str]) -> None:
        """Let others work beside us, but on nothing of ours, until the connection ends.

        Whoever has the :meth:`lock` of that name works without anybody beside.

        Args:
            name: as of the lock.
            alone: what nobody else may work on at the same time.

        Raises:
            EnvironmentMoved: when somebody has the lock, or where a database cannot be shared,
                anybody works in it.
            WorkedOn: when somebody works on one of those things.
        """
        ...

    def keep_writers_out(self, table: str) -> None:
        """Let nobody else write to a table until the transaction ends.

        Raises:
            LockHeld: where somebody does for long; :meth:`locking` tries again.
        """
        ...

    def take_turn(self) -> None:
        """Wait until nobody else of us switches over or is looking; it ends with the transaction.

        Raises:
            LockHeld: where somebody does for long; :meth:`locking` tries again.
        """
        ...

    def reading_catalogue(self, work: Callable[[], Result]) -> Result:
        """Look at the catalogue, as nobody of us switches over meanwhile.

        Args:
            work: called again where somebody else changed what is there while it looked.
        """
        ...

    def new_session(self) -> Self | None:
        """Another connection to the same database, to work with at the same time.

        None where only one connection can write.
        """
        ...

    def revive(self) -> bool:
        """Connect again if the connection was lost, and hold again what it held.

        Returns:
            Whether it was lost.

        Raises:
            EnvironmentMoved: when somebody else holds that now.
            TargetError: when the database cannot be reached.
        """
        ...

    def interrupt(self) -> None:
        """Have the statement that runs fail now, if there is one. Called from another thread."""
        ...

    def limited_to(self, memory: int | None, threads: int | None) -> AbstractContextManager[None]:
        """Keep what runs in the block within limits, as far as the database has such.

        Args:
            memory: bytes; None for as much as there is.
            threads: that a statement may use at a time; None for as many as there are.
        """
        ...

    def keep_log_short(self) -> None:
        """Expect many small transactions: their log is taken over before it gets long.

        Where what is in the log is in memory as well, that takes less of it.
        """
        ...

    def locking(self, work: Callable[[], Result], *, brief: bool = True) -> Result:
        """Do work, in a transaction of its own, that needs locks which keep others out.

        Args:
            work: called again after a failure to get its locks, of which then nothing is left.
            brief: whether each attempt is short, so that nobody waits for long behind it; work that
                takes long before it comes to its locks is better done once.

        Raises:
            TargetError: who is in the way, when others hold the locks for too long.
        """
        ...

    def server(self) -> Server:
        """The database's product, version and time."""
        ...

    def execute(self, sql: str, values: Sequence[Any] = ()) -> None:
        """Run a statement."""
        ...

    def noting(self) -> AbstractContextManager[list[str]]:
        """Note the statements that run in the block; those with values are left out."""
        ...

    def execute_without_transaction(self, sql: str) -> None:
        """Run a statement that no transaction can hold; what a crashed attempt left goes first."""
        ...

    def rows(self, sql: str, values: Sequence[Any] = ()) -> list[tuple[Any, ...]]:
        """Run a query."""
        ...

    def one_of(self, column: str, type_name: str, texts: Collection[str]) -> tuple[str, list[Any]]:
        """The condition that a column has one of some texts, and the values that it takes.

        It is one value however many texts there are: thousands are one statement.

        Args:
            column: its name, as SQL has it.
            type_name: the name of the column's type.
            texts: each as a value of that type is written.
        """
        ...

    indexes_in_memory: bool
    """Whether an index takes memory for every row of its table while the database is open."""

    def select(self, sql: str) -> tuple[list[str], list[tuple[Any, ...]]]:
        """Run a query; the names of its columns, and its rows."""
        ...

    def batches(
        self, sql: str, size: int
    ) -> Generator[tuple[list[str], list[tuple[Any, ...]]], None, None]:
        """Run a query, and read its rows little by little, each time with the columns' names.

        Other statements may run on this connection meanwhile.
        """
        ...

    def frame(self, sql: str) -> Any:
        """Run a query into a pandas DataFrame."""
        ...

    def add_rows(
        self, table: str, columns: Sequence[str], rows: Sequence[Sequence[str | int | None]]
    ) -> None:
        """Add many rows to a table of our own, inside a transaction.

        Args:
            table: its name, as SQL has it.
            columns: their names; each has values of one type.
            rows: a value for each column.
        """
        ...

    def append_frame(self, table: str, frame: Any) -> None:
        """Add the rows of a pandas DataFrame to a table, columns matched by name."""
        ...

    def append_parquet(self, table: str, file: Path, fields: Mapping[str, str]) -> int | None:
        """Add the rows of a Parquet file to a table, as the database reads such files itself.

        Args:
            table: the table.
            file: the file, on this machine.
            fields: the column of the file that each column of the table comes from.

        Returns:
            The number of rows; None where the database cannot do that, and nothing was added.
        """
        ...

    def transaction(self) -> AbstractContextManager[None]:
        """A transaction: the statements inside take effect together, or not at all."""
        ...

    def reading(self) -> AbstractContextManager[None]:
        """A transaction in which the database refuses every change, also by functions."""
        ...

    def savepoint(self) -> AbstractContextManager[None]:
        """Inside a trial: if a statement inside fails, what was made before it is still there."""
        ...

    def close(self) -> None:
        """End the connection."""
        ...


class Catalogue(Protocol):
    """The tables and views of a database, and everything that belongs to them."""

    def structure(self, schemas: Iterable[str] | None = None) -> dict[str, Table]:
        """Tables and views with their columns, by real name; of some schemas or of all."""
        ...

    def tables(self, names: Collection[RelationName]) -> dict[str, Table]:
        """Those of some tables and views that exist, with their columns."""
        ...

    def definitions(self, schemas: Sequence[str]) -> list[Definition]:
        """The definitions of some schemas: statements that would make their objects again."""
        ...

    def relations(self, schemas: Sequence[str]) -> list[Definition]:
        """Those of tables and views among them, which take a part of the time."""
        ...

    def surroundings(self, schemas: Sequence[str]) -> list[Definition]:
        """Everything else that can be told of some schemas: code, triggers, rights, owners ...

        Their statements would make them again, too; they are only watched, never worked out.
        """
        ...

    def left_out(self, schema: str) -> list[LeftOut]:
        """What a schema has that :meth:`definitions` does not tell, rights and owners apart."""
        ...

    def rights(self, relations: Collection[str], schemas: Collection[str]) -> Rights:
        """What we may do.

        Args:
            relations: relations that may have to be replaced; others are left out.
            schemas: schemas in which things may have to be made, also such as are not there yet.
        """
        ...

    def kinds(self, names: Collection[RelationName] | None = None) -> Mapping[str, str]:
        """``table`` or ``view`` for each thing that :meth:`structure` lists: all, or those named.

        Where there are thousands, all of them take much longer than a few.
        """
        ...

    def tables_in(self, schema: str) -> frozenset[str]:
        """The names of the tables in one schema, without it: quicker than to list everything."""
        ...

    def size(self, name: str) -> int | None:
        """The bytes that a table takes on disk; None where that is not told."""
        ...

    def about_rows(self, name: str) -> int | None:
        """Roughly how many rows a table has that is too big to be counted; None of any other."""
        ...

    def publications(self, names: Collection[RelationName]) -> list[Definition]:
        """The membership of tables in what sends changes of rows to other servers."""
        ...

    def dependents(self, names: Collection[RelationName]) -> Mapping[str, tuple[str, ...]]:
        """What hangs on tables and views and cannot be carried along when they are replaced.

        In words, such as ``trigger audit``, by the name of the table or view; objects that belong
        to it alone and go with it for good (indexes, its own keys) are left out.
        """
        ...


class Structuring(Protocol):
    """Schemas: made, changed where they are, and tried in places that nobody sees."""

    def create_schema(self, schema: str) -> None:
        """Make a schema unless it is there."""
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

    def scratch_database(self, schema: str) -> AbstractContextManager[tuple[Self, str]]:
        """A place to try how a schema is made, and the name that it has there; nothing stays.

        What other schemas have can be referred to under its own name. It is a connection of its
        own, also where this one is for looking only.
        """
        ...

    board_sees_outside: bool
    """Whether :meth:`board` reaches whatever this connection does outside the database."""

    def board(self, schemas: Sequence[str]) -> AbstractContextManager[Self | None]:
        """A place to try statements in, with these schemas, while this connection only looks.

        Nothing stays of it. It is None where what is tried there could fail although it would not
        here: because of functions and types that somebody made, say.

        Raises:
            TargetError: when there is no right to make it.
        """
        ...

    def changes(
        self,
        schema: str,
        live: Sequence[Definition],
        desired: Sequence[Definition],
        renames: Mapping[str, str],
    ) -> list[Change]:
        """The changes that turn one structure of a schema into another, in working order.

        What goes for good comes last, and is marked ``late``.

        Args:
            schema: its physical name.
            live: the definitions that it has, as :meth:`Catalogue.definitions` tells them.
            desired: the definitions that it should have, told in the same way.
            renames: the new name of each table or ``table.column`` whose values stay.

        Raises:
            ProjectError: when there is a difference for which no change can be worked out.
        """
        ...

    def restructuring(self, upon: Sequence[str]) -> AbstractContextManager[None]:
        """A transaction in which tables may be dropped, made anew or get other types.

        Views of others upon what is named, and what else hangs on a table, are there afterwards as
        before.
        """
        ...


class SwitchingOver(Protocol):
    """Models: built in staging relations, and switched over to the names that readers use."""

    def build(self, name: str, store: Store, sql: str) -> int | None:
        """Make a table or view from a SELECT; the rows of a table. Called inside a transaction.

        Raises:
            TargetError: also when something has that name already, and when a function that the
                SELECT calls changed rows of a table.
        """
        ...

    def empty_copy(self, name: str, sql: str) -> str:
        """The statement that makes an empty table with the columns of a SELECT, running nothing."""
        ...

    def drop(self, names: Collection[RelationName]) -> None:
        """Remove tables and views, those that are there, and nothing that hangs on them.

        Raises:
            TargetError: when something else hangs on one of them.
        """
        ...

    def prepare(self, switches: Sequence[Switch]) -> None:
        """Do ahead what takes long and keeps no reader waiting. Called outside a transaction.

        Called again after a crash; what is made belongs to the staging relations.

        Raises:
            TargetError: when what is built cannot have what the live relation has.
        """
        ...

    def switch_over(self, switches: Sequence[Switch]) -> None:
        """Put what was built beside in place. Called inside a transaction.

        Raises:
            TargetError: when something hangs on what is replaced or removed that cannot be carried
                along; it is named.
        """
        ...


class Database(Session, Catalogue, Structuring, SwitchingOver, Protocol):
    """A connection to one database, with all that promotions ask of it."""
