"""The SELECT of the first rows of something, also where tables that it reads are not there yet."""

from __future__ import annotations

from collections.abc import Mapping

from sqlglot import exp
from sqlglot.errors import SqlglotError

from inchworm.core.sql.only_reads import check_only_reads
from inchworm.core.sql.problems import SqlProblem
from inchworm.core.sql.renamed_tables import E, NewName, with_new_names

_LONGEST_NAME = 60
"""Bytes; PostgreSQL cuts longer names off."""


def condition_of(text: str, dialect: str) -> exp.Expr:
    """A condition on rows, as somebody wrote it.

    Raises:
        SqlProblem: when it does not parse, or does more than read.
    """
    try:
        condition = exp.condition(text, dialect=dialect)
    except SqlglotError as error:
        raise SqlProblem(f"is no condition: {text}", None) from error
    check_only_reads(condition, text)
    return condition


def first_rows(
    query: exp.Query,
    computed: Mapping[str, exp.Query],
    dialect: str,
    *,
    where: exp.Expr | None = None,
    first: int,
) -> exp.Select:
    """The SELECT of the first rows of a query.

    Args:
        query: the query, with logical names.
        computed: by logical name, the queries of tables that are to be computed instead of read,
            each behind those that it reads itself.
        dialect: the dialect of the queries.
        where: a condition on the query's rows.
        first: how many rows at most.
    """
    names = {
        table: table if len(table.encode()) < _LONGEST_NAME else f"computed {number}"
        for number, table in enumerate(computed, start=1)
    }
    select = exp.select("*").from_(_reading(query, names, dialect).subquery("rows"))
    for table, of_table in computed.items():
        alias = exp.to_identifier(names[table], quoted=True)
        select = select.with_(alias, as_=_reading(of_table, names, dialect), copy=False)
    if where is not None:
        select = select.where(_reading(where, names, dialect))
    return select.limit(first)


def _reading(query: E, names: Mapping[str, str], dialect: str) -> E:
    """A copy of a query that reads some tables under the names of CTEs."""

    def new_name(logical: str) -> NewName | None:
        return NewName("", names[logical]) if logical in names else None

    return with_new_names(query, new_name, dialect)
