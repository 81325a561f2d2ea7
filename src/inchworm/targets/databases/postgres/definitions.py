"""What PostgreSQL says about its schemas, as statements that would make them again.

Everything is read with an empty search path, so that the server writes every name with its schema.
One query says which kinds of things there are; another one for each kind tells them, however many.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Iterator, Sequence
from typing import Any

from inchworm.core.sql.spelling import spelled
from inchworm.core.structure.definitions import Definition, Thing
from inchworm.core.structure.shapes import ColumnShape, TableShape, column_sql

Rows = Callable[[str, Sequence[Any]], list[tuple[Any, ...]]]

_PRESENT = """
WITH asked AS (SELECT oid FROM pg_namespace WHERE nspname = ANY(?)),
relation AS (
  SELECT c.oid, c.relkind FROM pg_class c WHERE c.relnamespace IN (SELECT oid FROM asked)
),
kind AS (SELECT DISTINCT relkind FROM relation)
SELECT CASE relkind WHEN 'c' THEN 'composites' WHEN 'S' THEN 'sequences'
                    WHEN 'i' THEN 'indexes' WHEN 'I' THEN 'indexes'
                    WHEN 'v' THEN 'views' WHEN 'm' THEN 'views' ELSE 'tables' END FROM kind
UNION
SELECT CASE typtype WHEN 'e' THEN 'types' ELSE 'domains' END FROM pg_type
WHERE typtype IN ('e', 'd') AND typnamespace IN (SELECT oid FROM asked)
UNION
SELECT 'constraints' WHERE EXISTS (
  SELECT 1 FROM pg_constraint WHERE conrelid IN (SELECT oid FROM relation))
UNION
SELECT 'comments' WHERE EXISTS (
  SELECT 1 FROM pg_description
  WHERE classoid = 'pg_class'::regclass AND objoid IN (SELECT oid FROM relation))
"""
"""The kinds of things that there are in some schemas."""

_TYPES = """
SELECT n.nspname, t.typname, array_agg(quote_literal(e.enumlabel) ORDER BY e.enumsortorder)
FROM pg_type t JOIN pg_namespace n ON n.oid = t.typnamespace JOIN pg_enum e ON e.enumtypid = t.oid
WHERE n.nspname = ANY(?) GROUP BY 1, 2
"""

_DOMAINS = """
SELECT n.nspname, t.typname, format_type(t.typbasetype, t.typtypmod)
       || coalesce(' COLLATE ' || (
         SELECT quote_ident(ln.nspname) || '.' || quote_ident(l.collname)
         FROM pg_collation l JOIN pg_namespace ln ON ln.oid = l.collnamespace
         WHERE l.oid = t.typcollation AND l.oid <> b.typcollation), '')
       || coalesce(' DEFAULT ' || t.typdefault, '') || CASE WHEN t.typnotnull THEN ' NOT NULL'
       ELSE '' END || coalesce((
         SELECT string_agg(' CONSTRAINT ' || quote_ident(k.conname) || ' '
                           || pg_get_constraintdef(k.oid), '' ORDER BY k.conname)
         FROM pg_constraint k WHERE k.contypid = t.oid AND k.contype = 'c'), ''),
       array(SELECT DISTINCT xn.nspname || '.' || x.typname FROM pg_type x
             JOIN pg_namespace xn ON xn.oid = x.typnamespace WHERE x.oid = t.typbasetype)
FROM pg_type t JOIN pg_namespace n ON n.oid = t.typnamespace JOIN pg_type b ON b.oid = t.typbasetype
WHERE t.typtype = 'd' AND n.nspname = ANY(?)
  AND NOT EXISTS (SELECT 1 FROM pg_depend d WHERE d.objid = t.oid AND d.deptype = 'e')
"""

_COMPOSITES = """
SELECT n.nspname, c.relname, string_agg(
         quote_ident(a.attname) || ' ' || format_type(a.atttypid, a.atttypmod), ', '
         ORDER BY a.attnum),
       array_agg(DISTINCT xn.nspname || '.' || x.typname)
FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
JOIN pg_attribute a ON a.attrelid = c.oid AND a.attnum > 0 AND NOT a.attisdropped
JOIN pg_type x ON x.oid = a.atttypid JOIN pg_namespace xn ON xn.oid = x.typnamespace
WHERE c.relkind = 'c' AND n.nspname = ANY(?)
  AND NOT EXISTS (SELECT 1 FROM pg_depend d WHERE d.objid = c.reltype AND d.deptype = 'e')
GROUP BY 1, 2
"""

_BELONGINGS = """
SELECT n.nspname, c.relname, tn.nspname || '.' || t.relname, quote_ident(tn.nspname) || '.'
       || quote_ident(t.relname) || '.' || quote_ident(a.attname)
FROM pg_depend d JOIN pg_class c ON c.oid = d.objid AND c.relkind = 'S'
JOIN pg_namespace n ON n.oid = c.relnamespace
JOIN pg_class t ON t.oid = d.refobjid JOIN pg_namespace tn ON tn.oid = t.relnamespace
JOIN pg_attribute a ON a.attrelid = t.oid AND a.attnum = d.refobjsubid
WHERE d.classid = 'pg_class'::regclass AND d.refclassid = 'pg_class'::regclass
  AND d.deptype = 'a' AND n.nspname = ANY(?)
"""

_SEQUENCES = """
SELECT n.nspname, c.relname, format_type(s.seqtypid, NULL), s.seqstart, s.seqincrement, s.seqmin,
       s.seqmax, s.seqcycle
FROM pg_sequence s JOIN pg_class c ON c.oid = s.seqrelid
JOIN pg_namespace n ON n.oid = c.relnamespace
WHERE n.nspname = ANY(?) AND NOT EXISTS (
  SELECT 1 FROM pg_depend d
  WHERE d.objid = c.oid AND d.classid = 'pg_class'::regclass AND d.deptype = 'i')
"""

_COLUMNS = """
SELECT n.nspname, c.relname, a.attname, format_type(a.atttypid, a.atttypmod)
         || coalesce(' COLLATE ' || (
           SELECT quote_ident(ln.nspname) || '.' || quote_ident(l.collname)
           FROM pg_collation l JOIN pg_namespace ln ON ln.oid = l.collnamespace
           WHERE l.oid = a.attcollation AND l.oid <> y.typcollation), ''), a.attnotnull,
       pg_get_expr(d.adbin, d.adrelid), a.attidentity, a.attgenerated
FROM pg_attribute a JOIN pg_class c ON c.oid = a.attrelid JOIN pg_type y ON y.oid = a.atttypid
JOIN pg_namespace n ON n.oid = c.relnamespace
LEFT JOIN pg_attrdef d ON d.adrelid = a.attrelid AND d.adnum = a.attnum
WHERE c.relkind IN ('r', 'p') AND a.attnum > 0 AND NOT a.attisdropped AND n.nspname = ANY(?)
ORDER BY n.nspname, c.relname, a.attnum
"""

_CONSTRAINTS = """
SELECT n.nspname, c.relname, quote_ident(k.conname), k.contype, pg_get_constraintdef(k.oid),
       k.convalidated, fn.nspname || '.' || f.relname
FROM pg_constraint k JOIN pg_class c ON c.oid = k.conrelid
JOIN pg_namespace n ON n.oid = c.relnamespace
LEFT JOIN pg_class f ON f.oid = k.confrelid LEFT JOIN pg_namespace fn ON fn.oid = f.relnamespace
WHERE n.nspname = ANY(?) AND k.contype IN ('p', 'u', 'f', 'c', 'x')
ORDER BY n.nspname, c.relname, position(k.contype IN 'pucxf'), k.conname
"""

_INDEXES = """
SELECT n.nspname, i.relname, pg_get_indexdef(x.indexrelid), n.nspname || '.' || c.relname
FROM pg_index x JOIN pg_class i ON i.oid = x.indexrelid JOIN pg_class c ON c.oid = x.indrelid
JOIN pg_namespace n ON n.oid = c.relnamespace
WHERE n.nspname = ANY(?) AND c.relkind IN ('r', 'p') AND NOT EXISTS (
  SELECT 1 FROM pg_constraint k
  WHERE k.conindid = x.indexrelid AND k.contype IN ('p', 'u', 'x'))  -- a foreign key names one, too
