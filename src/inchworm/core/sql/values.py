"""Expressions: what a value comes from, and what a name means at one place of a query."""

from __future__ import annotations

from abc import abstractmethod
from collections.abc import Iterable, Iterator, Mapping

from msgspec import Struct, field
from msgspec.structs import replace
from sqlglot import exp

from inchworm.core.errors import nearest
from inchworm.core.lineage.graph import How, Node
from inchworm.core.sql.constructs import function_name
from inchworm.core.sql.declared import NOTHING_DECLARED, Declaring
from inchworm.core.sql.names import fold, line_of, table_name
from inchworm.core.sql.outside import READERS, RUNNERS, places_of, reader_in
from inchworm.core.sql.relations import NOTHING, OutColumn, Relation, Scope, Sources, as_computed
from inchworm.core.structure.tables import UNKNOWN_TYPE, Table

_POSTGRES = frozenset({"ctid", "xmin", "xmax", "cmin", "cmax", "tableoid"})
_ORACLE = frozenset({"rowid", "rownum", "level"})
_HIDDEN_COLUMNS: Mapping[str, frozenset[str]] = {
    "duckdb": frozenset({"rowid"}),
    "sqlite": frozenset({"rowid", "_rowid_", "oid"}),
    **dict.fromkeys(("materialize", "postgres", "redshift", "risingwave"), _POSTGRES),
    **dict.fromkeys(("exasol", "oracle", "snowflake"), _ORACLE),
}
"""By dialect, the columns of tables that no declaration names; a name that is hidden in one product
is plain in another."""


class Problem(Struct, frozen=True, kw_only=True):
    """Something in a query that is wrong or not understood.

    ``kind`` is one of ``unknown-table``, ``unknown-column``, ``ambiguous-column``,
    ``not-understood``, ``not-taken``, ``reaches-outside`` and ``unknown-catalogue``.
    """

    kind: str
    name: str
    line: int | None
    table: str | None = None
    suggestion: str | None = None


