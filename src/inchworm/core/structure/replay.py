"""The tables that a script of DDL statements leaves behind, worked out without a database."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from itertools import zip_longest
from typing import Any

from msgspec import Struct
from msgspec.structs import replace
from sqlglot import exp

from inchworm.core.sql.columns import resolve
from inchworm.core.sql.names import fold, line_of, table_name
from inchworm.core.sql.type_names import normal_type
from inchworm.core.structure.queries import named_columns
from inchworm.core.structure.tables import UNKNOWN_TYPE, Column, Table


class ReplayNote(Struct, frozen=True, kw_only=True):
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
            case exp.Create(this=exp.Index() as index) if statement.args.get("unique"):
                _unique_index(index, known, dialect)
            case exp.Command():
                first = str(statement.this).upper()
                notes.append(
                    ReplayNote(message=f"{first} is not followed", line=line_of(statement))
                )
    return known, notes


def tables_made(statements: Iterable[exp.Expr], dialect: str) -> Iterator[str]:
    """The tables that statements make with columns of their own, in order."""
    for statement in statements:
        made = statement.this if isinstance(statement, exp.Create) else None
        if isinstance(made, exp.Schema) and isinstance(made.this, exp.Table):
            yield table_name(made.this, dialect)


def _unique_index(index: exp.Index, known: dict[str, Table], dialect: str) -> None:
    """A unique index on required columns of a table that has no key makes one."""
    on, params = index.args.get("table"), index.args.get("params")
    if not isinstance(on, exp.Table) or params is None or params.args.get("where") is not None:
        return
    table = known.get(table_name(on, dialect))
    columns = [_identifier(each, dialect) for each in params.args.get("columns") or []]
    if table is None or table.key or not columns:
        return
    required = {column.name for column in table.columns if column.required}
    if required.issuperset(columns):
        known[table.name] = replace(table, key=tuple(columns))


def _create(statement: exp.Create, known: dict[str, Table], dialect: str) -> None:
    target = statement.this
    named = target.this if isinstance(target, exp.Schema) else target
    name = table_name(named, dialect)
    if statement.args.get("exists") and name in known:
        return
    if isinstance(statement.expression, exp.Query):
        result = resolve(statement.expression, known, dialect)
        _, names = named_columns(statement, dialect)
        listed = zip_longest(result.columns, names[: len(result.columns)])
        columns = tuple(Column(name or column.name, column.type) for column, name in listed)
        known[name] = Table(name, columns, open=result.open)
        return
    primary = {name for key in _keys(target, exp.PrimaryKey, dialect) for name in key}
    definitions = target.expressions if isinstance(target, exp.Schema) else []
    columns = tuple(
        _column(definition, primary, dialect)
        for definition in definitions
        if isinstance(definition, exp.ColumnDef)
    )
    known[name] = _with_key(Table(name, columns, open=not columns), target, dialect)


def _with_key(table: Table, declared: exp.Expr, dialect: str) -> Table:
    """The table with the key that constraints give it, its primary one before others."""
    keys = [
        *_keys(declared, exp.PrimaryKey, dialect),
        *_inline(declared, exp.PrimaryKeyColumnConstraint, dialect),
        *_keys(declared, exp.UniqueColumnConstraint, dialect),
        *_inline(declared, exp.UniqueColumnConstraint, dialect),
        *([table.key] if table.key else []),
    ]
    required = {column.name for column in table.columns if column.required}
    fitting = (key for key in keys if key and required.issuperset(key))
    return replace(table, key=next(fitting, ()))


def _keys(declared: exp.Expr, kind: type[exp.Expr], dialect: str) -> Iterator[tuple[str, ...]]:
    """The columns of each constraint of a kind that stands by itself."""
    for key in declared.find_all(kind):
        listed = key.this if isinstance(key.this, exp.Schema) else key
        names = [_identifier(each, dialect) for each in listed.expressions]
        if names and all(names):
            yield tuple(names)


def _inline(declared: exp.Expr, kind: type[exp.Expr], dialect: str) -> Iterator[tuple[str, ...]]:
    """The column of each constraint of a kind that stands at a column."""
    for definition in declared.find_all(exp.ColumnDef):
        constraints = definition.args.get("constraints") or []
        if any(isinstance(constraint.kind, kind) for constraint in constraints):
            yield (fold(definition.this, dialect),)


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
                key = tuple(new if name == old else name for name in table.key)
                table = replace(table, key=key)
            case exp.AlterColumn():
                columns = [_altered(c, action, dialect) for c in columns]
            case exp.AlterRename():
                known.pop(name, None)
                renamed = table_name(action.this, dialect)
                name = renamed if "." in renamed else f"{table.schema}.{renamed}"
            case exp.AddConstraint():
                primary = {c for key in _keys(action, exp.PrimaryKey, dialect) for c in key}
                columns = [replace(c, required=c.required or c.name in primary) for c in columns]
        table = Table(name, tuple(columns), table.open, table.key)
        known[name] = table = _with_key(table, action, dialect)


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
