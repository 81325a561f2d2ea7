"""The catalogue of a DuckDB file."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Collection, Iterable, Mapping, Sequence
from typing import Any

from inchworm.core.environments.rights import Rights
from inchworm.core.sql.type_names import normal_type
from inchworm.core.structure.definitions import Definition, Thing
from inchworm.core.structure.left_out import LeftOut
from inchworm.core.structure.tables import Column, Table
from inchworm.targets.databases.duckdb.session import DuckDbSession
from inchworm.targets.databases.quoting import folded, quoted

_HERE = "database_name = current_database()"

_SEQUENCES = f"""
SELECT schema_name, sequence_name, concat_ws(' ', 'CREATE SEQUENCE', '"' || schema_name || '"."'
  || sequence_name || '"', 'START WITH', start_value, 'INCREMENT BY', increment_by, 'MINVALUE',
  min_value, 'MAXVALUE', max_value, CASE WHEN cycle THEN 'CYCLE' ELSE 'NO CYCLE' END)
FROM duckdb_sequences() WHERE {_HERE}
"""  # its own statement starts where the counter stands

_DEFINITIONS = (
    (Thing.SEQUENCE, _SEQUENCES),
    (Thing.TABLE, f"SELECT schema_name, table_name, sql FROM duckdb_tables() WHERE {_HERE}"),
    (
        Thing.VIEW,
        f"SELECT schema_name, view_name, sql FROM duckdb_views() WHERE NOT internal AND {_HERE}",
    ),
)

_INDEXES = f"SELECT schema_name, table_name, index_name, sql FROM duckdb_indexes() WHERE {_HERE}"

_MACROS = f"""
SELECT schema_name, function_name, function_type, array_to_string(parameters, ', '),
       macro_definition
FROM duckdb_functions()
WHERE NOT internal AND macro_definition IS NOT NULL AND {_HERE}
ORDER BY ALL
"""

_COMMENTS = f"""
SELECT schema_name, table_name, NULL, comment FROM duckdb_tables()
WHERE comment IS NOT NULL AND {_HERE}
UNION ALL
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

    def definitions(self, schemas: Sequence[str]) -> list[Definition]:
        """The definitions of some schemas, as DuckDB tells them."""
        definitions: list[Definition] = []
        for thing, query in _DEFINITIONS:
            for schema, name, sql in self.rows(query):
                if schema not in schemas:
                    continue
                text = str(sql).rstrip().removesuffix(";")
                full = folded(schema, name)
                definitions.append(Definition(thing=thing, name=full, sql=text, needs=None))
        for schema, table, name, sql in self.rows(_INDEXES):
            if schema in schemas:
                index = folded(schema, name)
                text = str(sql).rstrip().removesuffix(";")
                needs = (folded(schema, table),)
                definitions.append(Definition(thing=Thing.INDEX, name=index, sql=text, needs=needs))
        for schema, table, column, comment in self.rows(_COMMENTS):
            if schema in schemas:
                on = "COLUMN" if column else "TABLE"
                on_what = folded(schema, table)
                name = quoted(on_what) + (f'."{column}"' if column else "")
                text = str(comment).replace("'", "''")
                definitions.append(
                    Definition(
                        thing=Thing.COMMENT,
                        name=on_what + (f".{column}" if column else ""),
                        sql=f"COMMENT ON {on} {name} IS '{text}'",
                        needs=(on_what,),
                    )
                )
        return definitions

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

    def kinds(self) -> Mapping[str, str]:
        """``table`` or ``view`` for each thing that :meth:`structure` lists."""
        return {
            folded(schema, name): "view" if kind == "VIEW" else "table"
            for schema, name, kind in self.rows(
                "SELECT table_schema, table_name, table_type FROM information_schema.tables "
                "WHERE table_catalog = current_database()"
            )
        }

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

    def publications(self, names: Collection[str]) -> list[Definition]:
        """None: nothing is sent to other servers."""
        return []

    def dependents(self, names: Collection[str]) -> Mapping[str, tuple[str, ...]]:
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
