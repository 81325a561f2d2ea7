"""Queries over tables that have other names: in an environment, beside what is live, or as CTEs.

A column may name its table with the schema (``x.t.n``), without it (``t.n``), or not at all. What
it means is decided by the nearest query around it that has such a table; that has to stay so, also
where two tables of one name stand in different schemas.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import NamedTuple, TypeVar

from msgspec import Struct, field
from sqlglot import exp

from inchworm.core.sql.names import fold, table_name

E = TypeVar("E", bound=exp.Expr)


class NewName(NamedTuple):
    """The name that a table has; the schema is empty for a CTE."""

    schema: str
    table: str


class _Names(Struct):
    """The tables and other sources that one query has between FROM and WHERE.

    Attributes:
        by_bare_name: what ``t`` means; a source that is no plain table of a schema is None.
        by_full_name: the table that ``x.t`` means.
    """

    by_bare_name: dict[str, exp.Table | None] = field(default_factory=dict)
    by_full_name: dict[str, exp.Table] = field(default_factory=dict)


def with_tables(query: E, physical_name: Callable[[str], str], dialect: str) -> E:
    """A copy of the query that reads each ``schema.table`` under the name it really has."""

    def new_name(logical: str) -> NewName | None:
        physical = physical_name(logical)
        schema, _, table = physical.rpartition(".")
        return None if physical == logical else NewName(schema, table)

    return with_new_names(query, new_name, dialect)


def with_new_names(query: E, new_name: Callable[[str], NewName | None], dialect: str) -> E:
    """A copy of the query that reads some tables under other names, and gives what it gave.

    A renamed table keeps its old name as alias, so that its columns are found; where another table
    or alias has the same name, it gets an alias of its own.

    Args:
        query: the query, or a condition in which there are queries.
        new_name: the new name of a table by its logical ``schema.table``; None where it stays.
        dialect: of the query.
    """
    copy: E = query.copy()
    tables = {id(t): t for t in copy.find_all(exp.Table) if _is_of_schema(t)}
    logical = {key: table_name(table, dialect) for key, table in tables.items()}
    renamed = {key: name for key in tables if (name := new_name(logical[key])) is not None}
    if not renamed:
        return copy
    scopes = _scopes(copy, logical, dialect)
    meant = [(column, _meant(column, scopes, dialect)) for column in copy.find_all(exp.Column)]
    aliases = _aliases(copy, tables, logical, renamed, dialect)
    for column, (table, parts) in meant:
        if table is not None and id(table) in renamed:
            _qualify(column, aliases[id(table)], parts)
    for key, name in renamed.items():
        table = tables[key]
        if key in aliases:
            alias = table.args.get("alias") or exp.TableAlias()
            alias.set("this", aliases[key].copy())
            table.set("alias", alias)
        table.set("this", exp.to_identifier(name.table, quoted=True))
        schema = exp.to_identifier(name.schema, quoted=True) if name.schema else None
        table.set("db", schema)
    return copy


def _is_of_schema(table: exp.Table) -> bool:
    """Whether it is ``schema.table``; in other catalogues the names are not ours."""
    is_plain = isinstance(table.this, exp.Identifier) and bool(table.args.get("db"))
    return is_plain and table.args.get("catalog") is None


def _scopes(query: exp.Expr, logical: dict[int, str], dialect: str) -> dict[int, _Names]:
    """What names mean in each query, by the identity of its node."""
    scopes: dict[int, _Names] = {}
    for source in query.find_all(exp.Table, exp.Subquery, exp.UDTF):
        names = scopes.setdefault(id(source.find_ancestor(exp.Select)), _Names())
        if alias := _alias(source, dialect):
            names.by_bare_name[alias] = None
        elif isinstance(source, exp.Table) and id(source) in logical:
            names.by_bare_name.setdefault(_bare(source, dialect), source)
            names.by_full_name.setdefault(logical[id(source)], source)
        elif isinstance(source, exp.Table) and isinstance(source.this, exp.Identifier):
            names.by_bare_name[_bare(source, dialect)] = None
    return scopes


def _alias(source: exp.Expr, dialect: str) -> str:
    """The alias of a table or another source; empty where it has none."""
    alias = source.args.get("alias")
    named = alias.this if isinstance(alias, exp.TableAlias) else alias
    return fold(named, dialect) if isinstance(named, exp.Identifier) else str(named or "").lower()


def _bare(table: exp.Table, dialect: str) -> str:
    return fold(table.this, dialect)


def _meant(
    column: exp.Column, scopes: dict[int, _Names], dialect: str
) -> tuple[exp.Table | None, list[exp.Expr]]:
    """The table that a column names without an alias, and the pieces of its name behind that."""
    pieces = list(column.parts)
    if len(pieces) < 2 or not isinstance(pieces[0], exp.Identifier):
        return None, pieces
    bare = fold(pieces[0], dialect)
    full = ""
    if len(pieces) > 2 and isinstance(pieces[1], exp.Identifier):
        full = f"{bare}.{fold(pieces[1], dialect)}"
    for names in _around(column, scopes):
        if full in names.by_full_name:
            return names.by_full_name[full], pieces[2:]
        if bare in names.by_bare_name:
            return names.by_bare_name[bare], pieces[1:]
    return None, pieces


def _around(column: exp.Column, scopes: dict[int, _Names]) -> Iterator[_Names]:
    """What names mean in the queries around a column, the nearest first."""
    at: exp.Expr | None = column
    while at is not None:
        at = at.find_ancestor(exp.Select)
        if id(at) in scopes:
            yield scopes[id(at)]


def _aliases(
    query: exp.Expr,
    tables: dict[int, exp.Table],
    logical: dict[int, str],
    renamed: dict[int, NewName],
    dialect: str,
) -> dict[int, exp.Identifier]:
    """The alias by which the columns of each renamed table are found that has none."""
    named: dict[str, set[str]] = {}
    for source in query.find_all(exp.Table, exp.Subquery, exp.UDTF):
        if alias := _alias(source, dialect):
            named.setdefault(alias, set()).add("")
        elif isinstance(source, exp.Table) and isinstance(source.this, exp.Identifier):
            full = logical.get(id(source), "")
            named.setdefault(_bare(source, dialect), set()).add(full)
    aliases: dict[int, exp.Identifier] = {}
    for number, key in enumerate(renamed, start=1):
        table = tables[key]
        if _alias(table, dialect):
            continue
        if named[_bare(table, dialect)] == {logical[key]}:
            aliases[key] = table.this.copy()
        else:
            # the number comes first, as PostgreSQL cuts the ends of long names off
            aliases[key] = exp.to_identifier(f"{number} {table.name}", quoted=True)
    return aliases


def _qualify(column: exp.Column, alias: exp.Identifier, pieces: list[exp.Expr]) -> None:
    """Have a column name its table by an alias."""
    whole = [alias.copy(), *pieces]
    for key, piece in zip(("this", "table", "db", "catalog"), reversed(whole), strict=False):
        column.set(key, piece)
    for key in ("catalog", "db", "table")[: 4 - len(whole)]:
        column.set(key, None)
