"""What scripts of a schema take away: tables, columns, rows, and the precision of values.

A table or column whose values an earlier statement of the same script copies is taken to be moved.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import NamedTuple

from msgspec.structs import replace
from sqlglot import exp

from inchworm.core.identifiers import RelationName
from inchworm.core.sql.names import fold, line_of, table_name
from inchworm.core.sql.parse import parse_statements
from inchworm.core.sql.problems import SqlProblem
from inchworm.core.structure.losing import Loss, Way
from inchworm.core.structure.tables import Table


class Unread(NamedTuple):
    """A statement whose work is not read: what it is called, and its line."""

    words: str
    line: int | None


class Scripts:
    """The scripts that a promotion runs in an environment, one after the other.

    Args:
        tables: the tables that are live, by logical name.
        dialect: of the scripts.
    """

    def __init__(self, tables: Mapping[str, Table], dialect: str) -> None:
        self._dialect = dialect
        self._tables = tables
        self._names: dict[str, str] = {}
        """The live name of each table that scripts have renamed."""
        self._columns: dict[tuple[str, str], str] = {}
        """The live name of each column that scripts have renamed."""
        self._made: set[str] = set()
        """Tables that scripts have made."""
        self._written: set[str] = set()
        """Live names of the tables to which scripts have written."""

    def losses(self, script: str) -> list[Loss]:
        """What the next script takes away, of what is live before all of them.

        Of a script that cannot be read, nothing: it has been reported.
        """
        try:
            statements = parse_statements(script, self._dialect)
        except SqlProblem:
            return []
        losses: list[Loss] = []
        before = frozenset(self._written)
        copied: set[str] = set()
        for statement in statements:
            losses += [
                loss for loss in self._of(statement) if not {loss.table, f".{loss.column}"} & copied
            ]
            self._follow(statement)
            copied |= set(_copied(statement, self._dialect))
        return [replace(loss, is_of_scripts=loss.table in before) for loss in losses]

    def unread(self, script: str) -> list[Unread]:
        """The statements of a script that may take things away in a way that nobody sees here."""
        try:
            statements = parse_statements(script, self._dialect)
        except SqlProblem:
            return []
        named = [(_unread(statement), line_of(statement)) for statement in statements]
        return [Unread(words, line) for words, line in named if words]

    def _of(self, statement: exp.Expr) -> Iterator[Loss]:
        if isinstance(statement, exp.Drop):
            for target in statement.args.get("tables") or []:
                yield from self._dropped(statement, target)
        elif isinstance(statement, exp.TruncateTable):
            for target in statement.expressions:
                yield from self._rows(Way.EMPTIES, target, statement)
        elif isinstance(statement, exp.Alter) and isinstance(statement.this, exp.Table):
            name = self._live(table_name(statement.this, self._dialect))
            if name is not None:
                for action in statement.args.get("actions") or []:
                    yield from self._altered(name, action)
        for delete in statement.find_all(exp.Delete):  # it may stand in a CTE
            way = Way.EMPTIES if delete.args.get("where") is None else Way.DELETES
            yield from self._rows(way, delete.this, delete)

    def _dropped(self, statement: exp.Drop, target: exp.Expr) -> Iterator[Loss]:
        if statement.args.get("kind") == "TABLE":
            yield from self._rows(Way.DROPS, target, statement)
        elif statement.args.get("kind") == "SCHEMA" and isinstance(target, exp.Table):
            schema = fold(target.args["db"], self._dialect)
            for name in sorted(self._tables):
                if RelationName(name).schema == schema:
                    yield _counted(Way.DROPS, name, line_of(statement))

    def _rows(self, way: Way, target: object, statement: exp.Expr) -> Iterator[Loss]:
        if not isinstance(target, exp.Table):
            return
        name = self._live(table_name(target, self._dialect))
        if name is None:
            return
        where = statement.args.get("where") if isinstance(statement, exp.Delete) else None
        if isinstance(where, exp.Where) and not statement.args.get("using"):
            query = exp.select(exp.Count(this=exp.Star())).from_(target.copy()).where(where.this)
            yield Loss(
                way=way,
                table=RelationName(name),
                counting=query.sql(dialect=self._dialect),
                line=line_of(statement),
            )
        else:
            yield _counted(way, name, line_of(statement))

    def _altered(self, name: str, action: exp.Expr) -> Iterator[Loss]:
        if isinstance(action, exp.Drop) and action.args.get("kind") in {None, "COLUMN"}:
            for target in action.args.get("tables") or []:
                column = self._column(name, target)
                if column is not None:
                    line = line_of(action)
                    yield _counted(Way.DROPS, name, line, column)
        elif isinstance(action, exp.AlterColumn) and action.args.get("dtype") is not None:
            column = self._column(name, action.this)
            if column is not None:
                former = self._tables[name].by_name[column].type
                yield _misfits(name, column, former, action.args["dtype"], self._dialect)

    def _live(self, name: str) -> str | None:
        """The live name of a table; None where it is not live, or a script has made another one."""
        if name in self._made:
            return None
        live = self._names.get(name, name)
        return live if live in self._tables else None

    def _column(self, table: str, node: exp.Expr) -> str | None:
        """The live name of a column of a live table; None where a script has made it."""
        identifier = node.this if isinstance(node, exp.Column) else node
        if not isinstance(identifier, exp.Identifier):
            return None
        name = fold(identifier, self._dialect)
        live = self._columns.get((table, name), name)
        by_folded = {column.lower(): column for column in self._tables[table].by_name}
        return live if live in self._tables[table].by_name else by_folded.get(live.lower())

    def _follow(self, statement: exp.Expr) -> None:
        """Note which live thing has which name after a statement."""
        if isinstance(statement, exp.Create) and statement.kind == "TABLE":
            target = statement.find(exp.Table)
            if target is not None:
                self._made.add(table_name(target, self._dialect))
        if isinstance(statement, exp.Insert | exp.Update | exp.Merge):
            target = statement.this.find(exp.Table)
            if target is not None:
                name = table_name(target, self._dialect)
                self._written.add(self._live(name) or name)
        if not isinstance(statement, exp.Alter) or not isinstance(statement.this, exp.Table):
            return
        name = table_name(statement.this, self._dialect)
        live = self._live(name)
        for action in statement.args.get("actions") or []:
            if isinstance(action, exp.AlterRename) and isinstance(action.this, exp.Table):
                new = fold(action.this.this, self._dialect)
                renamed = f"{RelationName(name).schema}.{new}"
                if live is not None:
                    self._names[renamed] = live
                    self._made.discard(renamed)
                elif name in self._made:
                    self._made.add(renamed)
            elif isinstance(action, exp.RenameColumn) and live is not None:
                old = self._column(live, action.this)
                if old is not None:
                    to = action.args["to"].find(exp.Identifier)
                    self._columns[live, fold(to, self._dialect)] = old


def _unread(statement: exp.Expr) -> str:
    """What a statement is called whose work stands elsewhere, or is not followed; else nothing."""
    if isinstance(statement, exp.Command) and str(statement.this).upper() in _CALLS:
        return str(statement.this).upper()
    if isinstance(statement, exp.Merge):
        branches = [branch.args.get("then") for branch in statement.args["whens"].expressions]
        if any(isinstance(each, exp.Var) and each.name.upper() == "DELETE" for each in branches):
            return "MERGE with DELETE"
    return ""


_CALLS = frozenset({"DO", "CALL", "EXECUTE"})


def _copied(statement: exp.Expr, dialect: str) -> Iterator[str]:
    """The tables and columns (``.name``) whose values a statement writes somewhere else."""
    if isinstance(statement, exp.Insert | exp.Create) and statement.expression is not None:
        for table in statement.expression.find_all(exp.Table):
            yield table_name(table, dialect)
    elif isinstance(statement, exp.Update):
        for assignment in statement.expressions:
            value = assignment.args.get("expression")
            for column in value.find_all(exp.Column) if value is not None else ():
                yield f".{fold(column.this, dialect)}"


def _table(name: str) -> exp.Table:
    logical = RelationName(name)
    return exp.table_(logical.table, db=logical.schema, quoted=True)


def _counted(way: Way, name: str, line: int | None, column: str = "") -> Loss:
    return Loss(way=way, table=RelationName(name), column=column, line=line)


def _misfits(name: str, column: str, former: str, kind: exp.DataType, dialect: str) -> Loss:
    """A change of type: it counts the values that come back otherwise from the new type."""
    value = exp.column(column, quoted=True)
    back = exp.cast(exp.cast(value.copy(), kind.copy()), former, dialect=dialect)
    query = exp.select(exp.Count(this=exp.Star())).from_(_table(name)).where(back.neq(value))
    return Loss(
        way=Way.NARROWS,
        table=RelationName(name),
        column=column,
        counting=query.sql(dialect=dialect),
        line=line_of(kind),
    )
