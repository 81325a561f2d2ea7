"""The rows that a flow sends. With fields that are calculated, their map is part of the query."""

from __future__ import annotations

import re
from collections.abc import Mapping
from typing import TYPE_CHECKING

from msgspec import Struct

from inchworm.core.sql.problems import SqlProblem
from inchworm.kinds.flow_settings import Flow

if TYPE_CHECKING:  # a flow of a table's rows as they are does without the parser
    from sqlglot import exp

_COLUMN = re.compile(r"[\w$ ]+")


def is_calculated(text: str) -> bool:
    """Whether a field comes from an expression, and not from the column of that name."""
    return _COLUMN.fullmatch(text) is None


class OutwardRows(Struct, frozen=True, kw_only=True):
    """Where the values of a flow's fields come from.

    Attributes:
        query: the rows; None where they are those of a table, as they are.
        fields: the column of these rows behind each field.
        once_per: the columns of these rows by which one is told apart from others.
    """

    query: exp.Query | None
    fields: Mapping[str, str]
    once_per: tuple[str, ...]


def outward_rows(flow: Flow) -> OutwardRows:
    """The rows of an outward flow, with all expressions of its fields calculated in the query.

    Raises:
        SqlProblem: when its query does not parse, or an expression: see :func:`expression_of`.
    """
    source, fields = flow.settings.from_, flow.settings.fields
    once_per = flow.settings.once_per
    is_plain = not any(map(is_calculated, fields.values()))
    if is_plain and not source.query:
        return OutwardRows(query=None, fields=fields, once_per=once_per)
    from sqlglot import exp

    from inchworm.core.sql.parse import parse_query

    query = parse_query(source.query, flow.dialect, flow.declared) if source.query else None
    if is_plain:
        return OutwardRows(query=query, fields=fields, once_per=once_per)
    if len({name.lower() for name in fields}) < len(fields):
        raise SqlProblem("two fields differ only in upper and lower case", None)
    told_apart = {f"once per {number}": column for number, column in enumerate(once_per, 1)}
    shown = [
        exp.alias_(expression_of(text, flow), name, quoted=True)
        for name, text in {**fields, **told_apart}.items()
    ]
    rows = exp.to_table(source.table or "") if query is None else query.subquery("source")
    return OutwardRows(
        query=exp.select(*shown).from_(rows),
        fields={name: name for name in fields},
        once_per=tuple(told_apart),
    )


def expression_of(text: str, flow: Flow) -> exp.Expr:
    """The expression behind a field: over the columns of one row.

    Raises:
        SqlProblem: when it does not parse, is more than one expression, or needs many rows.
    """
    from sqlglot import exp

    from inchworm.core.sql.parse import parse_query

    if not is_calculated(text):
        return exp.column(exp.to_identifier(text))
    try:
        query = parse_query(f"SELECT {text}\n", flow.dialect, flow.declared)
    except SqlProblem as problem:
        raise SqlProblem(f"{text}: {problem.reason}", None) from problem
    given = [name for name, value in query.args.items() if value]
    if not isinstance(query, exp.Select) or given != ["expressions"] or len(query.selects) != 1:
        raise SqlProblem(f"{text} is not one expression", None)
    expression = query.selects[0].pop()
    if isinstance(expression, exp.Alias | exp.Star):
        raise SqlProblem(f"{text} is not one expression", None)
    for aggregate in expression.find_all(exp.AggFunc):
        if aggregate.find_ancestor(exp.Window, exp.Query) is None:
            raise SqlProblem(f"{text} takes many rows together; write the query under [from]", None)
    return expression
