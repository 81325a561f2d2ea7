"""The catalogue of a DuckDB file."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from typing import Any

from inchworm.core.environments.rights import Rights
from inchworm.core.identifiers import RelationName
from inchworm.core.sql.type_names import normal_type
from inchworm.core.structure.definitions import Definition, Thing
from inchworm.core.structure.left_out import LeftOut
from inchworm.core.structure.tables import Column, Table
from inchworm.targets.databases.duckdb.session import DuckDbSession
from inchworm.targets.databases.quoting import folded, quoted

_HERE = "database_name = current_database()"

_SEQUENCES = f"""
SELECT schema_name, sequence_name, start_value, increment_by, min_value, max_value, cycle
FROM duckdb_sequences() WHERE {_HERE}
"""

_RELATIONS = (
    (
        Thing.TABLE,
        f"SELECT schema_name, table_name, sql, comment FROM duckdb_tables() WHERE {_HERE}",
    ),
    (
        Thing.VIEW,
        "SELECT schema_name, view_name, sql, comment FROM duckdb_views() "
        f"WHERE NOT internal AND {_HERE}",
    ),
)

_KINDS = """
SELECT schema_name, table_name, 'table' FROM duckdb_tables() WHERE {0}
UNION ALL
SELECT schema_name, view_name, 'view' FROM duckdb_views() WHERE NOT internal AND {0}
"""  # the standard's view of both takes half as long again

_INDEXES = f"SELECT schema_name, table_name, index_name, sql FROM duckdb_indexes() WHERE {_HERE}"

_MACROS = f"""
SELECT schema_name, function_name, function_type, array_to_string(parameters, ', '),
       macro_definition
