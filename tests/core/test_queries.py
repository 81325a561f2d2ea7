"""The one query of a model: what is none, what its expressions are, and where it reads outside."""

from __future__ import annotations

import pytest
from sqlglot import exp

from inchworm.core.sql.altered import altered_tables
from inchworm.core.sql.outside import place_of, places_of
from inchworm.core.sql.parse import parse_query
from inchworm.core.sql.problems import SqlProblem
from inchworm.core.sql.render import line_of_parameter, to_text
from inchworm.core.sql.types import type_of

TYPES = {"n": "INT", "m": "INT", "b": "BIGINT", "d": "DOUBLE", "t": "TEXT", "at": "TIMESTAMP"}


@pytest.mark.parametrize(
    ("text", "reason", "line"),
    [
        ("", "has no SELECT", None),
        ("-- nothing", "has no SELECT", None),
        ("SELECT 1;\n\nSELECT 2", "has more than one statement; a model is one SELECT", 3),
        ("\nINSERT INTO a VALUES (1)", "is INSERT, not a SELECT", 2),
        ("DROP TABLE a", "is DROP, not a SELECT", 1),
        ("\n\n1 + 1", "has no SELECT", 3),
    ],
)
def test_what_is_not_one_query(text: str, reason: str, line: int | None) -> None:
    with pytest.raises(SqlProblem) as told:
        parse_query(text, "duckdb")
    assert (told.value.reason, told.value.line) == (reason, line)


@pytest.mark.parametrize(
    ("text", "type_"),
    [
        ("1", "INT"),
        ("1.5", "unknown"),
        ("'a'", "TEXT"),
        ("true", "BOOLEAN"),
        ("count(*)", "BIGINT"),
        ("n", "INT"),
        ("(n)", "INT"),
        ("n + m", "INT"),
        ("n + (m + n)", "INT"),
        ("d + d", "DOUBLE"),
        ("n + d", "unknown"),
        ("t + t", "unknown"),
        ("at + at", "unknown"),
        ("n > 1 AND m IS NULL", "BOOLEAN"),
        ("coalesce(n, m, 1)", "INT"),
        ("coalesce(n, b)", "unknown"),
        ("CASE WHEN n > 1 THEN t ELSE 'x' END", "TEXT"),
        ("CASE WHEN n > 1 THEN t END", "TEXT"),
        ("CASE WHEN n > 1 THEN t ELSE NULL END", "unknown"),
        ("CAST(t AS DATE)", "DATE"),
        ("avg(n)", "DOUBLE"),
        ("avg(at)", "unknown"),
        ("max(n)", "INT"),
        ("max(n, 3)", "unknown"),
        ("2147483647", "INT"),
        ("2147483648", "BIGINT"),
        ("9223372036854775808", "unknown"),
        ("t || t", "TEXT"),
        ("length(t)", "BIGINT"),
        ("upper(t)", "TEXT"),
        ("date_trunc('day', at)", "TIMESTAMP"),
        ("no_such_function(n)", "unknown"),
    ],
)
def test_the_type_of_an_expression_where_it_is_certain(text: str, type_: str) -> None:
    (node,) = parse_query(f"SELECT {text}", "duckdb").expressions
    assert type_of(node, lambda column: TYPES[column.name], "duckdb") == type_


@pytest.mark.parametrize(
    ("call", "place"),
    [
        ("read_csv('a.csv')", "a.csv"),
        ("read_csv('a.csv', header = true)", "a.csv"),
        ("read_text('a.txt')", "a.txt"),
        ("st_read('map.gpkg')", "map.gpkg"),
        ("read_parquet(['a.parquet'])", "a.parquet"),
        ("read_parquet(['a.parquet', 'b.parquet'])", None),
        ("read_csv(:folder || '/a.csv')", "${folder}/a.csv"),
        ("read_parquet('a.parquet')", "a.parquet"),
        ("read_parquet('a.parquet', filename = true)", "a.parquet"),
        ("parquet_scan('a.parquet')", "a.parquet"),
        ("read_csv(upper('a'))", None),
        ("glob()", None),
    ],
)
def test_the_place_that_a_function_reads(call: str, place: str | None) -> None:
    query = parse_query(f"SELECT * FROM {call}", "duckdb")
    table = query.find(exp.Table)
    assert table is not None
    assert place_of(table.this) == place


