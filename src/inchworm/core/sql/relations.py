"""A relation as the resolver knows it while it reads a query."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from functools import cached_property, lru_cache
from typing import NamedTuple

from msgspec import Struct, field
from msgspec.structs import replace

from inchworm.core.lineage.graph import How, Node
from inchworm.core.structure.tables import UNKNOWN_TYPE, Table

Sources = frozenset[tuple[Node, How]]
"""Columns (or whole tables) that something comes from, and in which way."""

NOTHING: Sources = frozenset()


class OutColumn(NamedTuple):
    """A column that a relation shows."""

    name: str
    sources: Sources
    type: str = UNKNOWN_TYPE
    is_count: bool = False
    """Whether it only says how many there are, so that it shows no value of its sources."""

    def also(self, other: Iterable[tuple[Node, How]]) -> OutColumn:
        """The same column with further sources."""
        return OutColumn(self.name, self.sources.union(other), self.type)

    def under(self, name: str) -> OutColumn:
        """The same column under another name."""
        return self if name == self.name else self._replace(name=name)


class Relation(Struct, frozen=True, kw_only=True, dict=True):
    """A table, CTE, subquery or anything else that has columns.

    Attributes:
        columns: what it shows, in order; two may have one name.
        rows: what decides which rows it has.
        open: base tables whose columns are not all known, so that a name that is not among
            ``columns`` may still be one of theirs.
        table: the folded name of the base table, for a relation that is just that.
        believed: of a relation that may have any column, such as a table function, what one comes
            from that is not among ``columns``; None of all others.
    """

    columns: tuple[OutColumn, ...] = ()
    rows: Sources = NOTHING
    open: frozenset[str] = frozenset()
    table: str | None = None
    believed: Sources | None = None

    @property
    def is_open(self) -> bool:
        """Whether it may have more columns than are known."""
        return bool(self.open) or self.believed is not None

    @cached_property
    def _by_name(self) -> Mapping[str, OutColumn]:
        columns: dict[str, OutColumn] = {}
        for column in self.columns:
            other = columns.get(column.name)
            columns[column.name] = column if other is None else other.also(column.sources)
        return columns

    def named(self, name: str) -> OutColumn | None:
        """The column of that name; of several, one that comes from all of them."""
        return self._by_name.get(name)

    def guessed(self, name: str) -> OutColumn | None:
        """The column of that name that an open relation may have."""
        if not self.is_open:
            return None
        if len(self.open) == 1 and self.believed is None:
            (table,) = self.open
            return OutColumn(name=name, sources=frozenset({(Node(table, name), How.COPIED)}))
        whole = frozenset((Node(table), How.WHOLE) for table in self.open)
        return OutColumn(name=name, sources=whole | (self.believed or NOTHING))

    @property
    def everything(self) -> Sources:
        """All that any of its columns comes from, and the whole of what is not known."""
        known = frozenset(source for column in self.columns for source in column.sources)
        whole = {(Node(table), How.WHOLE) for table in self.open}
        return known | whole | (self.believed or NOTHING)

    def renamed(self, names: list[str]) -> Relation:
        """The relation as ``alias(a, b, ...)`` shows it: the first columns get new names."""
        if not names:
            return self
        columns = [
            column.under(names[i]) if i < len(names) else column
            for i, column in enumerate(self.columns)
        ]
        spare = names[len(columns) :]
        columns += [OutColumn(name=name, sources=self.everything) for name in spare]
        return replace(self, columns=tuple(columns), table=None)


@lru_cache(maxsize=20_000)  # a table is read by many models
def of_table(table: Table) -> Relation:
    """The relation that a known table is."""
    return Relation(
        columns=tuple(
            OutColumn(
                name=column.name,
                sources=frozenset({(Node(table.name, column.name), How.COPIED)}),
                type=column.type,
            )
            for column in table.columns
        ),
        open=frozenset({table.name}) if table.open else frozenset(),
        table=table.name,
    )


def as_computed(sources: Iterable[tuple[Node, How]]) -> Sources:
    """Sources of a derived value: a copy of a copy in an expression is computed."""
    return frozenset((n, How.WHOLE if h is How.WHOLE else How.COMPUTED) for n, h in sources)


def as_rows(sources: Iterable[tuple[Node, How]]) -> Sources:
    """Sources of a decision about rows."""
    return frozenset((n, How.WHOLE if h is How.WHOLE else How.ROWS) for n, h in sources)


class Scope(Struct, kw_only=True):
    """The names that can be used at one place of a query."""

    relations: dict[str, Relation] = field(default_factory=dict)
    merged: dict[str, OutColumn] = field(default_factory=dict)
    aliases: dict[str, OutColumn] = field(default_factory=dict)
    ctes: Mapping[str, Relation] = field(default_factory=dict)
    bound: frozenset[str] = frozenset()
    """Lambda variables: names that are no columns here."""
    outer: Scope | None = None
    resolved: dict[int, OutColumn] = field(default_factory=dict)
    """The columns that references meant here, by the identity of their nodes."""

    def add(self, name: str, relation: Relation) -> None:
        """Bring a relation into scope; a second one of the same name gets a name of its own."""
        key = name
        while key in self.relations:
            key += "'"
        self.relations[key] = relation

    def find_relation(self, name: str) -> Relation | None:
        """The relation of that alias or table name, here or further out."""
        if name in self.relations:
            return self.relations[name]
        for relation in self.relations.values():
            table = relation.table
            if table is not None and (table == name or table.endswith("." + name)):
                return relation
        return self.outer.find_relation(name) if self.outer else None

    def visible(self) -> list[str]:
        """Every column name that could have been meant."""
        names = [c.name for r in self.relations.values() for c in r.columns] + list(self.aliases)
        return names + (self.outer.visible() if self.outer else [])
