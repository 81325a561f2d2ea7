"""Rules about single migrations: what goes wrong with tables that have rows, and readers."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from typing import NamedTuple

from sqlglot import exp

from inchworm.core.checks import rules
from inchworm.core.sql.names import fold, line_of, table_name
from inchworm.core.structure.tables import Table


class Concern(NamedTuple):
    """A finding about a statement, with its line."""

    rule: rules.Rule
    message: str
    line: int | None


def concerns(
    statements: Sequence[exp.Expr], before: Mapping[str, Table], dialect: str
) -> Iterator[Concern]:
    """What is to be said about a migration.

    Args:
        statements: its statements, in order.
        before: the tables as they are before it, by name.
        dialect: the dialect that it is written in.
    """
    made: set[str] = set()
    for statement in statements:
        if isinstance(statement, exp.Create):
            target = statement.find(exp.Table)
            if statement.kind == "TABLE" and target is not None:
                made.add(table_name(target, dialect))
            elif statement.kind == "INDEX" and dialect == "postgres":
                yield from _index(statement, made, dialect)
        elif isinstance(statement, exp.Update | exp.Delete | exp.TruncateTable):
            yield from _all_rows(statement, made, dialect)
        elif isinstance(statement, exp.Alter):
            yield from _alteration(statement, made, dialect)
    yield from _renames(statements, before, dialect)


def outside_transactions(statements: Sequence[exp.Expr], *, in_one: bool) -> Iterator[Concern]:
    """What is to be said about statements that do not go together with a transaction.

    ``in_one`` says whether the migration runs in one.
    """
    if in_one:
        for statement in statements:
            if _is_concurrent(statement):
                message = "builds an index without blocking, which no transaction can do"
                yield Concern(rules.NEEDS_NO_TRANSACTION, message, line_of(statement))
        return
    if len(statements) != 1:
        message = f"has {len(statements)} statements outside a transaction"
        yield Concern(
            rules.NOT_RESTARTABLE, message, line_of(statements[1]) if statements else None
        )
    for statement in statements:
        is_definition = isinstance(statement, exp.Create | exp.Drop)
        if is_definition and not statement.args.get("exists"):
            message = "would fail if it ran again after a crash"
            yield Concern(rules.NOT_RESTARTABLE, message, line_of(statement))


def _is_concurrent(statement: exp.Expr) -> bool:
    return isinstance(statement, exp.Create | exp.Drop) and bool(statement.args.get("concurrently"))


def _all_rows(statement: exp.Expr, made: set[str], dialect: str) -> Iterator[Concern]:
    is_truncated = isinstance(statement, exp.TruncateTable)
    targets = statement.expressions if is_truncated else [statement.find(exp.Table)]
    what = "changes" if isinstance(statement, exp.Update) else "empties"
    for target in targets:
        name = table_name(target, dialect) if isinstance(target, exp.Table) else ""
        if statement.args.get("where") is None and name not in made:
            message = f"{what} all rows of {name}"
            yield Concern(rules.WITHOUT_CONDITION, message, line_of(statement))


def _index(statement: exp.Create, made: set[str], dialect: str) -> Iterator[Concern]:
    target = statement.find(exp.Table)
    name = table_name(target, dialect) if target is not None else ""
    if not statement.args.get("concurrently") and name not in made:
        message = f"makes an index on {name} while nobody can write to it"
        yield Concern(rules.BLOCKS_OTHERS, message, line_of(statement))


def _alteration(statement: exp.Alter, made: set[str], dialect: str) -> Iterator[Concern]:
    if not isinstance(statement.this, exp.Table):
        return
    name = table_name(statement.this, dialect)
    if name in made:
        return
    for action in statement.args.get("actions") or []:
        if isinstance(action, exp.ColumnDef):
            kinds = {type(constraint.kind) for constraint in action.constraints}
            is_filled = {exp.DefaultColumnConstraint, exp.GeneratedAsIdentityColumnConstraint}
            if exp.NotNullColumnConstraint in kinds and not kinds & is_filled:
                column = fold(action.this, dialect)
                message = f"adds the required column {column} to {name} without a default"
                yield Concern(rules.REQUIRED_WITHOUT_DEFAULT, message, line_of(action))
        elif dialect == "postgres" and isinstance(action, exp.AlterColumn):
            if action.args.get("dtype") is None:
                continue
            column = fold(action.this, dialect)
            message = f"writes all of {name} anew to change the type of {column}"
            yield Concern(rules.BLOCKS_OTHERS, message, line_of(action))


def _renames(
    statements: Sequence[exp.Expr], before: Mapping[str, Table], dialect: str
) -> Iterator[Concern]:
    """A column that goes, and one of the same type that comes: its values would be lost."""
    gone: dict[str, list[tuple[str, int | None]]] = {}
    come: dict[str, list[tuple[str, str]]] = {}
    for statement in statements:
        if not isinstance(statement, exp.Alter) or not isinstance(statement.this, exp.Table):
            continue
        name = table_name(statement.this, dialect)
        for action in statement.args.get("actions") or []:
            if isinstance(action, exp.Drop) and action.args.get("kind") == "COLUMN":
                column = action.find(exp.Column, exp.Identifier)
                identifier = column.this if isinstance(column, exp.Column) else column
                if isinstance(identifier, exp.Identifier):
                    dropped = (fold(identifier, dialect), line_of(action))
                    gone.setdefault(name, []).append(dropped)
            elif isinstance(action, exp.ColumnDef) and action.args.get("kind") is not None:
                kind = action.args["kind"].sql(dialect=dialect).upper()
                come.setdefault(name, []).append((fold(action.this, dialect), kind))
    for name, columns in gone.items():
        table = before.get(name)
        for old, line in columns:
            known = table.by_name.get(old) if table else None
            for new, kind in come.get(name, ()):
                if known is not None and known.type == kind:
                    message = f"drops {name}.{old} and adds {new} of the same type"
                    yield Concern(rules.LOOKS_LIKE_RENAME, message, line)
