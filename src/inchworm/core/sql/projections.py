"""Select lists: stars, names, and what each shown column comes from."""

from __future__ import annotations

from sqlglot import exp

from inchworm.core.sql.names import fold
from inchworm.core.sql.relations import OutColumn, Scope, as_computed
from inchworm.core.sql.types import type_of
from inchworm.core.sql.values import ValueResolver

_SEVERAL = (exp.Columns, exp.Like)


class ProjectionResolver(ValueResolver):
    """Finds the columns that a select list shows."""

    def _projections(
        self, node: exp.Select, scope: Scope
    ) -> tuple[list[OutColumn], frozenset[str]]:
        columns: list[OutColumn] = []
        opened: frozenset[str] = frozenset()
        for projection in node.expressions:
            star = _star_in(projection)
            if star is not None:
                shown, more = self._starred(projection, star, scope, node)
                columns += shown
                opened |= more
                continue
            several = None
            if not (is_plain(projection) or self.has.isdisjoint(_SEVERAL)):
                several = projection.find(*_SEVERAL)
            if several is not None and several.find(exp.Star) is not None:
                columns += self._several(projection, several, scope, node)
                continue
            column = self._projection(projection, scope, node, len(columns))
            columns.append(column)
            scope.aliases.setdefault(column.name, column)
        return columns, opened

    def _several(
        self, projection: exp.Expr, several: exp.Expr, scope: Scope, node: exp.Select
    ) -> list[OutColumn]:
        """``max(COLUMNS(*))`` or ``* LIKE 'x%'``: one column shown for each that is meant."""
        star = several.find(exp.Star)
        assert star is not None  # the caller looked
        holder = star.parent if isinstance(star.parent, exp.Column) else star
        meant, _ = self._starred(holder, star, scope, node)
        if projection is several and isinstance(several, exp.Columns):
            return meant
        if isinstance(several, exp.Like):
            self._note(several, "star with a pattern")
            return meant
        others = [
            c for c in projection.find_all(exp.Column) if c.find_ancestor(exp.Columns) is None
        ]
        more = frozenset(source for c in others for source in self._value(c, scope, node))
        return [
            OutColumn(name=column.name, sources=as_computed(column.sources | more))
            for column in meant
        ]

    def _projection(
        self, projection: exp.Expr, scope: Scope, node: exp.Select, position: int
    ) -> OutColumn:
        inner = projection.unalias()
        plain = inner
        while isinstance(plain, exp.Paren):
            plain = plain.this
        name = self._name_of(projection, position)
        if isinstance(plain, exp.Column):
            column = self._column(plain, scope)
            return column.under(name)
        sources = as_computed(self._value(inner, scope, node))
        type_ = type_of(inner, lambda column: self._type_of_column(column, scope), self.dialect)
        return OutColumn(name=name, sources=sources, type=type_)

    def _name_of(self, projection: exp.Expr, position: int) -> str:
        alias = projection.args.get("alias")
        if isinstance(projection, exp.Alias) and isinstance(alias, exp.Identifier):
            return fold(alias, self.dialect)
        inner = projection.unnest()
        if isinstance(inner, exp.Column) and isinstance(inner.this, exp.Identifier):
            return fold(inner.this, self.dialect)
        if isinstance(inner, exp.Dot) and isinstance(inner.expression, exp.Identifier):
            return fold(inner.expression, self.dialect)
        return projection.sql(dialect=self.dialect).lower() or f"col{position}"

    def _starred(
        self, projection: exp.Expr, star: exp.Star, scope: Scope, node: exp.Select
    ) -> tuple[list[OutColumn], frozenset[str]]:
        qualifier = None
        if isinstance(projection, exp.Column):
            qualifier = self._qualifier(projection)
        columns, opened = self._star(scope, qualifier, star)
        without = {self._bare(e) for e in star.args.get("except_") or []}
        renames = {
            fold(r.this.this, self.dialect): fold(r.args["alias"], self.dialect)
            for r in star.args.get("rename") or []
        }
        replaced = {
            fold(r.args["alias"], self.dialect): r.this for r in star.args.get("replace") or []
        }
        shown = []
        for column in columns:
            if column.name in without:
                continue
            if column.name in replaced:
                sources = as_computed(self._value(replaced[column.name], scope, node))
                column = OutColumn(name=column.name, sources=sources)
            shown.append(column.under(renames.get(column.name, column.name)))
        return shown, opened


def is_plain(projection: exp.Expr) -> bool:
    """Whether a projection is just a column, perhaps under another name."""
    inner = projection.this if isinstance(projection, exp.Alias) else projection
    return isinstance(inner, exp.Column)


def _star_in(projection: exp.Expr) -> exp.Star | None:
    """The star of ``*`` or ``t.*``; a star inside a function is something else."""
    if isinstance(projection, exp.Star):
        return projection
    if isinstance(projection, exp.Column) and isinstance(projection.this, exp.Star):
        return projection.this
    return None
