"""Tables column by column and constraint by constraint, in a database's own words."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from functools import cached_property

from sqlglot import exp

from inchworm.core.sql.names import spelled, table_name
from inchworm.core.sql.parse import SqlProblem, parse_statements


@dataclass(frozen=True, kw_only=True)
class ColumnShape:
    """A column of a table.

    Attributes:
        name: as it is spelled.
        type, default, generated: SQL text as the database tells it.
        identity: ``always`` or ``by default``, where the database counts by itself.
        rest: any other constraint that stands with the column, as text.
    """

    name: str
    type: str
    default: str | None = None
    required: bool = False
    generated: str | None = None
    identity: str = ""
    rest: str = ""


@dataclass(frozen=True, kw_only=True)
class TableShape:
    """A table.

    Attributes:
        constraints: those that stand by themselves, by name; one without a name by its text.
        refers_to: tables that its foreign keys point at, where those are part of its statement.
        options: what follows the columns, e.g. ``STRICT``.
    """

    columns: tuple[ColumnShape, ...]
    constraints: Mapping[str, str] = field(default_factory=dict)
    refers_to: frozenset[str] = frozenset()
    options: str = ""

    @cached_property
    def by_name(self) -> Mapping[str, ColumnShape]:
        """Columns by name."""
        return {column.name: column for column in self.columns}

    def same_as(self, other: TableShape) -> bool:
        """Whether both are alike in all but the order of their columns."""
        return (
            self.by_name == other.by_name
            and dict(self.constraints) == dict(other.constraints)
            and self.options == other.options
        )


def column_sql(column: ColumnShape) -> str:
    """A column as it stands in PostgreSQL's CREATE TABLE and ADD COLUMN."""
    text = f"{spelled(column.name)} {column.type}"
    if column.generated:
        text += f" GENERATED ALWAYS AS ({column.generated}) STORED"
    elif column.identity:
        text += f" GENERATED {column.identity.upper()} AS IDENTITY"
    elif column.default is not None:
        text += f" DEFAULT {column.default}"
    return text + (" NOT NULL" if column.required else "")


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
    found = [t for r in tree.find_all(exp.Reference) if (t := r.find(exp.Table)) is not None]
    names = [table_name(table, dialect) for table in found]
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
