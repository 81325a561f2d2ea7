"""Forms of DuckDB that are told at check: those that the other databases refuse, and no others."""

from __future__ import annotations

import sqlite3

import psycopg
import pytest

from inchworm.core.sql.columns import resolve
from inchworm.core.sql.duckdb_forms import _OF_NAMES, forms_of
from inchworm.core.sql.parse import parse_query
from inchworm.core.sql.render import to_text
from inchworm.core.structure.tables import Column, Table
from tests import postgres

TABLES = {"t": Table("t", (Column("a", "INTEGER"), Column("b", "VARCHAR"), Column("c", "DATE")))}
QUERIES = """
SELECT arg_max(a, c) AS x FROM t
SELECT max_by(a, c) AS x FROM t
SELECT * EXCLUDE (a) FROM t
SELECT * REPLACE (a + 1 AS a) FROM t
SELECT COLUMNS('a|b') FROM t
SELECT {'k': a} AS x FROM t
SELECT [{'k': a}] AS x FROM t
SELECT list_transform([a], lambda x: x + 1) AS x FROM t
SELECT [x + 1 for x in [a]] AS x FROM t
SELECT list_sum([a]) AS x FROM t
SELECT t.a FROM t ASOF JOIN t AS u ON t.a = u.a AND t.c >= u.c
SELECT a FROM t POSITIONAL JOIN t AS u
SELECT product(a) AS x FROM t
SELECT approx_count_distinct(a) AS x FROM t
SELECT regexp_full_match(b, 'x') AS x FROM t
SELECT dayname(c) AS x FROM t
SELECT epoch_us(CAST(c AS TIMESTAMP)) AS x FROM t
SELECT a, count(*) AS x FROM t GROUP BY ALL ORDER BY ALL
SELECT json_group_array(a) AS x FROM t
SELECT a, row_number() OVER (ORDER BY a) AS x FROM t
SELECT coalesce(b, 'x') || 'y' AS x FROM t WHERE a IN (1, 2) AND b LIKE 'x%'
SELECT a FROM t UNION ALL SELECT a FROM t
SELECT lower(b) AS x, round(a) AS y, abs(a) AS z FROM t
SELECT sum(a) FILTER (WHERE b = 'x') AS x FROM t
SELECT CAST(a AS VARCHAR) AS x, substr(b, 1, 2) AS y, replace(b, 'x', 'y') AS z FROM t
SELECT date_trunc('month', c) AS x, extract(year FROM c) AS y FROM t
SELECT stddev_samp(a) AS x FROM t
SELECT string_agg(b, ',') AS x FROM t
SELECT split_part(b, 'x', 1) AS x FROM t
"""


def test_postgresql_refuses_what_is_told(postgres_server: str) -> None:
    refused = set()
    with (
        postgres.database(postgres_server) as url,
        psycopg.connect(url, autocommit=True) as connection,
    ):
        connection.execute("CREATE TABLE t (a INTEGER, b VARCHAR, c DATE)")
        for text in QUERIES.strip().splitlines():
            try:
                connection.execute(to_text(parse_query(text, "duckdb"), "postgres"))
            except psycopg.Error:
                refused.add(text)
    assert refused == {t for t in QUERIES.strip().splitlines() if _lacks(t, "postgres")}


@pytest.mark.parametrize("text", QUERIES.strip().splitlines())
def test_sqlite_refuses_what_is_told(text: str) -> None:
    connection = sqlite3.connect(":memory:")
    connection.execute("CREATE TABLE t (a INTEGER, b VARCHAR, c DATE)")
    try:
        connection.execute(to_text(parse_query(text, "duckdb"), "sqlite"))
        is_taken = True
    except sqlite3.Error:
        is_taken = False
    connection.close()
    assert is_taken or "extract" in text or _lacks(text, "sqlite")
    assert not is_taken or not _lacks(text, "sqlite")


def test_no_function_is_told_that_postgresql_has(postgres_server: str) -> None:
    with postgres.database(postgres_server) as url, psycopg.connect(url) as connection:
        query = "SELECT proname FROM pg_proc WHERE pronamespace = 'pg_catalog'::regnamespace"
        known = {name for (name,) in connection.execute(query)}
    assert not known & {name for name, lacking in _OF_NAMES.items() if "postgres" in lacking}


def _lacks(text: str, dialect: str) -> bool:
    resolution = resolve(parse_query(text, "duckdb"), TABLES, "duckdb")
    return any(dialect in form.lacking for form in forms_of(resolution.nodes))
