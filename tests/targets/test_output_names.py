"""Columns that a select list gives no name are found by the one that the database gives them."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import psycopg
import pytest
from msgspec import Struct

from inchworm.core.sql.columns import resolve
from inchworm.core.sql.parse import parse_query
from inchworm.core.structure.tables import Column, Table
from tests import postgres

TABLE = "CREATE TABLE t (a INTEGER, b INTEGER, c TEXT, ts TIMESTAMP, l INTEGER[], p pair)"
EXPRESSIONS = (
    *("a", "(a)", "t.a", "a::text", "cast(c AS varchar(5))", "'1'::int", "1::numeric(9, 2)"),
    *("date '2026-01-01'", "interval '1 day'", "null::timestamptz", "upper(c)::text"),
    *("count(*)", "count(DISTINCT a)", "sum(a) OVER ()", "max(a) FILTER (WHERE b > 1)"),
    *("percentile_cont(0.5) WITHIN GROUP (ORDER BY b)", "string_agg(c, ',')", "every(a > 1)"),
    *("coalesce(a, b)", "nullif(a, b)", "greatest(a, b)", "concat_ws(',', c, c)", "round(a, 1)"),
    *("date_trunc('day', ts)", "extract(year FROM ts)", "to_char(ts, 'YYYY')", "age(ts)"),
    *("trim(c)", "ltrim(c)", "trim(TRAILING 'x' FROM c)", "substring(c FROM 1 FOR 2)"),
    *("position('x' IN c)", "ts AT TIME ZONE 'UTC'", 'c COLLATE "C"', "current_date", "md5(c)"),
    *("CASE WHEN a > 1 THEN b END", "CASE WHEN a > 1 THEN 1 ELSE b END", "(p).x", "l[1]"),
    *("(SELECT max(b) FROM t)", "(SELECT b AS d FROM t LIMIT 1)", "EXISTS (SELECT 1)"),
    *("ARRAY[a]", "ARRAY(SELECT 1)", "ROW(a, b)", "(a, b)", "array_position(l, 2)", "l || 1"),
    *("1", "a + 1", "-a", "a > 1", "NOT a > 1", "a IS NULL", "a IN (1, 2)", "a BETWEEN 1 AND b"),
    *("c LIKE 'x%'", "c ~ 'x'", "c || 'x'", "a > 1 AND b > 1", "jsonb_build_object('k', a) -> 'k'"),
    *("row_number() OVER (ORDER BY a)", "generate_series(1, 2)", "unnest(l)", '"a" + 1'),
)


class Server(Struct):
    """A connection to a database that has the table."""

    connection: psycopg.Connection[Any]

    def names(self, query: str) -> list[str]:
        """Those that the columns of a query have."""
        return [column.name for column in self.connection.execute(query).description or ()]


@pytest.fixture(scope="module")
def server(postgres_server: str) -> Iterator[Server]:
    with (
        postgres.database(postgres_server) as url,
        psycopg.connect(url, autocommit=True) as connection,
    ):
        connection.execute("CREATE TYPE pair AS (x INTEGER, y TEXT)")
        connection.execute(TABLE)
        yield Server(connection)


def ours(query: str) -> list[str]:
    columns = tuple(Column(name, "INTEGER") for name in ("a", "b", "c", "ts", "l", "p"))
    found = resolve(parse_query(query, "postgres"), {"t": Table("t", columns)}, "postgres")
    assert [p for p in found.problems if p.kind != "not-understood"] == []
    return [column.name for column in found.columns]


@pytest.mark.parametrize("expression", EXPRESSIONS)
def test_a_column_without_a_name_has_that_which_the_server_gives_it(
    server: Server, expression: str
) -> None:
    grouped = " GROUP BY p, l, ts, c, b, a" if "(" in expression else ""
    query = f"SELECT {expression} FROM t{grouped}"
    assert ours(query) == server.names(query)


@pytest.mark.parametrize(
    "query",
    [
        "SELECT q.ts, q.count FROM (SELECT ts::date, count(*) FROM t GROUP BY 1) AS q",
        "SELECT column2, column1 FROM (VALUES (1, 'a')) AS v",
        "WITH q AS (SELECT coalesce(a, 0) FROM t) SELECT coalesce FROM q",
    ],
)
def test_it_can_be_read_by_that_name(server: Server, query: str) -> None:
    assert ours(query) == server.names(query)
