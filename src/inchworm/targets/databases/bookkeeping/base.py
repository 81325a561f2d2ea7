"""The tables of the bookkeeping: whether they are there, complete, and made."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import contextmanager
from functools import wraps
from itertools import groupby, islice
from operator import itemgetter
from typing import Any, Concatenate, ParamSpec, Self, TypeVar, cast

from inchworm.core.errors import TargetError
from inchworm.targets.databases.bookkeeping.tables import COLUMNS_ADDED, TABLES
from inchworm.targets.databases.protocols import Database

T = TypeVar("T")
B = TypeVar("B", bound="Books")

#: Rows per statement: one by one would be slow for thousands of parts.
AT_ONCE = 200


Asked = ParamSpec("Asked")


def read_back(
    reading: Callable[Concatenate[B, Asked], T],
) -> Callable[Concatenate[B, Asked], T]:
    """Have a method that reads the books say that they are damaged where they cannot be read.

    Somebody who may write to the database may have edited a row.
    """

    @wraps(reading)
    def read(self: B, *args: Asked.args, **kwargs: Asked.kwargs) -> T:
        try:
            return reading(self, *args, **kwargs)
        except (ValueError, KeyError, TypeError, IndexError, AttributeError) as error:
            raise TargetError(
                f"the books of Inchworm in {self.schema} are damaged: {error!r:.80}.",
                next=f"Restore the schema {self.schema} from a backup of the database.",
            ) from error

    return cast("Callable[Concatenate[B, Asked], T]", read)


class Books:
    """The tables of one project's bookkeeping in one database.

    Args:
        database: the database.
        project: the project's name.
        schema: where they are kept; a plain name in lower case.
    """

    def __init__(self, database: Database, project: str, schema: str = "inchworm") -> None:
        self._database = database
        self._project = project
        self.schema = schema
        self._known = _Known()

    def over(self, database: Database) -> Self:
        """The same bookkeeping over another connection to its database."""
        other = type(self)(database, self._project, self.schema)
        other._known = self._known
        return other

    @property
    def exists(self) -> bool:
        """Whether the database has bookkeeping at all."""
        return self.has("parts")

    def has(self, table: str) -> bool:
        """Whether one of its tables is there."""
        known = self._known
        if table not in known.tables and not known.is_whole:
            known.tables |= self._database.tables_in(self.schema)
            known.is_whole = known.is_one_reading
        return table in known.tables

    @contextmanager
    def one_reading(self) -> Iterator[None]:
        """In the block, a table that is not there when the first one is missed does not come."""
        self._known.is_one_reading = True
        try:
            yield
        finally:
            self._known.is_one_reading = self._known.is_whole = False

    def ensure(self) -> None:
        """Make the tables, and the columns that earlier versions had not, unless all are there."""
        latest = {"schedules", "holds", "api_versions"}
        if all(map(self.has, latest)) and not self._lacking():
            return
        self._database.create_schema(self.schema)
        with self._database.transaction():
            for statement in TABLES:
                self._database.execute(statement.format(schema=self.schema))
            for table, column, kind in self._missing_columns():
                self._database.execute(
                    f"ALTER TABLE {self.schema}.{table} ADD COLUMN {column} {kind}"
                )

    def _lacking(self) -> list[tuple[str, str, str]]:
        """Columns that bookkeeping of an earlier version lacks: table, name and type."""
        if self._known.is_complete:
            return []
        table, newest, _ = COLUMNS_ADDED[-1]
        is_newest = newest in self._columns(table)  # they are added together: it stands for all
        lacking = [] if is_newest else self._missing_columns()
        self._known.is_complete = not lacking
        return lacking

    def _missing_columns(self) -> list[tuple[str, str, str]]:
        missing = []
        for table, added in groupby(COLUMNS_ADDED, key=itemgetter(0)):
            if columns := self._columns(table):
                missing += [each for each in added if each[1] not in columns]
        return missing

    def _columns(self, table: str) -> list[str]:
        """The columns of one of its tables: to list those of all would take long; none if gone."""
        if not self.has(table):
            return []
        return self._database.select(f"SELECT * FROM {self.schema}.{table} LIMIT 0")[0]

    def _sorted(
        self, sql: str, values: Sequence[str] = (), *, by: Sequence[int]
    ) -> list[tuple[Any, ...]]:
        """Rows sorted here: a database takes longer for that than to read them all.

        Args:
            sql: the query.
            values: of its placeholders.
            by: the positions of the columns that they are sorted by.
        """
        return sorted(self._database.rows(sql, values), key=itemgetter(*by))


class _Known:
    """What is known of the tables; all connections to one database share it."""

    def __init__(self) -> None:
        self.tables: set[str] = set()
        """Those that have been seen; none is ever taken away."""
        self.is_one_reading = False
        """Whether what is read now has to be of one instant."""
        self.is_whole = False
        """Whether no other table counts for this reading."""
        self.is_complete = False
        """Whether they are known to have all columns."""


def batched(things: Iterable[T], size: int) -> Iterator[list[T]]:
    """The things in lists of at most ``size``."""
    waiting = iter(things)
    while some := list(islice(waiting, size)):
        yield some