class ValueResolver(Struct):
    """Finds the sources of expressions; what a subquery is, a subclass knows."""

    known: Mapping[str, Table]
    dialect: str
    tables_read: dict[str, int | None] = field(default_factory=dict)
    problems: list[Problem] = field(default_factory=list)
    declared: Declaring = lambda: NOTHING_DECLARED
    """The places outside the database that may be read."""
    has: frozenset[type[exp.Expr]] = frozenset()
    """The kinds of node that the query has at all."""
    used: set[Node] = field(default_factory=set)
    """Every column that is named anywhere, whether or not its value reaches the output."""
    named: dict[int, OutColumn] = field(default_factory=dict)
    """The column that each reference means, by the identity of its node."""
    seen: set[int] = field(default_factory=set)
    """The nodes of tables and columns that have been looked up, by identity."""
    quiet: bool = False
    """While a recursive CTE is repeated, what was said once is not said again."""

    @abstractmethod
    def query(self, node: exp.Expr, outer: Scope) -> Relation:
        """The relation that a query inside an expression is."""

    @abstractmethod
    def _table(self, node: exp.Table, scope: Scope) -> tuple[str, Relation]:
        """The name under which a table is known, and the relation that it is."""

    # ---- values -------------------------------------------------------------------------------

    def _value(
        self,
        node: exp.Expr,
        scope: Scope,
        select: exp.Expr | None = None,
        *,
        tolerant: bool = False,
    ) -> Sources:
        """All that takes part in an expression, subqueries included.

        ``select`` is the SELECT whose named windows the expression may use. ``tolerant``: an
        unknown name is an option of a table function (``header = true``), not a column.
        """
        sources: Sources = NOTHING
        waiting = [node]
        while waiting:  # not by recursion: a generated sum may have thousands of terms
            at = waiting.pop()
            if _is_special(at.__class__):
                special = self._special(at, scope, select, tolerant)
                if special is not None:
                    sources |= special
                    continue
            if isinstance(at, exp.Window):
                sources |= self._named_window(at, scope, select)
            waiting.extend(_children(at))
        return sources

    def _special(
        self, node: exp.Expr, scope: Scope, select: exp.Expr | None, tolerant: bool
    ) -> Sources | None:
        """The sources of a node that is more than its children; None for all others."""
        match node:
            case exp.Column() if not isinstance(node.this, exp.Star):
                if tolerant and not self._means_something(node, scope):
                    self.seen.add(id(node))
                    return NOTHING
                return self._column(node, scope).sources
            case exp.Table() if isinstance(node.this, exp.Identifier):
                return self._argument(node, scope)
            case exp.TableFromRows(this=exp.Column() as named):
                table = exp.Table(**dict(zip(_TABLE_PARTS, reversed(named.parts), strict=False)))
                name = table_name(table, self.dialect)
                if name not in self.known and self._means_something(named, scope):
                    return self._column(named, scope).sources
                self.seen.add(id(named))
                return self._argument(table, scope)
            case exp.Column():
                return self._star(scope, self._qualifier(node), node).everything
            case exp.Anonymous() | exp.ReadCSV() | exp.ReadParquet():
                return self._reaching_out(node, scope, select, tolerant)
            case exp.Count(this=exp.Star()):
                return NOTHING
            case exp.Star():
                return self._star(scope, None, node).everything
            case exp.Exists():
                inner = self.query(node.this, Scope(ctes=scope.ctes, outer=scope))
                return inner.rows
            case exp.Query():
                relation = self.query(node, Scope(ctes=scope.ctes, outer=scope))
                return relation.everything | relation.rows
            case exp.Lambda():
                names = frozenset(self._bare(variable) for variable in node.expressions)
                within = replace(scope, bound=scope.bound | names)
                return self._value(node.this, within, select, tolerant=tolerant)
            case exp.Comprehension():
                return self._comprehension(node, scope, select)
        return None

    def _reaching_out(
        self, node: exp.Expr, scope: Scope, select: exp.Expr | None, tolerant: bool
    ) -> Sources | None:
        """What a function reads outside the database; None of one that only takes its arguments."""
        name = function_name(node)
        if name in RUNNERS and isinstance(node, exp.Anonymous) and node.expressions:
            problem = f"what {name} runs, a text as SQL,"
            self._problem(Problem(kind="reaches-outside", name=problem, line=line_of(node)))
        is_item = isinstance(node.parent, exp.Table)
        if name not in READERS and not (is_item and reader_in(node, self.dialect)):
            return None
        sources: Sources = NOTHING
        for argument in _children(node):
            sources |= self._value(argument, scope, select, tolerant=tolerant)
        return sources | self._places(name, places_of(node), line_of(node))

    def _places(self, name: str, places: Iterable[str | None], line: int | None) -> Sources:
        """Declared places as sources; those that are not declared are problems."""
        declared = self.declared()
        sources: set[tuple[Node, How]] = set()
        for place in places:
            known = None if place is None else declared.name_of(place)
            if known is not None:
                sources.add((Node(f"place {known}"), How.WHOLE))
                continue
            read = f"{place!r} with {name}" if place is not None else f"with {name} from somewhere"
            self._problem(Problem(kind="reaches-outside", name=read, line=line))
        return frozenset(sources)

    def _argument(self, node: exp.Table, scope: Scope) -> Sources:
        """A table that is handed to a function whole."""
        _, relation = self._table(node, scope)
        self._note(node, "table as an argument")
        whole = {(Node(relation.table), How.WHOLE)} if relation.table else set()
        return as_computed(relation.everything | relation.rows | whole)

    def _means_something(self, node: exp.Column, scope: Scope) -> bool:
        """Whether a name is that of a column or relation; it may be the option of a function."""
        name = self._bare(node)
        is_known = self._named(name, scope) is not None or scope.find_relation(name) is not None
        return is_known or node.args.get("table") is not None

    def _comprehension(
        self, node: exp.Comprehension, scope: Scope, select: exp.Expr | None
    ) -> Sources:
        """``[v * 2 FOR v IN list IF v > 1]``: the variable is no column inside."""
        inner = replace(scope, bound=scope.bound | {self._bare(node.expression)})
        sources = self._value(node.args["iterator"], scope, select)
        for part in (node.this, node.args.get("condition")):
            if isinstance(part, exp.Expr):
                sources |= self._value(part, inner, select)
        return sources

    def _named_window(self, window: exp.Window, scope: Scope, select: exp.Expr | None) -> Sources:
        name = window.args.get("alias")
        if select is None or not isinstance(name, exp.Identifier):
            return NOTHING
        window_name = fold(name, self.dialect)
        for definition in select.args.get("windows") or []:
            if definition is not window and fold(definition.this, self.dialect) == window_name:
                return self._value(definition, scope, select)
        return NOTHING

    def _column(self, node: exp.Column, scope: Scope) -> OutColumn:
        """The column that a reference means; never fails, but reports one that does not exist."""
        column = scope.resolved.get(id(node))
        if column is None:
            column = scope.resolved[id(node)] = self._look_up(node, scope)
            self.seen.add(id(node))
            self.named[id(node)] = column
            self.used.update(source for source, _ in column.sources if source.field is not None)
        return column

    def _look_up(self, node: exp.Column, scope: Scope) -> OutColumn:
        parts = node.args
        alias, this = parts.get("table"), parts.get("this")
        if alias is not None and parts.get("db") is None and isinstance(this, exp.Identifier):
            relation = scope.relations.get(fold(alias, self.dialect))  # the usual case, quickly
            column = relation.named(fold(this, self.dialect)) if relation else None
            if column is not None:
                return column
        if node.args.get("table") is None:
            return self._unqualified(self._bare(node), node, scope)
        names = [
            fold(part, self.dialect) for part in node.parts if isinstance(part, exp.Identifier)
        ]
        if not isinstance(this, exp.Identifier):  # by position, such as t.$1
            relation = scope.find_relation(".".join(names))
            everything = relation.everything if relation else self._all_in(scope)
            return OutColumn(name=node.name.lower(), sources=as_computed(everything))
        *qualifier, name = names
        for cut in range(len(qualifier), 0, -1):
            relation = scope.find_relation(".".join(qualifier[:cut]))
            if relation is None:
                continue
            column_name = names[cut]
            column = relation.named(column_name) or relation.guessed(column_name)
            if column is None and relation.table is not None and self._is_hidden(column_name):
                return OutColumn(name=name, sources=NOTHING)
            if column is None:
                return self._unknown_column(column_name, node, scope, relation)
            if cut == len(names) - 1:
                return column
            return OutColumn(name=name, sources=as_computed(column.sources))
        struct = self._named(qualifier[0], scope)
        if struct is not None:
            return OutColumn(name=name, sources=as_computed(struct.sources))
        table = ".".join(qualifier)
        near = nearest(table, scope.relations)
        self._problem(
            Problem(kind="unknown-table", name=table, line=line_of(node), suggestion=near)
        )
        return OutColumn(name=name, sources=self._all_in(scope))

    def _unqualified(self, name: str, node: exp.Column, scope: Scope) -> OutColumn:
        at: Scope | None = scope
        while at is not None:
            if name in at.bound:
                return OutColumn(name=name, sources=NOTHING)
            candidates = self._candidates(name, at)
            if len(candidates) > 1:
                self._problem(Problem(kind="ambiguous-column", name=name, line=line_of(node)))
            if candidates:
                column = candidates[0]
                for other in candidates[1:]:
                    column = column.also(other.sources)
                return column
            if name in at.aliases:
                return at.aliases[name]
            at = at.outer
        guessed = self._guessed(name, scope)
        if guessed is not None:
            return guessed
        relation = scope.find_relation(name)
        if relation is not None:
            return OutColumn(name=name, sources=as_computed(relation.everything))
        if self._is_hidden(name):
            return OutColumn(name=name, sources=NOTHING)
        return self._unknown_column(name, node, scope)

    def _is_hidden(self, name: str) -> bool:
        """Whether every table of the dialect has a column that no declaration names."""
        return name in _HIDDEN_COLUMNS.get(self.dialect, ())

    @staticmethod
    def _candidates(name: str, scope: Scope) -> list[OutColumn]:
        if name in scope.merged:
            return [scope.merged[name]]
        return [c for r in scope.relations.values() if (c := r.named(name)) is not None]

    def _named(self, name: str, scope: Scope) -> OutColumn | None:
        """A column of that name, without complaint when there is none."""
        at: Scope | None = scope
        while at is not None:
            candidates = self._candidates(name, at)
            if candidates or name in at.aliases:
                return candidates[0] if candidates else at.aliases[name]
            at = at.outer
        return self._guessed(name, scope)

    @staticmethod
    def _guessed(name: str, scope: Scope) -> OutColumn | None:
        """The column that open relations in reach may have; each of them, if several."""
        at: Scope | None = scope
        opened: frozenset[str] = frozenset()
        believed: Sources | None = None
        while at is not None:
            for relation in at.relations.values():
                opened |= relation.open
                if relation.believed is not None:
                    believed = relation.believed | (believed or NOTHING)
            at = at.outer
        return Relation(open=opened, believed=believed).guessed(name)

    def _type_of_column(self, node: exp.Column, scope: Scope) -> str:
        if not isinstance(node.this, exp.Identifier):
            return UNKNOWN_TYPE
        before, self.quiet = self.quiet, True
        column = scope.resolved.get(id(node)) or self._look_up(node, scope)
        self.quiet = before
        return column.type

    def _unknown_column(
        self, name: str, node: exp.Expr, scope: Scope, relation: Relation | None = None
    ) -> OutColumn:
        """Report a missing column; it still counts as read, so that its readers are known."""
        within = [relation] if relation else list(scope.relations.values())
        tables = [r.table for r in within if r.table]
        table = tables[0] if len(tables) == 1 and len(within) == 1 else None
        known = [c.name for r in within for c in r.columns] or scope.visible()
        self._problem(
            Problem(
                kind="unknown-column",
                name=name,
                table=table,
                line=line_of(node),
                suggestion=nearest(name, known),
            )
        )
        if table:
            return OutColumn(name=name, sources=frozenset({(Node(table, name), How.COPIED)}))
        return OutColumn(
            name=name, sources=self._all_in(scope) if not relation else relation.everything
        )

    @staticmethod
    def _all_in(scope: Scope) -> Sources:
        return as_computed(s for r in scope.relations.values() for s in r.everything)

    # ---- names --------------------------------------------------------------------------------

    def _star(self, scope: Scope, qualifier: str | None, at: exp.Expr | None = None) -> Relation:
        """The columns that a star shows, of all relations in scope or of one."""
        if qualifier is not None:
            relation = scope.find_relation(qualifier)
            if relation is None:
                struct = self._named(qualifier, scope)
                line = line_of(at) if at is not None else None
                if struct is None:
                    self._problem(Problem(kind="unknown-table", name=qualifier, line=line))
                    return Relation()
                return Relation(believed=as_computed(struct.sources))  # the fields of a struct
            return relation
        columns: list[OutColumn] = []
        opened: frozenset[str] = frozenset()
        believed: Sources | None = None
        shown: set[str] = set()
        for relation in scope.relations.values():
            opened |= relation.open
            if relation.believed is not None:
                believed = relation.believed | (believed or NOTHING)
            for column in relation.columns:
                if column.name in scope.merged:
                    if column.name in shown:
                        continue
                    shown.add(column.name)
                    column = scope.merged[column.name]
                columns.append(column)
        return Relation(columns=tuple(columns), open=opened, believed=believed)

    def _qualifier(self, column: exp.Column) -> str:
        """The qualifier before the last dot of a column reference."""
        before = [part for part in column.parts[:-1] if isinstance(part, exp.Identifier)]
        return ".".join(fold(part, self.dialect) for part in before)

    def _bare(self, node: exp.Expr) -> str:
        identifier = node.this if isinstance(node, exp.Column) else node
        return fold(identifier, self.dialect) if isinstance(identifier, exp.Identifier) else ""

    def _note(self, node: exp.Expr, what: str) -> None:
        self._problem(Problem(kind="not-understood", name=what, line=line_of(node)))

    def _problem(self, problem: Problem) -> None:
        if not self.quiet:
            self.problems.append(problem)


_TABLE_PARTS = ("this", "db", "catalog")
_SPECIAL = (
    exp.Column,
    exp.Count,
    exp.Star,
    exp.Exists,
    exp.Query,
    exp.Lambda,
    exp.Comprehension,
    exp.Table,
    exp.TableFromRows,
    exp.Anonymous,
    exp.ReadCSV,
    exp.ReadParquet,
)


_special_kinds: dict[type[exp.Expr], bool] = {}


def _is_special(kind: type[exp.Expr]) -> bool:
    """Whether a kind of node may be more than its children."""
    known = _special_kinds.get(kind)
    if known is None:
        known = _special_kinds[kind] = issubclass(kind, _SPECIAL)
    return known


def _children(node: exp.Expr) -> Iterator[exp.Expr]:
    for value in node.args.values():
        if isinstance(value, exp.Expr):
            yield value
        elif isinstance(value, list):
            yield from (item for item in value if isinstance(item, exp.Expr))
