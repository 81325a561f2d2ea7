"""Rules about single queries: what a senior colleague would ask about them.

Each looks at one kind of node of the syntax tree, with what the resolver knows of the columns in
it: where they come from, and their types. What is guarded, or not known, is left alone.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from typing import NamedTuple

from msgspec import Struct
from sqlglot import exp

from inchworm.core.checks import rules
from inchworm.core.lineage.graph import How
from inchworm.core.sql.columns import Resolution
from inchworm.core.sql.constructs import function_name
from inchworm.core.sql.names import line_around, table_name
from inchworm.core.sql.relations import OutColumn
from inchworm.core.sql.types import type_of
from inchworm.core.structure.tables import UNKNOWN_TYPE, Column, Table

_COMPARED = (exp.EQ, exp.NEQ, exp.GT, exp.GTE, exp.LT, exp.LTE)
_ARITHMETIC = (exp.Add, exp.Sub, exp.Mul, exp.Div)
_TEXTS = ("TEXT", "VARCHAR", "CHAR", "STRING", "NVARCHAR", "BPCHAR")
_NUMBERS = (
    *("TINYINT", "SMALLINT", "INT", "INTEGER", "BIGINT", "HUGEINT", "DECIMAL", "NUMERIC"),
    *("REAL", "FLOAT", "DOUBLE", "DOUBLE PRECISION"),
)
_FAILS_ON_ZERO = frozenset(
    {"postgres", "redshift", "tsql", "snowflake", "bigquery", "oracle", "trino", "presto"}
)
"""Dialects in which a division by zero ends the query."""
_CHANGING = (
    exp.Rand,
    exp.CurrentTimestamp,
    exp.CurrentDate,
    exp.CurrentTime,
    exp.CurrentUser,
    exp.SessionUser,
    exp.Uuid,
)
_CHANGING_NAMES = frozenset(
    {"random", "now", "gen_random_uuid", "clock_timestamp", "statement_timestamp", "newid"}
    | {"transaction_timestamp", "timeofday", "getdate", "sysdate", "user", "localtimestamp"}
)
_ONE_OF_MANY = (exp.First, exp.Last, exp.AnyValue)


class Suspicion(NamedTuple):
    """Something in a query that is probably not meant."""

    rule: rules.Rule
    message: str
    line: int | None


class Context(Struct, frozen=True, kw_only=True):
    """A query with all that is known about it.

    Attributes:
        grows: whether its rows are kept when the model is built again.
    """

    query: exp.Query
    resolution: Resolution
    tables: Mapping[str, Table]
    dialect: str
    grows: bool = False

    def column(self, node: exp.Expr) -> OutColumn | None:
        """The column that a reference means."""
        return self.resolution.named.get(id(node))

    def type(self, node: object) -> str:
        """The type of an expression without its length, or ``unknown``."""
        if not isinstance(node, exp.Expr):
            return UNKNOWN_TYPE

        def of_column(column: exp.Column) -> str:
            out_column = self.column(column)
            return out_column.type if out_column else UNKNOWN_TYPE

        return type_of(node, of_column, self.dialect).partition("(")[0].strip()

    def base(self, node: exp.Expr) -> tuple[Table, Column] | None:
        """The column of a table that a reference copies."""
        column = self.column(node)
        if column is None or len(column.sources) != 1:
            return None
        ((source, how),) = column.sources
        table = self.tables.get(source.owner)
        if how is not How.COPIED or table is None or source.field is None:
            return None
        column_of_table = table.by_name.get(source.field)
        return None if column_of_table is None else (table, column_of_table)


def suspicions(context: Context) -> Iterator[Suspicion]:
    """Everything about a query that is probably not meant."""
    for kind, nodes in context.resolution.nodes.items():
        for rule in (rule for kinds, rule in _RULES if issubclass(kind, kinds)):
            for node in nodes:
                for suspect, message in rule(node, context):
                    yield Suspicion(suspect, message, line_around(node))


Found = Iterator[tuple[rules.Rule, str]]


def _null(node: exp.Expr, context: Context) -> Found:
    """``x = NULL`` is never true."""
    if isinstance(node, exp.EQ | exp.NEQ):
        sides = (node.this, node.expression)
        if any(isinstance(side, exp.Null) for side in sides):
            yield rules.COMPARED_WITH_NULL, f"compares with NULL: {_said(node, context)}"


def _types(node: exp.Expr, context: Context) -> Found:
    """Texts compared with numbers, and moments with a zone compared with those without."""
    left, right = node.this, node.args.get("expression")
    if isinstance(left, exp.Literal) or isinstance(right, exp.Literal):
        return  # it takes the type of the other side
    kinds = {context.type(left), context.type(right)}
    if kinds & set(_TEXTS) and kinds & set(_NUMBERS):
        yield rules.TEXT_AND_NUMBER, f"compares text with a number: {_said(node, context)}"
    if kinds == {"TIMESTAMP", "TIMESTAMPTZ"}:
        yield rules.ZONES_MIXED, f"compares moments with and without zone: {_said(node, context)}"


def _arithmetic(node: exp.Expr, context: Context) -> Found:
    for side in (node.this, node.args.get("expression")):
        if not isinstance(side, exp.Literal) and context.type(side) in _TEXTS:
            yield rules.ARITHMETIC_ON_TEXT, f"calculates with a text: {_said(node, context)}"
            return
    if {context.type(node.this), context.type(node.args.get("expression"))} == {
        "TIMESTAMP",
        "TIMESTAMPTZ",
    }:
        yield rules.ZONES_MIXED, f"mixes moments with and without zone: {_said(node, context)}"


def _division(node: exp.Expr, context: Context) -> Found:
    """A divisor that can be zero, where that ends the query, and nothing guards against it."""
    if context.dialect not in _FAILS_ON_ZERO or not isinstance(node, exp.Div):
        return
    divisor = node.expression.unnest()
    while isinstance(divisor, exp.Cast):
        divisor = divisor.this
    columns = list(divisor.find_all(exp.Column))
    if not columns or isinstance(divisor, exp.Nullif | exp.Count | exp.Greatest | exp.Coalesce):
        return
    names = {column.sql() for column in columns}
    for guard in _guards(node):
        if names & {column.sql() for column in guard.find_all(exp.Column)}:
            return
    yield rules.DIVIDES_BY_ZERO, f"divides by what can be zero: {_said(node, context)}"


def _guards(node: exp.Expr) -> Iterator[exp.Expr]:
    """Conditions under which a node is reached."""
    at = node
    while at.parent is not None:
        at = at.parent
        if isinstance(at, exp.If) and at.this is not None:
            yield at.this
        elif isinstance(at, exp.Case):
            yield from (branch.this for branch in at.args.get("ifs", []))
        elif isinstance(at, exp.Select):
            for clause in ("where", "having", "qualify"):
                if at.args.get(clause) is not None:
                    yield at.args[clause]
            yield from (j.args["on"] for j in at.args.get("joins") or [] if j.args.get("on"))
            return


def _not_in(node: exp.Expr, context: Context) -> Found:
    """``NOT IN`` with a NULL among what is listed is never true."""
    inside = node.this
    if not isinstance(inside, exp.In):
        return
    if any(isinstance(item, exp.Null) for item in inside.expressions):
        yield rules.NOT_IN_NULLABLE, f"has NULL in NOT IN: {_said(node, context)}"
        return
    query = inside.args.get("query")
    select = query.unnest() if isinstance(query, exp.Expr) else None
    if not isinstance(select, exp.Select) or len(select.expressions) != 1:
        return
    shown = select.expressions[0].unalias()
    base = context.base(shown) if isinstance(shown, exp.Column) else None
    if base is None or base[1].required or base[0].open:
        return
    where = select.args.get("where")
    excluded = where.find_all(exp.Not) if where is not None else ()
    if any(isinstance(n.this, exp.Is) and n.this.this == shown for n in excluded):
        return
    yield (
        rules.NOT_IN_NULLABLE,
        f"NOT IN a column that can be NULL: {base[0].name}.{base[1].name}",
    )


def _limit(node: exp.Expr, context: Context) -> Found:
    """LIMIT without an order gives other rows each time."""
    if node.args.get("limit") is None or node.args.get("order") is not None:
        return
    select = node if isinstance(node, exp.Select) else None
    if select is not None and (select.args.get("from_") is None or _is_one_row(select)):
        return
    count = node.args["limit"].args.get("expression")
    is_none = isinstance(count, exp.Literal) and count.this == "0"
    if is_none or node.find_ancestor(exp.Exists) is not None:
        return
    yield rules.NO_ORDER, "has LIMIT without ORDER BY"


def _is_one_row(select: exp.Select) -> bool:
    """Whether a SELECT gives one row: aggregates without GROUP BY."""
    if select.args.get("group") is not None or select.args.get("distinct") is not None:
        return False
    return bool(select.expressions) and all(
        each.find(exp.AggFunc) is not None and each.find(exp.Window) is None
        for each in select.expressions
    )


def _picks(node: exp.Expr, context: Context) -> Found:
    """``first(x)`` of rows in no order, and row numbers without one."""
    window = node.find_ancestor(exp.Window, exp.Select)
    if isinstance(window, exp.Window) and (window.args.get("order") or window.args.get("alias")):
        return
    if isinstance(node, exp.RowNumber) and isinstance(window, exp.Window):
        yield rules.NO_ORDER, "numbers rows that are in no order: row_number() without ORDER BY"
    elif isinstance(node, _ONE_OF_MANY) and not isinstance(node.this, exp.Order):
        name = function_name(node)
        yield rules.NO_ORDER, f"takes {name}(...) of rows that are in no order"


def _changing(node: exp.Expr, context: Context) -> Found:
    """What is another value at each build, in rows that stay from build to build."""
    if not context.grows:
        return
    if isinstance(node, exp.Anonymous) and function_name(node) not in _CHANGING_NAMES:
        return
    yield (
        rules.CHANGES_EACH_TIME,
        f"keeps its rows, and they depend on when and by whom they were built: "
        f"{_said(node, context)}",
    )


def _join(node: exp.Expr, context: Context) -> Found:
    """Joins that multiply rows."""
    select = node.parent
    if not isinstance(node, exp.Join) or not isinstance(select, exp.Select):
        return
    if {node.args.get("kind"), node.args.get("side")} & {"SEMI", "ANTI"}:
        return
    if node.args.get("on") is None and not node.args.get("using"):
        is_plain = not any(node.args.get(name) for name in ("kind", "side", "method"))
        if is_plain and not _is_linked(node, select, context):
            right = node.this.alias_or_name
            yield rules.NO_JOIN_CONDITION, f"joins {right} to every row, without a condition"
        return
    if _is_range(node):
        return
    pairs = list(_pairs(node, select, context))
    right = _tables_of(pairs, 1)
    left = _tables_of(pairs, 0)
    if len(left) != 1 or len(right) != 1:
        return
    for table, columns in (*left.items(), *right.items()):
        if not table.key or set(table.key) <= columns:
            return
    (one,), (other,) = left, right
    yield (
        rules.LESS_THAN_A_KEY,
        f"joins {one.name} with {other.name} on less than a key of both "
        f"({', '.join(one.key)}; {', '.join(other.key)}), so rows multiply",
    )


def _is_range(join: exp.Join) -> bool:
    """Whether rows are meant to meet several others: all earlier ones, those within a time."""
    on = join.args.get("on")
    own = join.this.alias_or_name.lower()
    for compared in on.find_all(*_RANGES) if on is not None else ():
        aliases = {column.table.lower() for column in compared.find_all(exp.Column)}
        if own in aliases and len(aliases) > 1:
            return True
    return False


_RANGES = (exp.LT, exp.LTE, exp.GT, exp.GTE, exp.NEQ, exp.Between)


def _tables_of(pairs: list[tuple[_Ended, _Ended]], side: int) -> dict[Table, set[str]]:
    tables: dict[Table, set[str]] = {}
    for pair in pairs:
        table, column = pair[side]
        tables.setdefault(table, set()).add(column)
    return tables


_Ended = tuple[Table, str]


def _pairs(join: exp.Join, select: exp.Select, context: Context) -> Iterator[tuple[_Ended, _Ended]]:
    """Columns of base tables that a join makes equal: one of what stands before, one of its own.

    Only of joins between base tables, as what a subquery has as a key is not known.
    """
    own = join.this
    sources = [select.args["from_"].this] if select.args.get("from_") else []
    sources += [other.this for other in select.args.get("joins") or []]
    by_alias = {s.alias_or_name.lower(): s for s in sources if isinstance(s, exp.Table)}
    if not isinstance(own, exp.Table) or len(by_alias) != len(sources):
        return
    if any(table_name(s, context.dialect) not in context.tables for s in by_alias.values()):
        return
    conditions = join.args["on"].flatten() if isinstance(join.args.get("on"), exp.And) else ()
    for condition in conditions or ([join.args["on"]] if join.args.get("on") else []):
        left, right = condition.this, condition.args.get("expression")
        if not isinstance(condition, exp.EQ):
            continue
        if not (isinstance(left, exp.Column) and isinstance(right, exp.Column)):
            continue
        if left.table.lower() == own.alias_or_name.lower():
            left, right = right, left
        one, other = context.base(left), context.base(right)
        if one and other and right.table.lower() == own.alias_or_name.lower():
            yield (one[0], one[1].name.lower()), (other[0], other[1].name.lower())
    if join.args.get("using") and len(sources) == 2:
        first, second = (context.tables[table_name(s, context.dialect)] for s in sources)
        for name in join.args["using"]:
            yield (first, name.name.lower()), (second, name.name.lower())


def _is_linked(join: exp.Join, select: exp.Select, context: Context) -> bool:
    """Whether an item behind a comma needs no condition, or WHERE has one about it."""
    item = join.this
    inner = item.unnest() if isinstance(item, exp.Subquery) else None
    if isinstance(inner, exp.Select) and _is_one_row(inner):
        return True
    if not isinstance(item, exp.Table | exp.Subquery):
        return True
    if isinstance(item, exp.Table) and not isinstance(item.this, exp.Identifier):
        return True  # a function, which belongs to each row
    where = select.args.get("where")
    if where is None:
        return False
    alias = item.alias_or_name.lower()
    for column in where.find_all(exp.Column):
        base = context.base(column)
        is_own = column.table.lower() == alias
        if isinstance(item, exp.Table) and not column.table and base is not None:
            is_own = base[0].name == table_name(item, context.dialect)
        if is_own or (not column.table and base is None):
            return True
    return False


def _said(node: exp.Expr, context: Context) -> str:
    """An expression as SQL, on one line and not too long."""
    text = " ".join(node.sql(dialect=context.dialect, comments=False).split())
    return text if len(text) <= _SHOWN else f"{text[:_SHOWN]}..."


_SHOWN = 60
"""Letters of an expression that a message shows."""

_RULES: tuple[tuple[tuple[type[exp.Expr], ...], Callable[[exp.Expr, Context], Found]], ...] = (
    ((exp.EQ, exp.NEQ), _null),
    (_COMPARED, _types),
    (_ARITHMETIC, _arithmetic),
    ((exp.Div,), _division),
    ((exp.Not,), _not_in),
    ((exp.Select, exp.SetOperation, exp.Subquery), _limit),
    ((*_ONE_OF_MANY, exp.RowNumber), _picks),
    ((*_CHANGING, exp.Anonymous), _changing),
    ((exp.Join,), _join),
)
"""Which nodes each rule looks at."""
