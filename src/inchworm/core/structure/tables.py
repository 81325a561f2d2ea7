"""Tables and columns, as far as lineage, checks and drafts need them."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from functools import cached_property

from msgspec import Struct

from inchworm.core.identifiers import RelationName

UNKNOWN_TYPE = "unknown"
"""The type of a column about which nothing certain can be said."""


class Column(Struct, frozen=True, array_like=True):
    """A column; ``type`` is upper-case SQL text in the project's dialect, or ``unknown``."""

    name: str
    type: str = UNKNOWN_TYPE
    required: bool = False


class ColumnsByName(Mapping[str, Column]):
    """Columns by name, whatever the case; of two with one name, the first. It lists lower case."""

    def __init__(self, columns: Iterable[Column]) -> None:
        self._columns: dict[str, Column] = {}
        for column in columns:
            self._columns.setdefault(column.name.lower(), column)

    def __getitem__(self, name: str) -> Column:
        return self._columns[name.lower()]

    def __contains__(self, name: object) -> bool:
        return isinstance(name, str) and name.lower() in self._columns

    def __iter__(self) -> Iterator[str]:
        return iter(self._columns)

    def __len__(self) -> int:
        return len(self._columns)


class Table(Struct, frozen=True, dict=True, array_like=True):
    """A table or view under its logical name ``schema.table``, in lower case unless quoted.

    ``open`` says that there may be more columns than are known: nothing that is read from an open
    table can be called wrong.
    """

    name: str
    columns: tuple[Column, ...]
    open: bool = False
    key: tuple[str, ...] = ()
    """Columns that are required, and unique together."""

    def __hash__(self) -> int:
        return hash(self.name)  # tables are looked up often, and hardly ever differ in the rest

    @cached_property
    def by_name(self) -> ColumnsByName:
        """Its columns by name."""
        return ColumnsByName(self.columns)

    @property
    def schema(self) -> str:
        """The schema part of the name."""
        return RelationName(self.name).schema
