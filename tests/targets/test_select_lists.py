"""Columns of a select list have the names and types that PostgreSQL gives them."""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import Any

import psycopg
import pytest
from msgspec import Struct

from inchworm.core.sql.columns import Resolution, resolve
from inchworm.core.sql.parse import parse_query
from inchworm.core.sql.type_names import normal_type
from inchworm.core.structure.tables import UNKNOWN_TYPE, Column, Table
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
    *("now()", "substr(c, 1)", "char_length(c)", "strpos(c, 'x')", "ceiling(1.5)", "a ^ 2"),
    *("make_date(2026, 1, 1)", "to_timestamp(a)", "jsonb_agg(a)", "a % 2"),
    *("pow(a, 2)", "power(a, 2)"),
    *("row_number() OVER (ORDER BY a)", "generate_series(1, 2)", "unnest(l)", '"a" + 1'),
)

CALCULATED = (
    *("a / 2", "a / 2.0", "a * 1.5", "b::bigint + a", "sum(a)", "sum(a::bigint)"),
    *("sum(a::numeric)", "avg(a)", "avg(a::float8)", "min(ts)", "count(a)"),
    *("round(a::numeric, 1)", "round(a::float8)", "floor(a::numeric)", "ceil(a::float8)"),
    *("abs(a)", "power(a, 2)", "sqrt(a)", "a % 2", "length(c)", "ts - ts"),
    *("ts - interval '1 day'", "ts::date - 1", "ts::date - ts::date"),
    *("ts::date + interval '1 day'", "now()", "now()::date", "extract(epoch from ts)"),
    *("date_part('year', ts)", "date_trunc('month', ts)", "date_trunc('month', ts)::date"),
    *("to_char(ts, 'x')", "to_date(c, 'x')", "to_timestamp(a)", "age(ts)", "random()"),
    *("a::text || b", "concat(a, b)", "array_agg(a)", "string_agg(c, '')", "jsonb_agg(a)"),
    *("row_number() over ()", "rank() over (order by a)", "ntile(2) over (order by a)"),
    *("lag(a) over (order by a)", "percent_rank() over (order by a)"),
    *("cume_dist() over (order by a)", "first_value(c) over (order by a)", "stddev(a)"),
    *("var_pop(a)", "corr(a, b)", "bool_and(a > 1)", "case when a > 1 then 1 else 2.5 end"),
    *("case when a > 1 then c end", "coalesce(a, 1.5)", "coalesce(ts::date, ts)"),
    *("greatest(a, 2.5)", "nullif(a, 1)", "1", "1.5", "1e3", "'x'", "null", "10000000000"),
    *("true", "a > 1", "a is null", "upper(c)", "left(c, 2)", "position('x' in c)"),
    *("split_part(c, ',', 1)", "regexp_replace(c, 'a', 'b')", "md5(c)", "cardinality(l)"),
    *("l[1]", "array_length(l, 1)", "generate_series(1, 2)", "unnest(l)"),
    *("make_date(2026, 1, 1)", "current_date", "current_timestamp", "localtimestamp"),
    *("current_date - 7", "width_bucket(a, 1, 2, 3)", "sign(a)", "trunc(a::numeric, 1)"),
    *("mod(a, 2)", "ln(a)", "a::float4 * b", "a::smallint + b::smallint"),
    *("a::numeric(9,2) + b", "a::numeric(9,2) * 2", "(a::numeric(9,2))", "exists (select 1)"),
    *("a in (1)", "(select max(a) from t)", "(select ts from t limit 1)"),
    *("count(*) filter (where a > 1)", "sum(a) over ()", "interval '1 day' * 2"),
    *("char_length(c)", "gen_random_uuid()", "c::uuid", "c::json -> 'x'", "c::jsonb ->> 'x'"),
    *("to_json(a)", "lower(c)::varchar(5)", "percentile_cont(0.5) within group (order by a)"),
    *("mode() within group (order by c)", "bit_and(a)", "a::bigint / 2", "sum(b::float8)"),
    *("max(a::smallint)", "avg(a::numeric)", "extract(year from ts)::int"),
    "date_part('year', ts)::int",
)


class Server(Struct):
    """A connection to a database that has the table."""

    connection: psycopg.Connection[Any]
    types: dict[int, str]

    def columns(self, query: str) -> list[tuple[str, str]]:
        """The name and the type of each column of a query."""
        return [
            (column.name, self.types[column.type_code])
            for column in self.connection.execute(query).description or ()
        ]

    def names(self, query: str) -> list[str]:
        """Those that the columns of a query have."""
        return [name for name, _ in self.columns(query)]


@pytest.fixture(scope="module")
def server(postgres_server: str) -> Iterator[Server]:
    with (
        postgres.database(postgres_server) as url,
        psycopg.connect(url, autocommit=True) as connection,
    ):
        connection.execute("CREATE TYPE pair AS (x INTEGER, y TEXT)")
        connection.execute(TABLE)
        names = connection.execute("SELECT oid, format_type(oid, NULL) FROM pg_type")
        yield Server(connection, dict(names.fetchall()))


COLUMNS = {"a": "INT", "b": "INT", "c": "TEXT", "ts": "TIMESTAMP", "l": "INT[]", "p": "pair"}


def resolved(query: str) -> Resolution:
    table = Table("t", tuple(Column(name, type_) for name, type_ in COLUMNS.items()))
    found = resolve(parse_query(query, "postgres"), {"t": table}, "postgres")
    assert [p for p in found.problems if p.kind != "not-understood"] == []
    return found


def ours(query: str) -> list[str]:
    return [column.name for column in resolved(query).columns]


def grouped(expression: str) -> str:
    """A query of an expression, which may be of all rows or of each."""
    calls = re.search(r"[a-z_]\(", expression) or "GROUP" in expression
    return f"SELECT {expression} FROM t{' GROUP BY a, b, c, ts, l, p' if calls else ''}"


def kind_of(type_: str) -> str:
    """A type without its length."""
    return normal_type(type_, "postgres").partition("(")[0]


@pytest.mark.parametrize("expression", [*EXPRESSIONS, *CALCULATED])
def test_the_type_of_a_column_is_known_right_or_not_at_all(server: Server, expression: str) -> None:
    (column,) = resolved(grouped(expression)).columns
    ((_, type_),) = server.columns(grouped(expression))
    assert column.type == UNKNOWN_TYPE or kind_of(column.type) == kind_of(type_)


@pytest.mark.parametrize("expression", EXPRESSIONS)
def test_a_column_without_a_name_has_that_which_the_server_gives_it(
    server: Server, expression: str
) -> None:
    query = grouped(expression)
    assert ours(query) == server.names(query)


@pytest.mark.parametrize(
    "query",
    [
        "SELECT q.ts, q.count FROM (SELECT ts::date, count(*) FROM t GROUP BY 1) AS q",
        "SELECT column2, column1 FROM (VALUES (1, 'a')) AS v",
        "SELECT q.y, q.x FROM (SELECT (t.p).* FROM t) AS q",
        "WITH q AS (SELECT coalesce(a, 0) FROM t) SELECT coalesce FROM q",
    ],
)
def test_it_can_be_read_by_that_name(server: Server, query: str) -> None:
    assert ours(query) == server.names(query)
