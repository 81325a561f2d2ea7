"""FROM and JOIN: tables, subqueries and functions, and what decides their rows."""

from __future__ import annotations

from collections.abc import Iterable

from msgspec.structs import replace
from sqlglot import exp

from inchworm.core.errors import nearest
from inchworm.core.sql.constructs import called_in, clause, function_name
from inchworm.core.sql.names import fold, is_of_system, line_of, table_name
from inchworm.core.sql.outside import looks_like_file
from inchworm.core.sql.pivots import pivoted
from inchworm.core.sql.projections import ProjectionResolver
from inchworm.core.sql.relations import (
    NOTHING,
    OutColumn,
    Relation,
    Scope,
    Sources,
    as_computed,
    as_rows,
    of_table,
)
from inchworm.core.sql.values import Problem
from inchworm.core.structure.tables import Table

_LEFT_ONLY = frozenset({"SEMI", "ANTI"})
_COUNT_FROM_ONE = frozenset({"postgres", "sqlite"})
"""Dialects that call the columns of VALUES ``column1``, ``column2`` ...; in DuckDB ``col0`` ..."""
_SERIES = frozenset({"range", "generate_series", "generate_subscripts"})


class FromResolver(ProjectionResolver):
    """Brings what stands in a FROM clause into scope."""

    def _add_source(self, node: exp.Expr, scope: Scope) -> Sources:
        """Bring one item of a FROM clause into scope; returns what decides its rows."""
        alias = self._alias(node)
        rows: Sources = NOTHING
        match node:
            case exp.Final():
                return self._add_source(node.this, scope)
            case exp.Table() if isinstance(node.this, exp.Identifier):
                name, relation = self._table(node, scope)
            case exp.Subquery() if isinstance(node.this, exp.Table) and alias is None:
                rows |= self._add_source(node.this, scope)
                for join in node.args.get("joins") or []:
                    rows |= self._join(join, scope)
                return rows
            case exp.Subquery() if isinstance(node.this, exp.Table):
                inner = Scope(ctes=scope.ctes, outer=scope)
                rows |= self._add_source(node.this, inner)
                name, relation = alias or "", self._joined(inner)
            case exp.Subquery():
                name, relation = alias or "", self.query(node, Scope(ctes=scope.ctes, outer=scope))
                relation = replace(relation, table=None)
            case exp.Values():
                name, relation = alias or "", self._values(node, scope)
            case exp.Lateral() if isinstance(node.this, exp.Subquery):
                shown = self.query(node.this, Scope(ctes=scope.ctes, outer=scope))
                name, relation = alias or "", replace(shown, table=None)
            case _:
                name, relation = alias or "", self._table_function(node, scope)
        if not isinstance(node, exp.Values):
            relation = relation.renamed(self._alias_columns(node))
        for pivot in node.args.get("pivots") or []:
            relation = self._pivoted(relation, pivot, scope)
            name = self._alias(pivot) or name
        scope.add(name, relation)
        rows |= relation.rows
        for join in node.args.get("joins") or []:
            rows |= self._join(join, scope)
        for lateral in node.args.get("laterals") or []:
            rows |= self._add_source(lateral, scope)
        return rows

    def _table(self, node: exp.Table, scope: Scope) -> tuple[str, Relation]:
        self.seen.add(id(node))
        if looks_like_file(node, self.dialect):
            return self._file(node, scope)
        if node.args.get("catalog") is not None:
            return self._in_other_catalogue(node)
        name = table_name(node, self.dialect)
        shown = self._alias(node) or fold(node.this, self.dialect)
        if "." not in name and name in scope.ctes:
            return shown, scope.ctes[name]
        self.tables_read.setdefault(name, line_of(node))
        table = self.known.get(name)
        if table is None and is_of_system(name):
            del self.tables_read[name]
            return shown, Relation(believed=NOTHING)
        if table is None:
            near = nearest(name, self.known)
            self._problem(
                Problem(kind="unknown-table", name=name, line=line_of(node), suggestion=near)
            )
            table = Table(name, (), open=True)
        return shown, of_table(table)

    def _file(self, node: exp.Table, scope: Scope) -> tuple[str, Relation]:
        """A file whose path stands where a table would."""
        path = node.this.name
        name = fold(node.this, self.dialect)
        shown = self._alias(node) or name
        if name in scope.ctes:
            return shown, scope.ctes[name]
        if name in self.known:
            self.tables_read.setdefault(name, line_of(node))
            return shown, of_table(self.known[name])
        place = self._places("its path", [path], line_of(node))
        self._note(node, f"file {path}")
        return shown, Relation(rows=place, believed=place)

    def _in_other_catalogue(self, node: exp.Table) -> tuple[str, Relation]:
        """A table of another database, of which the columns are not known."""
        name = table_name(node, self.dialect)
        shown = self._alias(node) or fold(node.this, self.dialect)
        catalogue = fold(node.args["catalog"], self.dialect)
        if is_of_system(name):
            return shown, Relation(believed=NOTHING)
        if catalogue.lower() not in self.declared().others:
            self._problem(Problem(kind="unknown-catalogue", name=name, line=line_of(node)))
        return shown, of_table(Table(name, (), open=True))

    def _pivoted(self, relation: Relation, pivot: exp.Pivot, scope: Scope) -> Relation:
        within = Scope(relations={"": relation}, ctes=scope.ctes, outer=scope)
        self._skip(pivot)
        shown = pivoted(
            relation,
            pivot,
            lambda expression: self._value(expression, within),
            lambda name: fold(name, self.dialect),
        )
        return shown or self._opaque(relation, pivot, "PIVOT whose columns depend on the data")

    def _values(self, node: exp.Values, outer: Scope) -> Relation:
        width = max((len(row.expressions) for row in node.expressions), default=0)
        columns = []
        for i in range(width):
            cells = [row.expressions[i] for row in node.expressions if i < len(row.expressions)]
            sources = frozenset(s for cell in cells for s in self._value(cell, outer))
            name = f"column{i + 1}" if self.dialect in _COUNT_FROM_ONE else f"col{i}"
            columns.append(OutColumn(name=name, sources=as_computed(sources)))
        return Relation(columns=tuple(columns)).renamed(self._alias_columns(node))

    def _table_function(self, node: exp.Expr, scope: Scope) -> Relation:
        """UNNEST, generate_series, file readers: rows and values come from their arguments."""
        function = called_in(node)
        if isinstance(function, exp.Predict):  # a model is no table
            self.seen.add(id(function.this))
            arguments = self._value(function.expression, scope, None, tolerant=True)
        else:
            arguments = self._value(node, scope, None, tolerant=True)
        name = function_name(function)
        is_series = name in _SERIES
        names = self._alias_columns(node)
        if not names and (is_series or isinstance(function, exp.UDTF)):
            alias = self._alias(node) if self.dialect == "postgres" else None
            own = "unnest" if isinstance(function, exp.UDTF) else name
            names = [alias or ("value" if self.dialect == "sqlite" else own)]
        columns = tuple(OutColumn(name=n, sources=as_computed(arguments)) for n in names)
        if isinstance(node, exp.Unnest) and isinstance(
            offset := node.args.get("offset"), exp.Identifier
        ):
            columns += (OutColumn(name=fold(offset, self.dialect), sources=NOTHING),)
        believed = None
        if not is_series and not self._alias_columns(node):
            if not names:
                self._note(node, f"table function {name}")
            believed = as_computed(arguments)
        return Relation(columns=columns, rows=as_rows(arguments), believed=believed)

    def _join(self, join: exp.Join, scope: Scope) -> Sources:
        before = dict(scope.relations)
        rows = self._add_source(join.this, scope)
        new = [r for name, r in scope.relations.items() if name not in before]
        on = join.args.get("on")
        if on is not None:
            rows |= self._value(on, scope)
        using = [fold(name, self.dialect) for name in join.args.get("using") or []]
        if join.args.get("method") == "NATURAL":
            names = {c.name for r in before.values() for c in r.columns}
            using = [c.name for r in new for c in r.columns if c.name in names]
        for name in using:
            merged = scope.merged.get(name)
            left = [merged] if merged else _all_named(name, before.values())
            right = _all_named(name, new)
            resolved = [*left, *right]
            if not left or not right:
                lacking = new if left else list(before.values())
                self._unknown_column(name, join, scope, lacking[0] if len(lacking) == 1 else None)
            if not resolved:
                continue
            both = resolved[0]
            for other in resolved[1:]:
                both = both.also(other.sources)
            rows |= both.sources
            self.used.update(source for source, _ in both.sources if source.field is not None)
            scope.merged[name] = _merged(join, resolved, both)
        if join.args.get("method") in {"ASOF", "POSITIONAL"} and on is None:
            self._note(join, f"{join.args['method']} JOIN")
        if _shows_left_only(join):
            scope.relations = before
        return as_rows(rows)

    def _joined(self, scope: Scope) -> Relation:
        """All relations in scope side by side, as ``SELECT *`` would show them."""
        rows = frozenset(source for r in scope.relations.values() for source in r.rows)
        return replace(self._star(scope, None), rows=rows, table=None)

    def _opaque(self, relation: Relation, node: exp.Expr, what: str) -> Relation:
        """A relation of which only the origin is known: depend on all of it, and say so."""
        self._note(node, what)
        rows = relation.rows | as_rows(relation.everything)
        return Relation(rows=rows, believed=as_computed(relation.everything))

    def _not_understood(self, node: exp.Expr, scope: Scope) -> Relation:
        self._note(node, clause(node.key))
        inner = Scope(ctes=scope.ctes, outer=scope)
        for table in node.find_all(exp.Table):
            self._add_source(table, inner)
        joined = self._joined(inner)
        self._skip(node)
        everything = joined.everything | joined.rows
        return Relation(believed=as_computed(everything), rows=as_rows(everything))

    def _skip(self, node: exp.Expr) -> None:
        """Take the columns under a node for looked up: they count with whole tables, or by name."""
        self.seen.update(id(column) for column in node.find_all(exp.Column))

    def _alias(self, node: exp.Expr) -> str | None:
        alias = node.args.get("alias")
        if isinstance(alias, exp.TableAlias) and isinstance(alias.this, exp.Identifier):
            return fold(alias.this, self.dialect)
        return fold(alias, self.dialect) if isinstance(alias, exp.Identifier) else None

    def _alias_columns(self, node: exp.Expr) -> list[str]:
        alias = node.args.get("alias")
        if not isinstance(alias, exp.TableAlias):
            return []
        return [
            fold(c.this if isinstance(c, exp.ColumnDef) else c, self.dialect)
            for c in alias.args.get("columns") or []
        ]


def _shows_left_only(join: exp.Join) -> bool:
    return not _LEFT_ONLY.isdisjoint({join.args.get("kind"), join.args.get("side")})


def _merged(join: exp.Join, sides: list[OutColumn], both: OutColumn) -> OutColumn:
    """The key that USING shows: of an outer join, that of the side which has every row."""
    if join.args.get("side") == "RIGHT":
        return sides[-1]
    if join.args.get("side") == "LEFT" or _shows_left_only(join):
        return sides[0]
    if join.args.get("side") == "FULL":
        return both._replace(sources=as_computed(both.sources))
    return both


def _all_named(name: str, relations: Iterable[Relation]) -> list[OutColumn]:
    """The column of a name in each of some relations that has one, or may have it."""
    columns = (relation.named(name) or relation.guessed(name) for relation in relations)
    return [column for column in columns if column is not None]
