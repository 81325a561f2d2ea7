"""Select lists: stars, names, and what each shown column comes from."""

from __future__ import annotations

import re

from msgspec.structs import replace
from sqlglot import exp

from inchworm.core.sql.names import fold
from inchworm.core.sql.output_names import is_count_of_rows, name_in_postgres
from inchworm.core.sql.relations import NOTHING, OutColumn, Relation, Scope, Sources, as_computed
from inchworm.core.sql.types import type_of
from inchworm.core.sql.values import ValueResolver
from inchworm.core.structure.tables import UNKNOWN_TYPE

_SEVERAL = (exp.Columns, exp.Like)
_COUNTS = (exp.Count, exp.CountIf, exp.ApproxDistinct)
_PATTERN = "star with a pattern"


class ProjectionResolver(ValueResolver):
    """Finds the columns that a select list shows."""

    def _projections(self, node: exp.Select, scope: Scope) -> Relation:
        """The columns of a select list, in order."""
        columns: list[OutColumn] = []
        opened: frozenset[str] = frozenset()
        believed: Sources | None = None
        for projection in node.expressions:
            star = _star_in(projection)
            shown: Relation | None = None
            if star is not None:
                shown = self._starred(projection, star, scope, node)
            elif (several := self._several_in(projection)) is not None:
                shown = self._several(projection, several, scope, node)
            elif isinstance(projection, exp.Explode | exp.Inline):
                shown = self._unnested(projection, scope, node)
            elif isinstance(projection, exp.Dot) and isinstance(projection.expression, exp.Star):
                of_value = as_computed(self._value(projection.this, scope, node))
                shown = Relation(believed=of_value)  # (value).*: a column for each of its fields
            if shown is not None:
                columns += shown.columns
                opened |= shown.open
                if shown.believed is not None:
                    believed = shown.believed | (believed or NOTHING)
                continue
            column = self._projection(projection, scope, node, len(columns))
            columns.append(column)
            scope.aliases.setdefault(column.name, column)
        return Relation(columns=tuple(columns), open=opened, believed=believed)

    def _several_in(self, projection: exp.Expr) -> exp.Expr | None:
        """``COLUMNS(...)`` or a star with a pattern in a projection."""
        if is_plain(projection) or self.has.isdisjoint(_SEVERAL):
            return None
        several = projection.find(*_SEVERAL)
        is_star = several is not None and several.find(exp.Star) is not None
        return several if is_star or isinstance(several, exp.Columns) else None

    def _unnested(
        self, projection: exp.Explode | exp.Inline, scope: Scope, node: exp.Select
    ) -> Relation | None:
        """``unnest(x)``: of a struct, a column for each of its fields, which are believed."""
        type_ = type_of(
            projection.this, lambda column: self._type_of_column(column, scope), self.dialect
        )
        if type_ != UNKNOWN_TYPE and not type_.startswith("STRUCT"):
            return None
        sources = as_computed(self._value(projection.this, scope, node))
        shown = OutColumn(name=self._name_of(projection, 0), sources=sources)
        return Relation(columns=(shown,), believed=sources)

    def _meant(self, several: exp.Expr, scope: Scope, node: exp.Select) -> Relation:
        """The columns that ``COLUMNS(...)`` or a star with a pattern is about."""
        star = several.find(exp.Star)
        if star is not None:
            holder = star.parent if isinstance(star.parent, exp.Column) else star
            meant = self._starred(holder, star, scope, node)
        else:
            meant = self._star(scope, None, several)
        pattern = several.this if isinstance(several, exp.Columns) else None
        if isinstance(pattern, exp.Literal) and pattern.is_string:
            try:
                matches = re.compile(pattern.name, re.IGNORECASE).search
            except re.error:
                self._note(several, "COLUMNS with a pattern")
                return meant
            return replace(meant, columns=tuple(c for c in meant.columns if matches(c.name)))
        if star is None or isinstance(several, exp.Like):
            self._note(several, "COLUMNS with a condition" if star is None else _PATTERN)
        return meant

    def _several(
        self, projection: exp.Expr, several: exp.Expr, scope: Scope, node: exp.Select
    ) -> Relation:
        """``max(COLUMNS(*))`` or ``* LIKE 'x%'``: one column shown for each that is meant."""
        meant = self._meant(several, scope, node)
        self.used.update(n for n, _ in meant.everything if n.field is not None)
        if projection is several:
            return meant
        others = [
            c for c in projection.find_all(exp.Column) if c.find_ancestor(exp.Columns) is None
        ]
        more = frozenset(source for c in others for source in self._value(c, scope, node))
        computed = tuple(
            OutColumn(name=column.name, sources=as_computed(column.sources | more))
            for column in meant.columns
        )
        believed = None if meant.believed is None else as_computed(meant.believed | more)
        return replace(meant, columns=computed, believed=believed, table=None)

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
        is_count = self._is_count(inner)
        return OutColumn(name=name, sources=sources, type=type_, is_count=is_count)

    def _is_count(self, node: exp.Expr) -> bool:
        """Whether an expression, which has been resolved, has nothing but counts in it."""
        waiting, counts = [node], 0
        while waiting:
            at = waiting.pop()
            if isinstance(at, _COUNTS):
                counts += 1
            elif isinstance(at, exp.Column):
                meant = self.named.get(id(at))
                if meant is None or not meant.is_count:
                    return False
                counts += 1
            elif isinstance(at, exp.Query):
                return False
            else:
                waiting.extend(at.iter_expressions())
        return counts > 0

    def _name_of(self, projection: exp.Expr, position: int) -> str:
        alias = projection.args.get("alias")
        if isinstance(projection, exp.Alias) and isinstance(alias, exp.Identifier):
            return fold(alias, self.dialect)
        inner = projection.unnest()
        if isinstance(inner, exp.Column) and isinstance(inner.this, exp.Identifier):
            return fold(inner.this, self.dialect)
        if isinstance(inner, exp.Dot) and isinstance(inner.expression, exp.Identifier):
            return fold(inner.expression, self.dialect)
        if self.dialect == "duckdb" and is_count_of_rows(inner):
            return "count_star()"
        try:
            if self.dialect == "postgres":
                return name_in_postgres(inner)
            name = projection.sql(dialect=self.dialect)
        except Exception:  # the library cannot spell everything that it can read
            name = ""
        return name.lower() or f"col{position}"

    def _starred(
        self, projection: exp.Expr, star: exp.Star, scope: Scope, node: exp.Select
    ) -> Relation:
        """The columns that a star shows, without those left out, and with others replaced."""
        qualifier = None
        if isinstance(projection, exp.Column):
            qualifier = self._qualifier(projection)
        relation = self._star(scope, qualifier, star)
        without = {self._bare(e) for e in star.args.get("except_") or []}
        renames = {
            fold(r.this.this, self.dialect): fold(r.args["alias"], self.dialect)
            for r in star.args.get("rename") or []
        }
        replaced = {
            fold(r.args["alias"], self.dialect): r.this for r in star.args.get("replace") or []
        }
        shown = []
        for column in relation.columns:
            if column.name in without:
                continue
            if column.name in replaced:
                sources = as_computed(self._value(replaced[column.name], scope, node))
                column = OutColumn(name=column.name, sources=sources)
            shown.append(column.under(renames.get(column.name, column.name)))
        return replace(relation, columns=tuple(shown), table=None)


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
