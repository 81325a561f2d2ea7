"""The catalogue of SQLite files."""

from __future__ import annotations

import sqlite3
from collections.abc import Collection, Iterable, Mapping, Sequence

from inchworm.core.environments.rights import Rights
from inchworm.core.identifiers import RelationName
from inchworm.core.sql.problems import SqlProblem
from inchworm.core.sql.type_names import normal_type
from inchworm.core.structure.definitions import Definition, Thing
from inchworm.core.structure.left_out import LeftOut
from inchworm.core.structure.tables import UNKNOWN_TYPE, Column, Table
from inchworm.targets.databases.quoting import folded, quoted, quoted_one
from inchworm.targets.databases.sqlite.session import SqliteSession

_TRIGGER = "CREATE TRIGGER "
_TELLS_SHADOWS = (3, 37, 0)
"""The first version of SQLite that tells the tables of virtual tables apart."""


class SqliteCatalogue(SqliteSession):
    """The tables and views of SQLite files."""

    def structure(self, schemas: Iterable[str] | None = None) -> dict[str, Table]:
        """Tables and views with their columns, by real name."""
        chosen = None if schemas is None else set(schemas)
        names = map(RelationName, self.kinds())
        return self._tables(n for n in names if chosen is None or n.schema in chosen)

    def tables(self, names: Collection[RelationName]) -> dict[str, Table]:
        """Those of some tables and views that exist, with their columns."""
        return self._tables(map(RelationName, self.kinds(names)))

    def _tables(self, names: Iterable[RelationName]) -> dict[str, Table]:
        tables: dict[str, Table] = {}
        for name in names:
            schema, _, table = name.partition(".")
            columns = self.rows(f"PRAGMA {quoted(schema)}.table_info({quoted_text(table)})")
            tables[name] = Table(
                name,
                tuple(
                    Column(column, _type(kind), bool(required))
                    for _, column, kind, required, _, _ in columns
                ),
            )
        return tables

    def definitions(self, schemas: Sequence[str]) -> list[Definition]:
        """The definitions of some schemas: SQLite keeps the statements as they were written."""
        definitions: list[Definition] = []
        for schema in schemas:
            if schema not in self._schemas():
                continue
            shadows = self._shadows(schema)
            for kind, name, sql, table in self.rows(
                f"SELECT type, name, sql, tbl_name FROM {quoted(schema)}.sqlite_master "
                "WHERE sql IS NOT NULL AND name NOT LIKE 'sqlite_%' "
                "AND type IN ('table', 'index', 'view')"
            ):
                if name in shadows:
                    continue
                whole = _with_schema(str(sql), schema)
                definitions.append(
                    Definition(
                        thing=Thing(kind),
                        name=folded(schema, name),
                        sql=whole,
                        needs=(folded(schema, table),) if kind == "index" else None,
                    )
                )
        return definitions

    def relations(self, schemas: Sequence[str]) -> list[Definition]:
        """Those of tables and views among them."""
        return [each for each in self.definitions(schemas) if each.thing.is_relation]

    def surroundings(self, schemas: Sequence[str]) -> list[Definition]:
        """Triggers: SQLite has neither rights nor code."""
        return [
            Definition(
                thing=Thing.TRIGGER,
                name=f"{folded(schema, table)}.{name}",
                # it is kept without the name of its file
                sql=f"{_TRIGGER}{quoted_one(schema)}.{str(sql).removeprefix(_TRIGGER)}",
            )
            for schema in schemas
            if schema in self._schemas()
            for name, table, sql in self.rows(
                f"SELECT name, tbl_name, sql FROM {quoted(schema)}.sqlite_master "
                "WHERE type = 'trigger'"
            )
        ]

    def left_out(self, schema: str) -> list[LeftOut]:
        """Triggers."""
        return [
            LeftOut(kind=each.thing.value, name=each.name.partition(".")[2])
            for each in self.surroundings([schema])
        ]

    def rights(self, relations: Collection[str], schemas: Collection[str]) -> Rights:
        """No more and no less than whoever may write the file."""
        return Rights()

    def kinds(self, names: Collection[RelationName] | None = None) -> Mapping[str, str]:
        """``table`` or ``view`` for all that :meth:`structure` lists, or for those named."""
        kinds_of: dict[str, str] = {}
        schemas = None if names is None else {name.schema for name in names}
        for schema in self._schemas():
            if schemas is not None and schema not in schemas:
                continue
            shadows = self._shadows(schema)
            for name, kind in self.rows(
                f"SELECT name, type FROM {quoted(schema)}.sqlite_master "
                "WHERE type IN ('table', 'view') AND name NOT LIKE 'sqlite_%'"
            ):
                if name not in shadows:
                    kinds_of[folded(schema, name)] = kind
        return kinds_of if names is None else {n: kinds_of[n] for n in names if n in kinds_of}

    def tables_in(self, schema: str) -> frozenset[str]:
        """The names of the tables in one schema."""
        if schema not in self._schemas():
            return frozenset()
        named = f"SELECT name FROM {quoted(schema)}.sqlite_master WHERE type = 'table'"
        return frozenset(str(name) for (name,) in self.rows(named))

    def _shadows(self, schema: str) -> frozenset[str]:
        """Tables in which a virtual table keeps what it has; they come and go with it."""
        if sqlite3.sqlite_version_info < _TELLS_SHADOWS:
            return frozenset()
        asked = "SELECT name FROM pragma_table_list WHERE schema = ? AND type = 'shadow'"
        return frozenset(name for (name,) in self.rows(asked, [schema]))

    def size(self, name: str) -> int | None:
        """None: it is not told of a table by itself."""
        return None

    def about_rows(self, name: str) -> int | None:
        """None: in a file there is nothing that cannot be counted."""
        return None

    def publications(self, names: Collection[RelationName]) -> list[Definition]:
        """None: nothing is sent to other servers."""
        return []

    def dependents(self, names: Collection[RelationName]) -> Mapping[str, tuple[str, ...]]:
        """Nothing: triggers and indexes are made again, and all else of SQLite goes by name."""
        return {}


def quoted_text(text: str) -> str:
    """A text in single quotes."""
    return "'" + text.replace("'", "''") + "'"


def _with_schema(sql: str, schema: str) -> str:
    """A statement as SQLite keeps it, with the schema before the name of what it makes."""
    from sqlglot import exp

    from inchworm.core.sql.parse import parse_statements

    try:
        (tree,) = parse_statements(sql, "sqlite")
    except (SqlProblem, ValueError):
        return sql
    made = tree.find(exp.Index if tree.args.get("kind") == "INDEX" else exp.Table)
    if made is None:
        return sql
    target = made.this if isinstance(made, exp.Index) else made
    if isinstance(target, exp.Table):
        target.set("db", exp.to_identifier(schema))
    elif isinstance(target, exp.Identifier):
        made.set("this", exp.table_(target, db=schema))
    return str(tree.sql(dialect="sqlite"))


def _type(declared: str) -> str:
    return normal_type(declared, "sqlite") if declared else UNKNOWN_TYPE
