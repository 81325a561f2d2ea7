"""Reading the shape of a table from the statement that makes it."""

from __future__ import annotations

from sqlglot import exp

from inchworm.core.sql.names import table_name
from inchworm.core.sql.parse import parse_statements
from inchworm.core.sql.problems import SqlProblem
from inchworm.core.structure.shapes import ColumnShape, TableShape


def shape_of(sql: str, dialect: str) -> TableShape | None:
    """The shape of the table that a CREATE TABLE makes; None if it cannot be read."""
    try:
        (tree,) = parse_statements(sql, dialect)
    except (SqlProblem, ValueError):
        return None
    if not isinstance(tree, exp.Create) or not isinstance(tree.this, exp.Schema):
        return None
    schema = table_name(tree.this.this, dialect).rpartition(".")[0]
    columns: list[ColumnShape] = []
    constraints: dict[str, str] = {}
    for each in tree.this.expressions:
        if isinstance(each, exp.ColumnDef):
            columns.append(_column(each, dialect))
        else:
            name = each.name if isinstance(each, exp.Constraint) else ""
            text = each.sql()  # only ever compared, so the dialect does not matter
            constraints[name or text] = text
    properties = tree.args.get("properties")
    return TableShape(
        columns=tuple(columns),
        constraints=constraints,
        refers_to=frozenset(_referred(tree, schema, dialect)),
        options=properties.sql() if properties is not None else "",
    )


def _referred(tree: exp.Expr, schema: str, dialect: str) -> list[str]:
    tables = [t for r in tree.find_all(exp.Reference) if (t := r.find(exp.Table)) is not None]
    names = [table_name(table, dialect) for table in tables]
    return [name if "." in name else f"{schema}.{name}" for name in names]


def _column(definition: exp.ColumnDef, dialect: str) -> ColumnShape:
    default = generated = None
    required = False
    rest: list[str] = []
    for constraint in definition.constraints:
        kind = constraint.kind
        match kind:
            case exp.DefaultColumnConstraint():
                default = kind.this.sql(dialect=dialect)
            case exp.NotNullColumnConstraint():
                required = not kind.args.get("allow_null")
            case exp.ComputedColumnConstraint() | exp.GeneratedAsRowColumnConstraint():
                generated = constraint.sql(dialect=dialect)
            case exp.GeneratedAsIdentityColumnConstraint() if kind.expression is not None:
                generated = constraint.sql(dialect=dialect)
            case _:
                rest.append(constraint.sql().strip())
    type_ = definition.args.get("kind")
    return ColumnShape(
        name=definition.name,
        type=type_.sql(dialect=dialect) if type_ is not None else "",
        default=default,
        required=required,
        generated=generated,
        rest=" ".join(sorted(rest)),
    )
