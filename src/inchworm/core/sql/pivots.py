"""PIVOT and UNPIVOT: what the columns that they make come from."""

from __future__ import annotations

from collections.abc import Callable, Iterable

from msgspec.structs import replace
from sqlglot import exp

from inchworm.core.sql.relations import OutColumn, Relation, Sources, as_computed, as_rows

Value = Callable[[exp.Expr], Sources]
Fold = Callable[[exp.Identifier], str]


def pivoted(relation: Relation, pivot: exp.Pivot, value: Value, fold: Fold) -> Relation | None:
    """The relation behind a PIVOT or UNPIVOT, or None when its columns depend on the data.

    Args:
        relation: what it is applied to.
        pivot: the clause.
        value: finds the sources of an expression over ``relation``.
        fold: the form in which a name is compared.
    """
    if relation.is_open:
        return None
    if pivot.args.get("unpivot"):
        return _unpivot(relation, pivot, value, fold)
    return _pivot(relation, pivot, value, fold)


def _pivot(relation: Relation, pivot: exp.Pivot, value: Value, fold: Fold) -> Relation | None:
    aggregates = pivot.args.get("using") or pivot.expressions
    on = pivot.expressions if pivot.args.get("using") else pivot.args.get("fields") or []
    if not on or not all(isinstance(field, exp.In) and field.expressions for field in on):
        return None
    names = _pivot_names(pivot, on, aggregates, fold)
    if names is None:
        return None
    made = frozenset(
        source for part in (*aggregates, *(f.this for f in on)) for source in value(part)
    )
    used = {fold(c.this) for part in (*aggregates, *on) for c in part.find_all(exp.Column)}
    group = pivot.args.get("group")
    if group is not None:
        pivoted = {fold(column.this) for column in group.find_all(exp.Column)}
        keys = [column for column in relation.columns if column.name in pivoted]
    else:
        keys = [column for column in relation.columns if column.name not in used]
    columns = [*keys, *(OutColumn(name=name, sources=as_computed(made)) for name in names)]
    deciding = as_rows(source for key in keys for source in key.sources)
    return Relation(columns=tuple(columns), rows=relation.rows | deciding)


def _pivot_names(
    pivot: exp.Pivot, on: list[exp.Expr], aggregates: list[exp.Expr], fold: Fold
) -> list[str] | None:
    """The names of the columns that a PIVOT makes; the parser knows most dialects' rules."""
    known = pivot.args.get("columns")
    if known:
        return [fold(name) for name in known]
    if len(on) > 1 or len(aggregates) > 1:
        return None
    names = []
    for item in on[0].expressions:
        if isinstance(item, exp.PivotAlias | exp.Alias):
            names.append(fold(item.args["alias"]))
        elif isinstance(item, exp.Literal):
            names.append(str(item.this).lower())
        else:
            return None
    return names


def _unpivot(relation: Relation, pivot: exp.Pivot, value: Value, fold: Fold) -> Relation | None:
    into = pivot.args.get("into")
    if into is not None:
        names = _identifiers(into.expressions)
        label = _identifiers([into.this])
        groups = [[item] for item in pivot.expressions]
    else:
        fields = pivot.args.get("fields") or []
        if len(fields) != 1 or not isinstance(fields[0], exp.In):
            return None
        names = _identifiers(pivot.expressions)
        label = _identifiers([fields[0].this])
        groups = [_members(item) for item in fields[0].expressions]
    if not names or not label or any(len(group) != len(names) for group in groups):
        return None
    gone = {fold(c.this) for group in groups for item in group for c in item.find_all(exp.Column)}
    staying = [column for column in relation.columns if column.name not in gone]
    values = [
        OutColumn(name=fold(name), sources=frozenset(s for g in groups for s in value(g[i])))
        for i, name in enumerate(names)
    ]
    rows = relation.rows
    if not pivot.args.get("include_nulls"):
        rows |= as_rows(source for column in values for source in column.sources)
    columns = (*staying, OutColumn(name=fold(label[0]), sources=frozenset()), *values)
    return replace(relation, columns=columns, rows=rows, table=None)


def _members(item: exp.Expr) -> list[exp.Expr]:
    """The columns of one ``IN`` item, which may be a tuple and may have an alias."""
    inner = item.this if isinstance(item, exp.PivotAlias | exp.Alias) else item
    return list(inner.expressions) if isinstance(inner, exp.Tuple) else [inner]


def _identifiers(nodes: Iterable[exp.Expr]) -> list[exp.Identifier]:
    identifiers: list[exp.Identifier] = []
    for node in nodes:
        if isinstance(node, exp.Tuple):
            identifiers += _identifiers(node.expressions)
        elif isinstance(node, exp.Column) and isinstance(node.this, exp.Identifier):
            identifiers.append(node.this)
        elif isinstance(node, exp.Identifier):
            identifiers.append(node)
    return identifiers
