"""Indexes of PostgreSQL that no constraint needs: they follow whatever takes a table's place."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence

from msgspec import Struct

from inchworm.targets.databases.postgres.asking import TARGETS, Session, by_name, whole_names
from inchworm.targets.databases.quoting import quoted, quoted_one

_INDEXES = f"""{TARGETS}
SELECT t.name, n.nspname || '.' || i.relname, x.indisunique,
       substr(pg_get_indexdef(i.oid), length(
         'CREATE ' || CASE WHEN x.indisunique THEN 'UNIQUE ' ELSE '' END || 'INDEX '
         || quote_ident(i.relname) || ' ON ' || x.indrelid::regclass::text) + 1)
FROM target t JOIN pg_index x ON x.indrelid = t.oid JOIN pg_class i ON i.oid = x.indexrelid
JOIN pg_namespace n ON n.oid = i.relnamespace
WHERE NOT EXISTS (
  SELECT 1 FROM pg_constraint k
  WHERE k.conindid = x.indexrelid AND k.contype IN ('p', 'u', 'x')) ORDER BY 1, 2
"""


class Index(Struct, frozen=True, kw_only=True):
    """An index that no constraint needs.

    Attributes:
        name: its schema and name.
        shape: whether it is unique, and the rest of its definition after the table's name.
    """

    name: str
    shape: tuple[bool, str]

    def made_on(self, table: str, name: str = "") -> str:
        """The statement that makes such an index on a table; without a name, the server finds one.

        Args:
            table: its schema and name.
            name: the index's, without a schema.
        """
        unique, rest = self.shape
        called = f" {quoted_one(name)}" if name else ""
        return f"CREATE {'UNIQUE ' if unique else ''}INDEX{called} ON {quoted(table)}{rest}"

    @property
    def own_name(self) -> str:
        """Its name without the schema."""
        return self.name.partition(".")[2]


def indexes_of(session: Session, names: Sequence[str]) -> dict[str, tuple[Index, ...]]:
    """Indexes of relations that no constraint needs."""
    if not names:
        return {}
    with whole_names(session):
        rows = by_name(session.rows(_INDEXES, [[quoted(name) for name in names]]))
    return {
        table: tuple(Index(name=name, shape=(unique, rest)) for name, unique, rest in of_table)
        for table, of_table in rows.items()
    }


def index_ahead(session: Session, successors: Mapping[str, str]) -> None:
    """Make the indexes of relations on their successors, where no reader waits for it.

    Those that are there from a former attempt are not made again. They get their predecessors'
    names, which are taken until then, by :func:`give`.

    Args:
        session: outside a transaction, so that each counts by itself.
        successors: the successor of each relation.
    """
    indexes = indexes_of(session, [*successors, *successors.values()])
    for name, successor in successors.items():
        made = {index.shape for index in indexes.get(successor, ())}
        for index in indexes.get(name, ()):
            if index.shape not in made:
                session.execute(index.made_on(successor))


def indexing(name: str, wanted: Sequence[Index], made: Sequence[Index]) -> Iterator[str]:
    """Statements that give a table its indexes: those made ahead only have to be named."""
    unnamed = list(made)
    for index in wanted:
        ahead = next((other for other in unnamed if other.shape == index.shape), None)
        if ahead is None:
            yield index.made_on(name, index.own_name)
        else:
            unnamed.remove(ahead)
            yield f"ALTER INDEX {quoted(ahead.name)} RENAME TO {quoted_one(index.own_name)}"
    for index in unnamed:  # its predecessor went away meanwhile
        yield f"DROP INDEX {quoted(index.name)}"
