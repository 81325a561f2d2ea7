"""The catalogue of a PostgreSQL database."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Collection, Iterable, Mapping, Sequence

from inchworm.core.environments.rights import Owned, Rights
from inchworm.core.identifiers import RelationName
from inchworm.core.sql.type_names import normal_type
from inchworm.core.structure.definitions import Definition, Thing
from inchworm.core.structure.left_out import LeftOut
from inchworm.core.structure.tables import Column, Table
from inchworm.targets.databases.postgres.asking import whole_names
from inchworm.targets.databases.postgres.attached import publications_of
from inchworm.targets.databases.postgres.census import read_left_out
from inchworm.targets.databases.postgres.definitions import read_definitions, read_relations
from inchworm.targets.databases.postgres.session import PostgresSession
from inchworm.targets.databases.postgres.surroundings import read_surroundings
from inchworm.targets.databases.postgres.switch_over import hanging_on
from inchworm.targets.databases.quoting import quoted

_BIG = 131_072
"""Pages of 8 kB; a table with more is not counted."""

_OF_USERS = """
  n.nspname NOT IN ('pg_catalog', 'information_schema') AND n.nspname NOT LIKE 'pg_toast%'
  AND n.nspname NOT LIKE 'pg_temp%'
"""
"""Schemas that are not the server's own."""

_COLUMNS = """
SELECT n.nspname, c.relname, a.attname, format_type(a.atttypid, a.atttypmod), a.attnotnull
FROM pg_attribute a
JOIN pg_class c ON c.oid = a.attrelid
JOIN pg_namespace n ON n.oid = c.relnamespace
WHERE c.relkind IN ('r', 'p', 'v', 'm', 'f') AND a.attnum > 0 AND NOT a.attisdropped AND {}
ORDER BY n.nspname, c.relname, a.attnum
"""

_KINDS = """
SELECT n.nspname, c.relname, c.relkind
FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
WHERE c.relkind IN ('r', 'p', 'v', 'm', 'f') AND {}
"""

_NAMED = """
  (n.nspname, c.relname) IN (
    SELECT schema, name FROM unnest(?::text[], ?::text[]) AS asked(schema, name))
"""
"""Relations that are asked for by name; those that do not exist are none."""


_OWNED = """
WITH target AS (
  SELECT to_regclass(name)::oid AS oid FROM unnest(?::text[]) AS asked(name)
), reading AS (
  SELECT oid AS upon, oid FROM target WHERE oid IS NOT NULL
  UNION
  SELECT t.oid, r.ev_class FROM target t
  JOIN pg_depend d ON d.refclassid = 'pg_class'::regclass AND d.refobjid = t.oid
    AND d.classid = 'pg_rewrite'::regclass
  JOIN pg_rewrite r ON r.oid = d.objid
)
SELECT un.nspname || '.' || u.relname, n.nspname || '.' || c.relname, c.relkind::text,
       quote_ident(pg_get_userbyid(c.relowner)), pg_has_role(c.relowner, 'USAGE')
FROM reading r JOIN pg_class c ON c.oid = r.oid JOIN pg_namespace n ON n.oid = c.relnamespace
JOIN pg_class u ON u.oid = r.upon JOIN pg_namespace un ON un.oid = u.relnamespace
WHERE c.relkind IN ('r', 'p', 'v', 'm', 'f') ORDER BY 1, 2
"""

_CLOSED = """
SELECT nspname FROM pg_namespace WHERE nspname = ANY(?)
AND NOT (has_schema_privilege(oid, 'CREATE') AND has_schema_privilege(oid, 'USAGE'))
"""


