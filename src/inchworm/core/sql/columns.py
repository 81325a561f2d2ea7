"""The resolver: what each column of a query comes from.

Conventions: a plain column reference all the way down is *copied*; anything else that takes part in
a value is *computed*; what decides which rows there are is *rows*; a table of which the columns are
not known, or a construct that is not understood, is *whole*. The resolver never drops a source: in
doubt it depends on more, and says so with a problem of severity note.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, replace

from sqlglot import exp

from inchworm.core.errors import nearest
from inchworm.core.sql.names import fold, line_of, table_name
from inchworm.core.sql.pivots import pivoted
from inchworm.core.sql.projections import ProjectionResolver, is_plain
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
from inchworm.core.structure.tables import UNKNOWN_TYPE, Table

_ROW_MULTIPLYING: tuple[type[exp.Expr], ...] = (
    exp.Explode,
    exp.Posexplode,
    exp.Unnest,
    exp.Inline,
    exp.GenerateSeries,
)
_RECURSION_LIMIT = 50


@dataclass(frozen=True, kw_only=True)
class Resolution:
    """The columns, reads and notes of one query, as the resolver worked them out."""

    columns: tuple[OutColumn, ...]
    rows: Sources
    tables: Mapping[str, int | None]
    """Every table that is read, with the line of its first mention."""
    problems: tuple[Problem, ...]
    open: bool
    """Whether there may be more columns than ``columns`` says."""


def resolve(query: exp.Query, tables: Mapping[str, Table], dialect: str) -> Resolution:
    """Find the sources of a query's columns and rows.

    Args:
        query: the syntax tree of one SELECT or set operation.
        tables: known tables by folded logical name.
        dialect: the dialect that the query is written in.
    """
    resolver = _Resolver(tables, dialect, has=frozenset(map(type, query.walk())))
    relation = resolver.query(query, Scope())
    return Resolution(
        columns=relation.columns,
        rows=relation.rows,
        tables=dict(resolver.tables_read),
        problems=tuple(dict.fromkeys(resolver.problems)),
        open=bool(relation.open),
    )


def tables_in(query: exp.Expr, dialect: str) -> dict[str, int | None]:
    """The tables that a query mentions, CTE names left out, with the line of the first mention."""
    lines: dict[str, int | None] = {}
    ctes = {fold(cte.args["alias"].this, dialect) for cte in query.find_all(exp.CTE)}
    for table in query.find_all(exp.Table):
        if not isinstance(table.this, exp.Identifier):
            continue
        name = table_name(table, dialect)
        if name not in ctes:
            lines.setdefault(name, line_of(table))
    return lines


class _Resolver(ProjectionResolver):
    """Finds the sources of whole queries, clause by clause."""

    # ---- queries ------------------------------------------------------------------------------

    def query(self, node: exp.Expr, outer: Scope) -> Relation:
        """The relation that a SELECT, set operation, VALUES or parenthesised query is."""
        ctes = self._with(node, outer)
        if ctes is not outer.ctes:
            outer = Scope(ctes=ctes, outer=outer, bound=outer.bound)
        match node:
            case exp.Subquery():
                relation = self.query(node.this, outer)
                return self._limited(node, relation, outer)
            case exp.Select():
                return self._select(node, outer)
            case exp.SetOperation():
                return self._set_operation(node, outer)
            case exp.Values():
                return self._values(node, outer)
            case exp.Table():
                scope = Scope(ctes=outer.ctes, outer=outer)
                self._add_source(node, scope)
                return self._joined(scope)
            case exp.Pivot():
                scope = Scope(ctes=outer.ctes, outer=outer)
                self._add_source(node.this, scope)
                return self._pivoted(self._joined(scope), node, outer)
        return self._not_understood(node, outer)

    def _with(self, node: exp.Expr, outer: Scope) -> Mapping[str, Relation]:
        with_ = node.args.get("with_")
        if with_ is None:
            return outer.ctes
        ctes = dict(outer.ctes)
        for cte in with_.expressions:
            name = fold(cte.args["alias"].this, self.dialect)
            names = self._alias_columns(cte)
            scope = Scope(ctes=ctes, outer=outer)
            if with_.args.get("recursive") and isinstance(cte.this, exp.SetOperation):
                ctes[name] = self._recursive(cte.this, name, names, scope)
            else:
                ctes[name] = self.query(cte.this, scope).renamed(names)
            ctes[name] = replace(ctes[name], table=None)
        return ctes

    def _recursive(
        self, union: exp.SetOperation, name: str, names: list[str], scope: Scope
    ) -> Relation:
        """The fixed point of a recursive CTE: repeat until no column gains a source."""
        known = self.query(union.this, scope).renamed(names)
        before = self.quiet
        for _ in range(_RECURSION_LIMIT):
            inner = Scope(ctes={**scope.ctes, name: replace(known, table=None)}, outer=scope.outer)
            following = self.query(union, inner).renamed(names)
            if following == known:
                break
            known, self.quiet = following, True
        self.quiet = before
        return known

    def _set_operation(self, node: exp.SetOperation, outer: Scope) -> Relation:
        left = self.query(node.this, outer)
        right = self.query(node.expression, outer)
        keeps_right = isinstance(node, exp.Union)
        rows = left.rows | right.rows
        if node.args.get("distinct") or not keeps_right:
            rows |= as_rows(left.everything | right.everything)
        columns = list(left.columns)
        if keeps_right and node.args.get("by_name"):
            names = [column.name for column in columns]
            for column in right.columns:
                if column.name in names:
                    at = names.index(column.name)
                    columns[at] = columns[at].also(column.sources)
                else:
                    columns.append(column)
        elif keeps_right:
            unknown = as_computed(right.everything) if right.open else NOTHING
            for i, column in enumerate(columns):
                other = right.columns[i] if i < len(right.columns) else None
                extra = other.sources if other and not right.open else unknown
                same = other is not None and other.type == column.type
                columns[i] = column.also(extra)._replace(type=column.type if same else UNKNOWN_TYPE)
        merged = Relation(
            columns=tuple(columns),
            rows=rows,
            open=left.open | (right.open if left.open else frozenset()),
        )
        return self._limited(node, merged, outer)

    def _limited(self, node: exp.Expr, relation: Relation, outer: Scope) -> Relation:
        """ORDER BY and LIMIT behind a set operation or a parenthesised query."""
        if not _is_limited(node):
            return relation
        scope = Scope(relations={"": relation}, ctes=outer.ctes, outer=outer)
        order = self._order(node, list(relation.columns), scope)
        return replace(relation, rows=relation.rows | as_rows(order))

    def _values(self, node: exp.Values, outer: Scope) -> Relation:
        width = max((len(row.expressions) for row in node.expressions), default=0)
        columns = []
        for i in range(width):
            cells = [row.expressions[i] for row in node.expressions if i < len(row.expressions)]
            sources = frozenset(s for cell in cells for s in self._value(cell, outer))
            columns.append(OutColumn(name=f"col{i}", sources=as_computed(sources)))
        return Relation(columns=tuple(columns)).renamed(self._alias_columns(node))

    def _select(self, node: exp.Select, outer: Scope) -> Relation:
        scope = Scope(ctes=outer.ctes, outer=outer)
        rows = self._from(node, scope)
        columns, opened = self._projections(node, scope)
        for column in columns:
            scope.aliases.setdefault(column.name, column)
        rows |= self._row_deciders(node, scope, columns)
        return Relation(columns=tuple(columns), rows=rows, open=opened)

    def _from(self, node: exp.Select, scope: Scope) -> Sources:
        """Bring everything in FROM and JOIN into scope; what decides rows there."""
        rows: Sources = NOTHING
        from_ = node.args.get("from_")
        if from_ is not None:
            rows |= self._add_source(from_.this, scope)
        for join in node.args.get("joins") or []:
            rows |= self._join(join, scope)
        for lateral in node.args.get("laterals") or []:
            rows |= self._add_source(lateral, scope)
        return rows

    def _row_deciders(self, node: exp.Select, scope: Scope, columns: list[OutColumn]) -> Sources:
        rows: Sources = NOTHING
        for clause in ("where", "having", "qualify"):
            if (condition := node.args.get(clause)) is not None:
                rows |= self._value(condition.this, scope, node)
        if (group := node.args.get("group")) is not None:
            rows |= self._group(group, columns, scope, node)
        distinct = node.args.get("distinct")
        if distinct is not None:
            on = distinct.args.get("on")
            if on is not None:
                rows |= self._ordinals([on], columns, scope, node)
            else:
                rows |= frozenset(source for column in columns for source in column.sources)
        if _is_limited(node) or (distinct is not None and distinct.args.get("on") is not None):
            rows |= self._order(node, columns, scope)
        for projection in node.expressions:
            if is_plain(projection) or self.has.isdisjoint(_ROW_MULTIPLYING):
                continue
            if projection.find(*_ROW_MULTIPLYING) is not None:
                rows |= self._value(projection, scope, node)
        return as_rows(rows)

    def _group(
        self, group: exp.Expr, columns: list[OutColumn], scope: Scope, node: exp.Select
    ) -> Sources:
        keys = list(group.expressions)
        for name in ("grouping_sets", "cube", "rollup"):
            for extra in group.args.get(name) or []:
                if isinstance(extra, exp.Expr):
                    keys += extra.expressions
        if group.args.get("all"):
            plain = [p for p in node.expressions if p.find(exp.AggFunc) is None]
            keys += [p.unalias() for p in plain]
        return self._ordinals(keys, columns, scope, node)

    def _order(self, node: exp.Expr, columns: list[OutColumn], scope: Scope) -> Sources:
        order = node.args.get("order")
        if order is None:
            return NOTHING
        keys = [ordered.this for ordered in order.expressions]
        if any(isinstance(key, exp.Var) and key.name.upper() == "ALL" for key in keys):
            return frozenset(source for column in columns for source in column.sources)
        return self._ordinals(keys, columns, scope, node, aliases_first=True)

    def _ordinals(
        self,
        keys: Iterable[exp.Expr],
        columns: list[OutColumn],
        scope: Scope,
        node: exp.Expr,
        *,
        aliases_first: bool = False,
    ) -> Sources:
        """Sources of GROUP BY, ORDER BY or DISTINCT ON keys, which may be ordinals or aliases."""
        sources: Sources = NOTHING
        for key in keys:
            if isinstance(key, exp.Tuple | exp.Paren):
                inner = key.expressions if isinstance(key, exp.Tuple) else [key.this]
                sources |= self._ordinals(inner, columns, scope, node, aliases_first=aliases_first)
            elif isinstance(key, exp.Literal) and key.is_int and 0 < int(key.this) <= len(columns):
                sources |= columns[int(key.this) - 1].sources
            elif aliases_first and isinstance(key, exp.Column) and not key.table:
                alias = scope.aliases.get(fold(key.this, self.dialect))
                sources |= alias.sources if alias else self._value(key, scope, node)
            else:
                sources |= self._value(key, scope, node)
        return sources

    # ---- sources ------------------------------------------------------------------------------

    def _add_source(self, node: exp.Expr, scope: Scope) -> Sources:
        """Bring one item of a FROM clause into scope; returns what decides its rows."""
        alias = self._alias(node)
        rows: Sources = NOTHING
        match node:
            case exp.Table() if isinstance(node.this, exp.Identifier):
                name, relation = self._table(node, scope)
            case exp.Subquery() if isinstance(node.this, exp.Table):
                rows |= self._add_source(node.this, scope)
                for join in node.args.get("joins") or []:
                    rows |= self._join(join, scope)
                return rows
            case exp.Subquery():
                name, relation = alias or "", self.query(node, Scope(ctes=scope.ctes, outer=scope))
                relation = replace(relation, table=None)
            case exp.Values():
                name, relation = alias or "", self._values(node, scope)
            case exp.Lateral() if isinstance(node.this, exp.Subquery):
                inner = self.query(node.this, Scope(ctes=scope.ctes, outer=scope))
                name, relation = alias or "", replace(inner, table=None)
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
        name = table_name(node, self.dialect)
        shown = self._alias(node) or fold(node.this, self.dialect)
        if "." not in name and name in scope.ctes:
            return shown, scope.ctes[name]
        self.tables_read.setdefault(name, line_of(node))
        table = self.known.get(name)
        if table is None:
            near = nearest(name, self.known)
            self._problem(
                Problem(kind="unknown-table", name=name, line=line_of(node), suggestion=near)
            )
            table = Table(name, (), open=True)
        return shown, of_table(table)

    def _pivoted(self, relation: Relation, pivot: exp.Pivot, scope: Scope) -> Relation:
        within = Scope(relations={"": relation}, ctes=scope.ctes, outer=scope)
        found = pivoted(
            relation,
            pivot,
            lambda expression: self._value(expression, within),
            lambda name: fold(name, self.dialect),
        )
        return found or self._opaque(relation, pivot, "PIVOT whose columns depend on the data")

    def _table_function(self, node: exp.Expr, scope: Scope) -> Relation:
        """UNNEST, generate_series, file readers: rows and values come from their arguments."""
        arguments = self._value(node, scope, None, tolerant=True)
        alias = self._alias(node)
        names = self._alias_columns(node)
        if not names:
            names = [n for n in dict.fromkeys([alias, "unnest", "value", "generate_series"]) if n]
        columns = tuple(OutColumn(name=n, sources=as_computed(arguments)) for n in names)
        if isinstance(node, exp.Unnest) and isinstance(
            offset := node.args.get("offset"), exp.Identifier
        ):
            columns += (OutColumn(name=fold(offset, self.dialect), sources=NOTHING),)
        return Relation(columns=columns, rows=as_rows(arguments))

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
            sides = [scope.merged.get(name)] if name in scope.merged else []
            candidates = [*(() if sides else before.values()), *new]
            sides += [r.named(name) or r.guessed(name) for r in candidates]
            resolved = [side for side in sides if side is not None]
            if not resolved:
                self._unknown_column(name, join, scope)
                continue
            merged = resolved[0]
            for side in resolved[1:]:
                merged = merged.also(side.sources)
            scope.merged[name] = merged
            rows |= merged.sources
        if join.args.get("method") in {"ASOF", "POSITIONAL"} and on is None:
            self._note(join, f"{join.args['method']} JOIN")
        return as_rows(rows)

    def _joined(self, scope: Scope) -> Relation:
        """All relations in scope side by side, as ``SELECT *`` would show them."""
        columns, opened = self._star(scope, None)
        rows = frozenset(source for r in scope.relations.values() for source in r.rows)
        return Relation(columns=tuple(columns), rows=rows, open=opened)

    # ---- what is not understood ---------------------------------------------------------------

    def _opaque(self, relation: Relation, node: exp.Expr, what: str) -> Relation:
        """A relation of which only the origin is known: depend on all of it, and say so."""
        self._note(node, what)
        origins = frozenset(n.owner for n, _ in relation.everything)
        return Relation(rows=relation.rows | as_rows(relation.everything), open=origins)

    def _not_understood(self, node: exp.Expr, scope: Scope) -> Relation:
        self._note(node, type(node).__name__)
        inner = Scope(ctes=scope.ctes, outer=scope)
        for table in node.find_all(exp.Table):
            self._add_source(table, inner)
        joined = self._joined(inner)
        return Relation(
            open=frozenset(n.owner for n, _ in joined.everything), rows=as_rows(joined.everything)
        )

    # ---- names --------------------------------------------------------------------------------

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


def _is_limited(node: exp.Expr) -> bool:
    return any(node.args.get(name) is not None for name in ("limit", "offset", "fetch"))
