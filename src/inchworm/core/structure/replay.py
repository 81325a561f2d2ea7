"""The tables that a script of DDL statements leaves behind, worked out without a database."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from sqlglot import exp

from inchworm.core.sql.columns import resolve
from inchworm.core.sql.names import fold, line_of, table_name
from inchworm.core.sql.type_names import normal_type
from inchworm.core.structure.tables import UNKNOWN_TYPE, Column, Table


@dataclass(frozen=True, kw_only=True)
class ReplayNote:
    """A statement that could not be followed, and why."""

    message: str
    line: int | None


def replay(
    statements: list[exp.Expr], tables: Mapping[str, Table], dialect: str
) -> tuple[dict[str, Table], list[ReplayNote]]:
    """The tables after running ``statements`` on ``tables``.

    Data changes and indexes leave the structure as it is. A statement that is not understood makes
    no change and gives a note.
    """
    known = dict(tables)
    notes: list[ReplayNote] = []
    for statement in statements:
        match statement:
            case exp.Create() if statement.kind in {"TABLE", "VIEW"}:
                _create(statement, known, dialect)
            case exp.Drop() if statement.args.get("kind") in {"TABLE", "VIEW"}:
                for dropped in _dropped(statement):
                    known.pop(table_name(dropped, dialect), None)
            case exp.Alter():
                _alter(statement, known, notes, dialect)
            case exp.Command():
                first = str(statement.this).upper()
                notes.append(
                    ReplayNote(message=f"{first} is not followed", line=line_of(statement))
                )
    return known, notes


def _create(statement: exp.Create, known: dict[str, Table], dialect: str) -> None:
    target = statement.this
    named = target.this if isinstance(target, exp.Schema) else target
    name = table_name(named, dialect)
    if statement.args.get("exists") and name in known:
        return
    if isinstance(statement.expression, exp.Query):
        result = resolve(statement.expression, known, dialect)
        columns = tuple(Column(column.name, column.type) for column in result.columns)
        known[name] = Table(name, columns, open=result.open)
        return
    keys = {
        fold(column.this if isinstance(column, exp.Ordered) else column, dialect)
        for key in target.find_all(exp.PrimaryKey)
        for column in (
            e.this if isinstance(e, exp.Ordered | exp.Column) else e for e in key.expressions
        )
        if isinstance(column, exp.Identifier)
    }
    definitions = target.expressions if isinstance(target, exp.Schema) else []
    columns = tuple(
        _column(definition, keys, dialect)
        for definition in definitions
        if isinstance(definition, exp.ColumnDef)
    )
    known[name] = Table(name, columns, open=not columns)


def _column(definition: exp.ColumnDef, keys: set[str], dialect: str) -> Column:
    name = fold(definition.this, dialect)
    kind = definition.args.get("kind")
    type_ = normal_type(kind.sql(dialect=dialect), dialect) if kind is not None else UNKNOWN_TYPE
    required = name in keys
    for constraint in definition.args.get("constraints") or []:
        match constraint.kind:
            case exp.PrimaryKeyColumnConstraint():
                required = True
            case exp.NotNullColumnConstraint():
                required = required or not constraint.kind.args.get("allow_null")
    return Column(name, type_, required)


def _alter(
    statement: exp.Alter, known: dict[str, Table], notes: list[ReplayNote], dialect: str
) -> None:
    name = table_name(statement.this, dialect)
    table = known.get(name)
    if table is None:
        notes.append(
            ReplayNote(message=f"{name} is altered but not known", line=line_of(statement))
        )
        return
    for action in statement.args.get("actions") or []:
        columns = list(table.columns)
        match action:
            case exp.ColumnDef():
                columns.append(_column(action, set(), dialect))
            case exp.Drop() if action.args.get("kind") == "COLUMN":
                gone = {_identifier(column, dialect) for column in _dropped(action)}
                columns = [column for column in columns if column.name not in gone]
            case exp.RenameColumn():
                old, new = (
                    _identifier(action.this, dialect),
                    _identifier(action.args["to"], dialect),
                )
                columns = [Column(new, c.type, c.required) if c.name == old else c for c in columns]
            case exp.AlterColumn():
                columns = [_altered(c, action, dialect) for c in columns]
            case exp.AlterRename():
                known.pop(name, None)
                renamed = table_name(action.this, dialect)
                name = renamed if "." in renamed else f"{table.schema}.{renamed}"
        table = Table(name, tuple(columns), table.open)
        known[name] = table


def _dropped(action: exp.Drop) -> list[Any]:
    """The tables or columns that a DROP names."""
    return list(action.args.get("tables") or ([action.this] if action.this else []))


def _altered(column: Column, action: exp.AlterColumn, dialect: str) -> Column:
    if _identifier(action.this, dialect) != column.name:
        return column
    kind = action.args.get("dtype")
    type_ = normal_type(kind.sql(dialect=dialect), dialect) if kind is not None else column.type
    allow_null = action.args.get("allow_null")
    required = column.required if allow_null is None else not allow_null
    return Column(column.name, type_, required)


def _identifier(node: exp.Expr, dialect: str) -> str:
    while not isinstance(node, exp.Identifier) and isinstance(node.this, exp.Expr):
        node = node.this
    return fold(node, dialect) if isinstance(node, exp.Identifier) else ""