FROM duckdb_functions()
WHERE NOT internal AND macro_definition IS NOT NULL AND {_HERE}
ORDER BY ALL
"""

_COMMENTS = f"""
SELECT schema_name, table_name, column_name, comment FROM duckdb_columns()
WHERE comment IS NOT NULL AND NOT internal AND {_HERE}
"""


class DuckDbCatalogue(DuckDbSession):
    """The tables and views of a DuckDB file."""

    def structure(self, schemas: Iterable[str] | None = None) -> dict[str, Table]:
        """Tables and views with their columns, by real name."""
        columns_of: dict[str, list[Column]] = defaultdict(list)
        chosen = None if schemas is None else list(schemas)
        only = "" if chosen is None else "AND list_contains(?, schema_name) "
        for schema, table, column, type_, nullable in self.rows(
            "SELECT schema_name, table_name, column_name, data_type, is_nullable "
            "FROM duckdb_columns() WHERE NOT internal AND database_name = current_database() "
            f"{only}ORDER BY schema_name, table_name, column_index",
            [] if chosen is None else [chosen],
        ):
            kind = normal_type(type_, "duckdb")
            columns_of[folded(schema, table)].append(Column(column, kind, not nullable))
        return {name: Table(name, tuple(columns)) for name, columns in columns_of.items()}

    def tables(self, names: Collection[RelationName]) -> dict[str, Table]:
        """Those of some tables and views that exist, with their columns."""
        tables = self.structure({name.schema for name in names}) if names else {}
        return {name: tables[name] for name in names if name in tables}

    def definitions(self, schemas: Sequence[str]) -> list[Definition]:
        """The definitions of some schemas, as DuckDB tells them."""
        if not schemas:
            return []
        definitions = [_sequence(*row) for row in self.rows(_SEQUENCES) if row[0] in schemas]
        comments = []
        for relation, comment in self._commented(schemas):
            definitions.append(relation)
            if comment is not None and relation.thing is Thing.TABLE:
                comments.append(_comment(relation.name, None, comment))
        for schema, table, name, sql in self.rows(_INDEXES):
            if schema in schemas:
                index, needs = folded(schema, name), (folded(schema, table),)
                definitions.append(
                    Definition(thing=Thing.INDEX, name=index, sql=_statement(sql), needs=needs)
                )
        comments += [
            _comment(folded(schema, table), column, comment)
            for schema, table, column, comment in self.rows(_COMMENTS)
            if schema in schemas
        ]
        return definitions + comments

    def relations(self, schemas: Sequence[str]) -> list[Definition]:
        """Those of tables and views among them."""
        return [relation for relation, _ in self._commented(schemas)]

    def _commented(self, schemas: Sequence[str]) -> Iterator[tuple[Definition, str | None]]:
        """Tables and views, each with the comment on it."""
        for thing, query in _RELATIONS:
            for schema, name, sql, comment in self.rows(query):
                if schema in schemas:
                    full, text = folded(schema, name), _statement(sql)
                    yield Definition(thing=thing, name=full, sql=text, needs=None), comment

    def surroundings(self, schemas: Sequence[str]) -> list[Definition]:
        """Macros: DuckDB has neither rights nor triggers."""
        macros: dict[str, list[str]] = defaultdict(list)
        for schema, name, kind, parameters, body in self._all_macros():
            if schema in schemas:
                table = "TABLE " if kind == "table_macro" else ""
                macros[f"{schema}.{name}"].append(f"({parameters}) AS {table}{body}")
        return [
            Definition(
                thing=Thing.ROUTINE,
                name=name,
                sql=f"CREATE MACRO {quoted(name)}{', '.join(bodies)}",
            )
            for name, bodies in macros.items()
        ]

    def _all_macros(self) -> list[tuple[Any, ...]]:
        """Every macro, read once: DuckDB lists thousands of its own functions with them."""
        if not self._macros:
            self._macros.append(self.rows(_MACROS))
        return self._macros[0]

    def left_out(self, schema: str) -> list[LeftOut]:
        """Macros."""
        return [
            LeftOut(kind=each.thing.value, name=each.name.partition(".")[2])
            for each in self.surroundings([schema])
        ]

    def rights(self, relations: Collection[str], schemas: Collection[str]) -> Rights:
        """No more and no less than whoever may write the file."""
        return Rights()

    def kinds(self, names: Collection[RelationName] | None = None) -> Mapping[str, str]:
        """``table`` or ``view`` for all that :meth:`structure` lists, or for those named."""
        if names is None:
            listed = self.rows(_KINDS.format(_HERE))
        else:  # of some schemas DuckDB tells in a fraction of the time that all take
            schemas = list({name.schema for name in names})
            listed = self.rows(
                _KINDS.format(f"{_HERE} AND list_contains($1, schema_name)"), [schemas]
            )
        kinds = {folded(schema, name): kind for schema, name, kind in listed}
        return kinds if names is None else {n: kinds[n] for n in names if n in kinds}

    def tables_in(self, schema: str) -> frozenset[str]:
        """The names of the tables in one schema."""
        named = f"SELECT table_name FROM duckdb_tables() WHERE schema_name = ? AND {_HERE}"
        return frozenset(str(name) for (name,) in self.rows(named, [schema]))

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
        """Nothing: indexes are made again, and views of DuckDB read by name."""
        return {}

    def _indexes(self) -> Mapping[str, Mapping[str, str]]:
        """The statement of each index, by table. DuckDB refuses to rename a table that has one."""
        statements: dict[str, dict[str, str]] = defaultdict(dict)
        for schema, table, index, sql in self.rows(
            "SELECT schema_name, table_name, index_name, sql FROM duckdb_indexes() "
            "WHERE database_name = current_database()"
        ):
            statements[folded(schema, table)][folded(schema, index)] = sql
        return statements


def _sequence(
    schema: str, name: str, start: int, step: int, least: int, most: int, is_cycle: bool
) -> Definition:
    """A sequence as it was made: what DuckDB tells of it starts where the counter stands."""
    sql = (
        f'CREATE SEQUENCE "{schema}"."{name}" START WITH {start} INCREMENT BY {step} '
        f"MINVALUE {least} MAXVALUE {most} {'CYCLE' if is_cycle else 'NO CYCLE'}"
    )
    return Definition(thing=Thing.SEQUENCE, name=folded(schema, name), sql=sql, needs=None)


def _comment(table: str, column: str | None, comment: str) -> Definition:
    """The comment on a table, or on one of its columns."""
    on, name, is_on = "TABLE", table, quoted(table)
    if column is not None:
        on, name, is_on = "COLUMN", f"{table}.{column}", f'{is_on}."{column}"'
    text = comment.replace("'", "''")
    sql = f"COMMENT ON {on} {is_on} IS '{text}'"
    return Definition(thing=Thing.COMMENT, name=name, sql=sql, needs=(table,))


def _statement(sql: str) -> str:
    """A statement as DuckDB tells it, without what ends it."""
    return sql.rstrip().removesuffix(";")