class PostgresCatalogue(PostgresSession):
    """A PostgreSQL database's tables, views and all that belongs to them."""

    def structure(self, schemas: Iterable[str] | None = None) -> dict[str, Table]:
        """Tables and views with their columns, by real name."""
        if schemas is None:
            return self._tables(_OF_USERS, [])
        return self._tables("n.nspname = ANY(?)", [list(schemas)])

    def tables(self, names: Collection[RelationName]) -> dict[str, Table]:
        """Those of some tables and views that exist, with their columns."""
        return self._tables(_NAMED, _asked(names)) if names else {}

    def _tables(self, which: str, values: Sequence[list[str]]) -> dict[str, Table]:
        columns_of: dict[str, list[Column]] = defaultdict(list)
        for schema, table, column, type_, required in self.rows(_COLUMNS.format(which), values):
            kind = normal_type(type_, self.dialect)
            columns_of[f"{schema}.{table}"].append(Column(column, kind, required))
        return {name: Table(name, tuple(columns)) for name, columns in columns_of.items()}

    def definitions(self, schemas: Sequence[str]) -> list[Definition]:
        """The definitions of some schemas, as the server tells them."""
        with whole_names(self):
            return read_definitions(self.rows, schemas)

    def relations(self, schemas: Sequence[str]) -> list[Definition]:
        """Those of tables and views among them."""
        with whole_names(self):
            return read_relations(self.rows, schemas)

    def surroundings(self, schemas: Sequence[str]) -> list[Definition]:
        """Routines, triggers, policies, options, owners and rights of some schemas."""
        with whole_names(self):
            return list(read_surroundings(self.rows, schemas))

    def left_out(self, schema: str) -> list[LeftOut]:
        """Functions, triggers, policies, partitions and the like."""
        with whole_names(self):
            return list(read_left_out(self.rows, schema))

    def rights(self, relations: Collection[str], schemas: Collection[str]) -> Rights:
        """What our role may do, by itself and as a member of others."""
        ((is_superuser, makes_schemas),) = self.rows(
            "SELECT rolsuper, has_database_privilege(current_database(), 'CREATE') FROM pg_roles "
            "WHERE rolname = current_user"
        )
        owned = self.rows(_OWNED, [[quoted(name) for name in relations]])
        return Rights(
            is_superuser=is_superuser,
            makes_schemas=makes_schemas,
            closed_schemas=frozenset(s for (s,) in self.rows(_CLOSED, [list(schemas)])),
            owned=tuple(
                Owned(
                    upon=RelationName(upon),
                    name=RelationName(name),
                    kind="view" if kind in {"v", "m"} else "table",
                    owner=owner,
                    is_ours=is_ours,
                )
                for upon, name, kind, owner, is_ours in owned
            ),
        )

    def kinds(self, names: Collection[RelationName] | None = None) -> Mapping[str, str]:
        """``table`` or ``view`` for all that :meth:`structure` lists, or for those named."""
        if names is not None and not names:
            return {}
        query = _KINDS.format(_OF_USERS if names is None else _NAMED)
        return {
            f"{schema}.{name}": "view" if kind in {"v", "m"} else "table"
            for schema, name, kind in self.rows(query, [] if names is None else _asked(names))
        }

    def tables_in(self, schema: str) -> frozenset[str]:
        """The names of the tables in one schema."""
        named = "SELECT relname FROM pg_class WHERE relkind IN ('r', 'p') AND relnamespace = "
        rows = self.rows(f"{named}(SELECT oid FROM pg_namespace WHERE nspname = ?)", [schema])
        return frozenset(str(name) for (name,) in rows)

    def size(self, name: str) -> int | None:
        """The bytes of a table with its indexes and what is kept out of line."""
        ((size,),) = self.rows("SELECT pg_total_relation_size(to_regclass(?))", [quoted(name)])
        return None if size is None else int(size)

    def about_rows(self, name: str) -> int | None:
        """The statistics' row count of a table of more than a gigabyte."""
        rows = self.rows(
            "SELECT reltuples::bigint, relpages FROM pg_class WHERE oid = to_regclass(?)",
            [quoted(name)],
        )
        return int(rows[0][0]) if rows and rows[0][1] > _BIG else None

    def publications(self, names: Collection[RelationName]) -> list[Definition]:
        """The publications that tables are in by name."""
        kinds = self.kinds(names)
        tables = sorted(name for name in names if kinds.get(name) == "table")
        return [
            Definition(
                thing=Thing.PUBLICATION,
                name=f"{table}.{publication}",
                sql=f"ALTER PUBLICATION {publication} ADD TABLE {quoted(table)}{limits}",
            )
            for table, rows in publications_of(self, tables).items()
            for publication, limits in rows
        ]

    def dependents(self, names: Collection[RelationName]) -> Mapping[str, tuple[str, ...]]:
        """Objects that hang on tables and cannot be carried along, as the server describes them."""
        kinds = self.kinds(names)
        return hanging_on(self, [name for name in names if kinds.get(name) == "table"])


def _asked(names: Collection[RelationName]) -> list[list[str]]:
    return [[name.schema for name in names], [name.table for name in names]]
