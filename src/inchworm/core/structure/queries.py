"""The queries by which scripts of a schema make views, and tables with rows of others."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from typing import NamedTuple

from sqlglot import exp

from inchworm.core.lineage.graph import Edge
from inchworm.core.sql.columns import resolve
from inchworm.core.sql.edges import edges_to
from inchworm.core.sql.names import fold, table_name
from inchworm.core.structure.tables import Table


class MadeBy(NamedTuple):
    """A query that makes a relation, and the names that its columns get; its own where none do."""

    query: exp.Query
    columns: tuple[str, ...]


def queries_after(
    statements: Iterable[exp.Expr], before: Mapping[str, MadeBy], dialect: str
) -> dict[str, MadeBy]:
    """The relations that are made by a query once statements have run, with those of before.

    Args:
        statements: of a script.
        before: the relations that scripts before it have left.
        dialect: the dialect that it is written in.
    """
    known = dict(before)
    for statement in statements:
        if isinstance(statement, exp.Create) and isinstance(statement.expression, exp.Query):
            if statement.kind in {"TABLE", "VIEW"}:
                name, columns = named_columns(statement, dialect)
                known[name] = MadeBy(statement.expression, columns)
        elif isinstance(statement, exp.Drop):
            for dropped in statement.args.get("tables") or []:
                if isinstance(dropped, exp.Table):
                    known.pop(table_name(dropped, dialect), None)
        elif isinstance(statement, exp.Alter) and isinstance(statement.this, exp.Table):
            old = table_name(statement.this, dialect)
            for action in statement.args.get("actions") or []:
                if isinstance(action, exp.AlterRename) and old in known:
                    new = fold(action.this.this, dialect)
                    known[f"{old.rpartition('.')[0]}.{new}"] = known.pop(old)
    return known


def named_columns(statement: exp.Create, dialect: str) -> tuple[str, tuple[str, ...]]:
    """The name of what a statement makes by a query, and of its columns where they are listed."""
    target = statement.this
    if not isinstance(target, exp.Schema):
        return table_name(target, dialect), ()
    listed = (each.find(exp.Identifier) for each in target.expressions)
    names = tuple(fold(each, dialect) for each in listed if each is not None)
    return table_name(target.this, dialect), names


def edges_of(name: str, made: MadeBy, tables: Mapping[str, Table], dialect: str) -> Iterator[Edge]:
    """Where the columns of a relation come from that a query makes.

    Args:
        name: the relation's.
        made: the query.
        tables: the tables that it may read.
        dialect: the dialect that it is written in.
    """
    return edges_to(name, resolve(made.query, tables, dialect), made.columns)
