"""Tables and columns, as far as lineage, checks and drafts need them."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from functools import cached_property

from inchworm.core.identifiers import RelationName

UNKNOWN_TYPE = "unknown"
"""The type of a column about which nothing certain can be said."""


@dataclass(frozen=True)
class Column:
    """A column; ``type`` is upper-case SQL text in the project's dialect, or ``unknown``."""

    name: str
    type: str = UNKNOWN_TYPE
    required: bool = False


@dataclass(frozen=True)
class Table:
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
    def by_name(self) -> Mapping[str, Column]:
        """Columns by folded name; of two with one name, the first."""
        columns: dict[str, Column] = {}
        for column in self.columns:
            columns.setdefault(column.name.lower(), column)
        return columns

    @property
    def schema(self) -> str:
        """The schema part of the name."""
        return RelationName(self.name).schema
