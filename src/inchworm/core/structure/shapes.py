"""Tables column by column and constraint by constraint, in a database's own words."""

from __future__ import annotations

from collections.abc import Mapping
from functools import cached_property

from msgspec import Struct, field

from inchworm.core.sql.spelling import spelled


class ColumnShape(Struct, frozen=True, kw_only=True):
    """A column of a table.

    Attributes:
        name: as it is spelled.
        type, default, generated: SQL text as the database tells it.
        identity: ``always`` or ``by default``, where the database counts by itself.
        rest: any other constraint that stands with the column, as text.
    """

    name: str
    type: str
    default: str | None = None
    required: bool = False
    generated: str | None = None
    identity: str = ""
    rest: str = ""


class TableShape(Struct, frozen=True, kw_only=True, dict=True):
    """A table.

    Attributes:
        constraints: those that stand by themselves, by name; one without a name by its text.
        refers_to: tables that its foreign keys point at, where those are part of its statement.
        options: what follows the columns, e.g. ``STRICT``.
    """

    columns: tuple[ColumnShape, ...]
    constraints: Mapping[str, str] = field(default_factory=dict)
    refers_to: frozenset[str] = frozenset()
    options: str = ""

    @cached_property
    def by_name(self) -> Mapping[str, ColumnShape]:
        """Columns by name."""
        return {column.name: column for column in self.columns}


def column_sql(column: ColumnShape) -> str:
    """A column as it stands in PostgreSQL's CREATE TABLE and ADD COLUMN."""
    text = f"{spelled(column.name)} {column.type}"
    if column.generated:
        text += f" GENERATED ALWAYS AS ({column.generated}) STORED"
    elif column.identity:
        text += f" GENERATED {column.identity.upper()} AS IDENTITY"
    elif column.default is not None:
        text += f" DEFAULT {column.default}"
    return text + (" NOT NULL" if column.required else "")