"""

_VIEWS = """
SELECT n.nspname, c.relname, c.relkind, pg_get_viewdef(c.oid, true),
       array(SELECT DISTINCT sn.nspname || '.' || sc.relname
             FROM pg_depend d JOIN pg_rewrite r ON r.oid = d.objid
             JOIN pg_class sc ON sc.oid = d.refobjid
             JOIN pg_namespace sn ON sn.oid = sc.relnamespace
             WHERE r.ev_class = c.oid AND d.refclassid = 'pg_class'::regclass AND sc.oid <> c.oid)
FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
WHERE c.relkind IN ('v', 'm') AND n.nspname = ANY(?)
"""

_COMMENTS = """
SELECT n.nspname, c.relname, c.relkind, a.attname, quote_literal(d.description)
FROM pg_description d JOIN pg_class c ON c.oid = d.objoid AND d.classoid = 'pg_class'::regclass
JOIN pg_namespace n ON n.oid = c.relnamespace
LEFT JOIN pg_attribute a ON a.attrelid = c.oid AND a.attnum = d.objsubid AND d.objsubid > 0
WHERE n.nspname = ANY(?) AND c.relkind IN ('r', 'p', 'v', 'm')
"""


def read_definitions(rows: Rows, schemas: Sequence[str]) -> list[Definition]:
    """Types, sequences, tables, constraints, indexes, views and comments of some schemas.

    Args:
        rows: runs a query with values for its ``?``.
        schemas: their real names.
    """
    asked = [list(schemas)]
    present = {kind for (kind,) in rows(_PRESENT, asked)}

    def of(kind: str, query: str) -> list[tuple[Any, ...]]:
        return rows(query, asked) if kind in present else []

    return [
        *_types(of("types", _TYPES)),
        *_domains(of("domains", _DOMAINS)),
        *_composites(of("composites", _COMPOSITES)),
        *_sequences(of("sequences", _SEQUENCES)),
        *_tables(of("tables", _COLUMNS), of("constraints", _CONSTRAINTS)),
        *_belongings(of("sequences", _BELONGINGS)),
        *_indexes(of("indexes", _INDEXES)),
        *_views(of("views", _VIEWS)),
        *_comments(of("comments", _COMMENTS)),
    ]


def read_relations(rows: Rows, schemas: Sequence[str]) -> list[Definition]:
    """Tables and views of some schemas alone.

    Args:
        rows: runs a query with values for its ``?``.
        schemas: their real names.
    """
    asked = [list(schemas)]
    tables = _tables(rows(_COLUMNS, asked), rows(_CONSTRAINTS, asked))
    return [
        *(each for each in tables if each.thing is Thing.TABLE),
        *_views(rows(_VIEWS, asked)),
    ]


def _types(rows: list[tuple[Any, ...]]) -> Iterator[Definition]:
    for schema, name, labels in rows:
        sql = f"CREATE TYPE {_name(schema, name)} AS ENUM ({', '.join(labels)})"
        yield Definition(thing=Thing.TYPE, name=f"{schema}.{name}", sql=sql)


def _domains(rows: list[tuple[Any, ...]]) -> Iterator[Definition]:
    for schema, name, text, needs in rows:
        sql = f"CREATE DOMAIN {_name(schema, name)} AS {text}"
        yield Definition(thing=Thing.TYPE, name=f"{schema}.{name}", sql=sql, needs=tuple(needs))


def _composites(rows: list[tuple[Any, ...]]) -> Iterator[Definition]:
    for schema, name, fields, needs in rows:
        sql = f"CREATE TYPE {_name(schema, name)} AS ({fields})"
        yield Definition(thing=Thing.TYPE, name=f"{schema}.{name}", sql=sql, needs=tuple(needs))


def _belongings(rows: list[tuple[Any, ...]]) -> Iterator[Definition]:
    for schema, name, table, column in rows:
        yield Definition(
            thing=Thing.BELONGING,
            name=f"{schema}.{name}",
            sql=f"ALTER SEQUENCE {_name(schema, name)} OWNED BY {column}",
            needs=(table, f"{schema}.{name}"),
        )


def _sequences(rows: list[tuple[Any, ...]]) -> Iterator[Definition]:
    for schema, name, type_, start, step, least, most, cycles in rows:
        cycle = " CYCLE" if cycles else ""
        sql = (
            f"CREATE SEQUENCE {_name(schema, name)} AS {type_} START WITH {start} "
            f"INCREMENT BY {step} MINVALUE {least} MAXVALUE {most}{cycle}"
        )
        yield Definition(thing=Thing.SEQUENCE, name=f"{schema}.{name}", sql=sql)


def _tables(
    columns: list[tuple[Any, ...]], constraints: list[tuple[Any, ...]]
) -> Iterator[Definition]:
    shapes: dict[tuple[str, str], list[ColumnShape]] = defaultdict(list)
    for schema, table, name, type_, required, expression, identity, generated in columns:
        shapes[schema, table].append(
            ColumnShape(
                name=name,
                type=type_,
                default=None if generated else expression,
                required=required,
                generated=expression if generated else None,
                identity={"a": "always", "d": "by default"}.get(identity, ""),
            )
        )
    inside: dict[tuple[str, str], dict[str, str]] = defaultdict(dict)
    for schema, table, name, kind, text, is_valid, other in constraints:
        if kind != "f" and is_valid:
            inside[schema, table][name] = text
            continue  # any other one is added to a table that is there: NOT VALID counts only then
        sql = f"ALTER TABLE {_name(schema, table)} ADD CONSTRAINT {name} {text}"
        needs = (f"{schema}.{table}", *([other] if other is not None else []))
        full = f"{schema}.{table}.{name}"
        yield Definition(thing=Thing.CONSTRAINT, name=full, sql=sql, needs=needs)
    for (schema, table), those in shapes.items():
        named = inside[schema, table]
        lines = [*map(column_sql, those), *(f"CONSTRAINT {n} {text}" for n, text in named.items())]
        body = ",\n".join(f"  {line}" for line in lines)
        yield Definition(
            thing=Thing.TABLE,
            name=f"{schema}.{table}",
            sql=f"CREATE TABLE {_name(schema, table)} (\n{body}\n)",
            shape=TableShape(columns=tuple(those), constraints=named),
        )


def _indexes(rows: list[tuple[Any, ...]]) -> Iterator[Definition]:
    for schema, name, sql, table in rows:
        yield Definition(thing=Thing.INDEX, name=f"{schema}.{name}", sql=sql, needs=(table,))


def _views(rows: list[tuple[Any, ...]]) -> Iterator[Definition]:
    for schema, name, kind, query, needs in rows:
        what = "MATERIALIZED VIEW" if kind == "m" else "VIEW"
        text = query.strip().removesuffix(";")
        yield Definition(
            thing=Thing.VIEW,
            name=f"{schema}.{name}",
            sql=f"CREATE {what} {_name(schema, name)} AS\n{text}",
            needs=tuple(needs),
        )


def _comments(rows: list[tuple[Any, ...]]) -> Iterator[Definition]:
    on = {"v": "VIEW", "m": "MATERIALIZED VIEW"}
    for schema, table, kind, column, text in rows:
        name = _name(schema, table) + (f".{spelled(column)}" if column else "")
        what = "COLUMN" if column else on.get(kind, "TABLE")
        yield Definition(
            thing=Thing.COMMENT,
            name=f"{schema}.{table}" + (f".{column}" if column else ""),
            sql=f"COMMENT ON {what} {name} IS {text}",
            needs=(f"{schema}.{table}",),
        )


def _name(schema: str, name: str) -> str:
    return f"{spelled(schema)}.{spelled(name)}"
