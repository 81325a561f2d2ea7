"""The resolver: what each column of a query comes from.

Conventions: a plain column reference all the way down is *copied*; anything else that takes part in
a value is *computed*; what decides which rows there are is *rows*; a table of which the columns are
not known, or a construct that is not understood, is *whole*. The resolver never drops a source: in
doubt it depends on more, and says so with a problem of severity note.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence

from msgspec import Struct
from msgspec.structs import replace
from sqlglot import exp

from inchworm.core.lineage.graph import How, Node
from inchworm.core.sql.constructs import NAMES, clause, construct_of, is_name
from inchworm.core.sql.declared import NOTHING_DECLARED, Declaring
from inchworm.core.sql.from_items import FromResolver
from inchworm.core.sql.names import fold, line_of, table_name
from inchworm.core.sql.outside import looks_like_file
from inchworm.core.sql.projections import is_plain
from inchworm.core.sql.relations import (
    NOTHING,
    OutColumn,
    Relation,
    Scope,
    Sources,
    as_computed,
    as_rows,
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

Nodes = Mapping[type[exp.Expr], Sequence[exp.Expr]]
"""The nodes of a syntax tree by their kind, each kind in the order of the tree."""


class Resolution(Struct, frozen=True, kw_only=True):
    """The columns, reads and notes of one query, as the resolver worked them out."""

    columns: tuple[OutColumn, ...]
    rows: Sources
    used: frozenset[Node]
    """Every column that the query names, also where its value reaches no column and no decision."""
    tables: Mapping[str, int | None]
    """Every table that is read, with the line of its first mention."""
    problems: tuple[Problem, ...]
    named: Mapping[int, OutColumn]
    """The column that each reference in the query means, by the identity of its node."""
    nodes: Nodes
    """The nodes of the query."""
    open: bool
    """Whether there may be more columns than ``columns`` says."""


def resolve(
    query: exp.Query,
    tables: Mapping[str, Table],
    dialect: str,
    declared: Declaring = lambda: NOTHING_DECLARED,
) -> Resolution:
    """Find the sources of a query's columns and rows.

    Args:
        query: the syntax tree of one SELECT or set operation.
        tables: known tables by folded logical name.
        dialect: the dialect that the query is written in.
        declared: the places outside the database that it may read.

    Returns:
        Where a fault of ours ends the work, whole tables, and a problem of kind ``not-taken``.
    """
    try:
        return _resolve(query, tables, dialect, declared)
    except Exception as error:  # whatever it is, other parts can be checked
        return _by_tables_alone(query, dialect, error)


def _by_tables_alone(query: exp.Query, dialect: str, error: Exception) -> Resolution:
    """What can be said of a query that the resolver fails on: the tables, each as a whole."""
    tables = tables_in(query, dialect)
    return Resolution(
        columns=(),
        rows=frozenset((Node(table), How.WHOLE) for table in tables),
        used=frozenset(),
        named={},
        nodes={},
        tables=tables,
        problems=(Problem(kind="not-taken", name=f"{type(error).__name__}: {error}", line=None),),
        open=True,
    )


def _resolve(
    query: exp.Query, tables: Mapping[str, Table], dialect: str, declared: Declaring
) -> Resolution:
    nodes: dict[type[exp.Expr], list[exp.Expr]] = {}
    for node in query.walk():  # once: a walk takes as long as a good part of the parsing
        nodes.setdefault(type(node), []).append(node)
    resolver = _Resolver(tables, dialect, declared=declared, has=frozenset(nodes))
    relation = resolver.query(query, Scope())
    rows = relation.rows | resolver.left_out(nodes)
    rows |= frozenset((believed, How.WHOLE) for believed, _ in relation.believed or NOTHING)
    return Resolution(
        columns=relation.columns,
        rows=rows,
        used=frozenset(resolver.used),
        named=resolver.named,
        nodes=nodes,
        tables=dict(resolver.tables_read),
        problems=tuple(dict.fromkeys(resolver.problems)),
        open=relation.is_open,
    )


def tables_in(query: exp.Expr, dialect: str) -> dict[str, int | None]:
    """The tables of its own database that a query mentions, with the line of the first mention.

    Names of CTEs are left out.
    """
    lines: dict[str, int | None] = {}
    ctes = {fold(cte.args["alias"].this, dialect) for cte in query.find_all(exp.CTE)}
    for table in query.find_all(exp.Table):
        if not isinstance(table.this, exp.Identifier):
            continue
        name = table_name(table, dialect)
        if table.args.get("catalog") or looks_like_file(table, dialect):
            continue
        if name not in ctes:
            lines.setdefault(name, line_of(table))
    return lines


class _Resolver(FromResolver):
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
            for extra in ("search", "cycle"):
                ctes[name] = self._walk_columns(with_.args.get(extra), ctes[name])
            ctes[name] = replace(ctes[name], table=None)
        return ctes

    def _walk_columns(self, walk: exp.Expr | None, relation: Relation) -> Relation:
        """The columns that SEARCH and CYCLE add to a recursive CTE."""
        if walk is None:
            return relation
        added = tuple(
            OutColumn(name=fold(name, self.dialect), sources=as_computed(relation.everything))
            for name in (walk.args.get("expression"), walk.args.get("using"))
            if isinstance(name, exp.Identifier)
        )
        return replace(relation, columns=(*relation.columns, *added))

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
            unknown = as_computed(right.everything) if right.is_open else NOTHING
            for i, column in enumerate(columns):
                other = right.columns[i] if i < len(right.columns) else None
                extra = other.sources if other and not right.is_open else unknown
                same = other is not None and other.type == column.type
                columns[i] = column.also(extra)._replace(type=column.type if same else UNKNOWN_TYPE)
        merged = Relation(
            columns=tuple(columns),
            rows=rows,
            open=left.open | (right.open if left.open else frozenset()),
            believed=left.believed,
        )
        return self._limited(node, merged, outer)

    def _limited(self, node: exp.Expr, relation: Relation, outer: Scope) -> Relation:
        """ORDER BY and LIMIT behind a set operation or a parenthesised query."""
        if not any(node.args.get(name) is not None for name in ("order", *_LIMITS)):
            return relation
        scope = Scope(relations={"": relation}, ctes=outer.ctes, outer=outer)
        order = self._order(node, list(relation.columns), scope)
        if not _is_limited(node):
            return relation
        limits = self._clauses(node, _LIMITS, scope)
        return replace(relation, rows=relation.rows | as_rows(order | limits))

    def _select(self, node: exp.Select, outer: Scope) -> Relation:
        scope = Scope(ctes=outer.ctes, outer=outer)
        rows = self._from(node, scope)
        shown = self._projections(node, scope)
        columns = list(shown.columns)
        for column in columns:
            scope.aliases.setdefault(column.name, column)
        rows |= self._row_deciders(node, scope, columns)
        return replace(shown, rows=rows, table=None)

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
        match = node.args.get("match")
        if match is not None:
            whole = self._opaque(self._joined(scope), match, clause(match.key))
            self._skip(match)
            scope.relations = {self._alias(match) or "": whole}
            rows |= whole.rows
        return rows

    def _row_deciders(self, node: exp.Select, scope: Scope, columns: list[OutColumn]) -> Sources:
        rows = self._clauses(node, _DECIDING, scope)
        for name in _SORTING:
            if (sorting := node.args.get(name)) is not None:
                self._ordinals(_keys(sorting), columns, scope, node, aliases_first=True)
        if (group := node.args.get("group")) is not None:
            rows |= self._group(group, columns, scope, node)
        distinct = node.args.get("distinct")
        if distinct is not None:
            on = distinct.args.get("on")
            if on is not None:
                rows |= self._ordinals([on], columns, scope, node)
            else:
                rows |= frozenset(source for column in columns for source in column.sources)
        order = self._order(node, columns, scope)
        if _is_limited(node) or (distinct is not None and distinct.args.get("on") is not None):
            rows |= order
        self._clauses(node, ("windows",), scope)
        for projection in node.expressions:
            if is_plain(projection) or self.has.isdisjoint(_ROW_MULTIPLYING):
                continue
            if projection.find(*_ROW_MULTIPLYING) is not None:
                rows |= self._value(projection, scope, node)
        return as_rows(rows)

    def _clauses(self, node: exp.Expr, names: Iterable[str], scope: Scope) -> Sources:
        """The sources of whole clauses, such as a condition, or a LIMIT with a subquery."""
        sources: Sources = NOTHING
        for name in names:
            clause = node.args.get(name)
            for part in clause if isinstance(clause, list) else [clause]:
                if isinstance(part, exp.Expr):
                    sources |= self._value(part, scope, node)
        return sources

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
        keys = _keys(order)
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
                if alias is not None:
                    self.seen.add(id(key))
                sources |= alias.sources if alias else self._value(key, scope, node)
            else:
                sources |= self._value(key, scope, node)
        return sources

    def left_out(self, nodes: Nodes) -> Sources:
        """What a query names that no clause was understood to: whole tables, each with a note.

        Called when everything else has been resolved, so that nothing is ever dropped silently.
        """
        noted: set[tuple[str, int | None]] = set()
        names = (n for kind in nodes if issubclass(kind, NAMES) for n in nodes[kind])
        for node in names:
            if id(node) in self.seen or not is_name(node):
                continue
            if isinstance(node, exp.Table):
                self._table(node, Scope())
            construct = construct_of(node)
            if (construct, line_of(node)) not in noted:
                noted.add((construct, line_of(node)))
                self._note(node, construct)
        if not noted:
            return NOTHING
        return frozenset((Node(table), How.WHOLE) for table in self.tables_read)


_LIMITS = ("limit", "offset", "fetch")
_DECIDING = ("where", "having", "qualify", "prewhere", "connect", *_LIMITS)
"""Clauses that decide which rows there are."""
_SORTING = ("sort", "cluster", "distribute")
"""Clauses of engines with many machines that order rows, or send them somewhere."""


def _is_limited(node: exp.Expr) -> bool:
    return any(node.args.get(name) is not None for name in _LIMITS)


def _keys(order: exp.Expr) -> list[exp.Expr]:
    """What a clause orders by."""
    return [key.this if isinstance(key, exp.Ordered) else key for key in order.expressions]