@pytest.mark.parametrize("function", ["read_csv", "read_parquet", "read_json", "read_text"])
def test_the_places_of_a_list_are_all_read(function: str) -> None:
    query = parse_query(f"SELECT * FROM {function}(['a', 'b', upper('c')])", "duckdb")
    table = query.find(exp.Table)
    assert table is not None
    assert places_of(table.this) == ["a", "b", None]


def test_a_parameter_is_on_the_line_where_it_first_stands() -> None:
    text = "SELECT\n  :from_day_2,\n  :from_day,\n  :from_day"
    assert line_of_parameter("from_day", text) == 3
    assert line_of_parameter("from_day_2", text) == 2
    assert line_of_parameter("from", text) is None
    assert line_of_parameter("a", ":a") == 1


@pytest.mark.parametrize("depth", [10, 400, 5_000])
def test_a_deep_query_is_written_like_any_other(depth: int) -> None:
    text = to_text(parse_query("SELECT " + " + ".join(["1"] * depth), "duckdb"), "duckdb")
    assert text.count("1") == depth


@pytest.mark.parametrize(
    ("script", "tables"),
    [
        ("ALTER TABLE Ops.T ADD COLUMN n INT; DROP VIEW ops.v", ["ops.t", "ops.v"]),
        ("CREATE INDEX i ON ops.t (n); COMMENT ON TABLE ops.u IS 'x'", ["ops.t", "ops.u"]),
        ("TRUNCATE TABLE ops.t", ["ops.t"]),
        ("CREATE TABLE ops.t (n INT); INSERT INTO ops.u VALUES (1)", []),
        ("ALTER TABLE", []),
    ],
)
def test_the_tables_that_only_their_owner_alters(script: str, tables: list[str]) -> None:
    assert list(altered_tables(script, "postgres")) == tables


SHORT = [
    ("SELECT a, sum(b) AS s, c FROM m.t GROUP BY ALL", "GROUP BY 1, 3"),
    ("SELECT sum(b) AS s FROM m.t GROUP BY ALL", "FROM m.t"),
    ("SELECT a, sum(b) OVER () AS w, max(c) AS c FROM m.t GROUP BY ALL", "GROUP BY 1, 2"),
    (
        "SELECT a, (SELECT max(x) FROM m.u) AS m, count(*) AS n FROM m.t GROUP BY ALL",
        "GROUP BY 1, 2",
    ),
    ("SELECT a, b FROM m.t ORDER BY ALL DESC", "ORDER BY 1 DESC, 2 DESC"),
]


@pytest.mark.parametrize(("sql", "end"), SHORT)
def test_short_forms_are_spelled_out_where_they_are_unknown(sql: str, end: str) -> None:
    """For servers; DuckDB gets its own."""
    query = parse_query(sql, "duckdb")
    for dialect in ("postgres", "sqlite"):
        told = " ".join(to_text(query, dialect).replace(" NULLS FIRST", "").split())
        assert told.replace(" NULLS LAST", "").endswith(end)
    assert " ".join(to_text(query, "duckdb").split()).endswith("ALL" + " DESC" * ("DESC" in sql))


def test_an_array_of_json_has_the_name_that_the_database_knows() -> None:
    query = parse_query("SELECT a, json_group_array(b) AS j FROM m.t GROUP BY ALL", "duckdb")
    assert "json_agg(b)" in to_text(query, "postgres").lower()
    assert to_text(query, "postgres").split()[-1] == "1"
