"""Rules about queries: each finds what it is about, and is quiet on what is nearly the same."""

from __future__ import annotations

import pytest

from inchworm.core.checks import rules
from inchworm.core.checks.query_rules import Context, suspicions
from inchworm.core.sql.columns import resolve
from inchworm.core.sql.parse import parse_query
from inchworm.core.structure.tables import Column, Table

TABLES = {
    table.name: table
    for table in (
        Table(
            "raw.reading",
            (
                Column("gauge_id", "INT", required=True),
                Column("at", "TIMESTAMP", required=True),
                Column("level", "DOUBLE"),
                Column("code", "TEXT"),
                Column("seen", "TIMESTAMPTZ"),
            ),
            key=("gauge_id", "at"),
        ),
        Table(
            "ref.gauge",
            (Column("id", "INT", required=True), Column("river", "TEXT"), Column("zero", "INT")),
            key=("id",),
        ),
        Table("ref.visit", (Column("gauge_id", "INT"), Column("day", "DATE"))),
        Table("ref.shift", (Column("gauge_id", "INT"), Column("n", "INT")), key=("gauge_id", "n")),
    )
}


def found(sql: str, dialect: str = "duckdb", *, grows: bool = False) -> set[str]:
    """The rules that say something about a query."""
    query = parse_query(sql, dialect)
    resolution = resolve(query, TABLES, dialect)
    assert [p for p in resolution.problems if p.kind != "not-understood"] == []
    context = Context(
        query=query, resolution=resolution, tables=TABLES, dialect=dialect, grows=grows
    )
    said = list(suspicions(context))
    assert all(line is not None for _, _, line in said)
    return {rule.id for rule, _, _ in said}


READING, GAUGE = "FROM raw.reading r", "FROM ref.gauge g"

CASES: dict[rules.Rule, tuple[str, list[str], list[str]]] = {
    rules.COMPARED_WITH_NULL: (
        "duckdb",
        [
            f"SELECT r.at {READING} WHERE level = NULL",
            f"SELECT NULL <> code AS x {READING}",
        ],
        [
            f"SELECT r.at {READING} WHERE level IS NULL",
            f"SELECT r.at {READING} WHERE level IS NOT DISTINCT FROM NULL",
        ],
    ),
    rules.TEXT_AND_NUMBER: (
        "duckdb",
        [
            f"SELECT r.at {READING} WHERE code > level",
            f"SELECT r.at {READING} JOIN ref.gauge g ON g.river = r.gauge_id AND g.id = r.gauge_id",
            f"SELECT r.at {READING} WHERE upper(code) = gauge_id",
        ],
        [
            f"SELECT r.at {READING} WHERE code = '5' AND level > 5",
            f"SELECT r.at {READING} WHERE CAST(code AS DOUBLE) > level",
        ],
    ),
    rules.ARITHMETIC_ON_TEXT: (
        "duckdb",
        [f"SELECT code * 2 AS x {READING}", f"SELECT level - upper(code) AS x {READING}"],
        [f"SELECT code || '2' AS x {READING}", f"SELECT level * 2 AS x {READING}"],
    ),
    rules.ZONES_MIXED: (
        "duckdb",
        [f"SELECT r.level {READING} WHERE seen > r.at", f"SELECT seen - r.at AS x {READING}"],
        [
            f"SELECT r.level {READING} WHERE CAST(seen AS TIMESTAMP) > r.at",
            f"SELECT r.level {READING} WHERE r.at > '2026-01-01'",
        ],
    ),
    rules.DIVIDES_BY_ZERO: (
        "postgres",
        [
            f"SELECT level / zero AS x {READING} JOIN ref.gauge g ON g.id = r.gauge_id",
            f"SELECT sum(level) / sum(gauge_id) AS x {READING}",
        ],
        [
            f"SELECT 1 / NULLIF(g.zero, 0) AS x {GAUGE}",
            f"SELECT CASE WHEN g.zero <> 0 THEN 1 / g.zero END AS x {GAUGE}",
            f"SELECT 1 / g.zero AS x {GAUGE} WHERE g.zero > 0",
            f"SELECT 1 / g.zero AS x {GAUGE} QUALIFY g.zero > 0",
            f"SELECT 1 / g.zero AS x {GAUGE} GROUP BY g.zero HAVING g.zero > 0",
            f"SELECT sum(level) / count(*) AS x {READING}",
            f"SELECT level / 2 AS x {READING}",
        ],
    ),
    rules.NOT_IN_NULLABLE: (
        "duckdb",
        [
            f"SELECT r.at {READING} WHERE gauge_id NOT IN (SELECT zero FROM ref.gauge)",
            f"SELECT r.at {READING} WHERE gauge_id NOT IN (1, NULL)",
        ],
        [
            f"SELECT r.at {READING} WHERE gauge_id NOT IN (SELECT id FROM ref.gauge)",
            f"SELECT r.at {READING} WHERE gauge_id IN (SELECT zero FROM ref.gauge)",
            f"SELECT r.at {READING} WHERE gauge_id NOT IN "
            "(SELECT zero FROM ref.gauge WHERE zero IS NOT NULL)",
            f"SELECT r.at {READING} WHERE gauge_id NOT IN (1, 2)",
        ],
    ),
    rules.NO_ORDER: (
        "duckdb",
        [
            f"SELECT r.at {READING} LIMIT 10",
            f"SELECT gauge_id, first(level) AS x {READING} GROUP BY gauge_id",
            f"SELECT gauge_id, any_value(level) AS x {READING} GROUP BY gauge_id",
            f"SELECT row_number() OVER (PARTITION BY gauge_id) AS n {READING}",
        ],
        [
            f"SELECT r.at {READING} ORDER BY r.at LIMIT 10",
            f"SELECT max(level) AS x {READING} LIMIT 1",
            f"SELECT gauge_id, first(level ORDER BY r.at) AS x {READING} GROUP BY gauge_id",
            f"SELECT row_number() OVER (PARTITION BY gauge_id ORDER BY r.at) AS n {READING}",
            f"SELECT row_number() OVER w AS n {READING} WINDOW w AS (ORDER BY r.at)",
            f"SELECT g.id {GAUGE} WHERE EXISTS (SELECT 1 {READING} LIMIT 1)",
            f"SELECT * {READING} LIMIT 0",
        ],
    ),
    rules.NO_JOIN_CONDITION: (
        "duckdb",
        [
            "SELECT r.at FROM raw.reading r, ref.gauge g",
            "SELECT r.at FROM raw.reading r, ref.gauge g WHERE r.level > 5",
            "SELECT r.at FROM raw.reading r, (SELECT id FROM ref.gauge) g",
        ],
        [
            "SELECT r.at FROM raw.reading r, ref.gauge g WHERE g.id = r.gauge_id",
            "SELECT level FROM raw.reading, ref.gauge WHERE id = gauge_id",
            "SELECT r.at FROM raw.reading r CROSS JOIN ref.gauge g",
            "SELECT r.at FROM raw.reading r, (SELECT max(zero) AS z FROM ref.gauge) g",
            "SELECT r.at, x FROM raw.reading r, unnest([r.level]) AS u(x)",
            "SELECT r.at FROM raw.reading r, LATERAL (SELECT r.level AS l) x",
        ],
    ),
    rules.LESS_THAN_A_KEY: (
        "duckdb",
        [
            "SELECT r.at FROM raw.reading r JOIN ref.shift s ON s.gauge_id = r.gauge_id",
            "SELECT r.at FROM raw.reading r JOIN ref.shift s USING (gauge_id)",
            "SELECT r.at FROM raw.reading r LEFT JOIN ref.shift s ON r.gauge_id = s.gauge_id "
            "AND s.n > 1",
        ],
        [
            "SELECT r.at FROM raw.reading r JOIN ref.gauge g ON g.id = r.gauge_id",
            "SELECT r.at, e.at AS earlier FROM raw.reading r "
            "JOIN raw.reading e ON e.gauge_id = r.gauge_id AND e.at < r.at",
            "SELECT r.at FROM raw.reading r "
            "ASOF JOIN raw.reading e ON e.gauge_id = r.gauge_id AND r.at >= e.at",
            "SELECT r.at FROM raw.reading r JOIN ref.visit v ON v.gauge_id = r.gauge_id",
            "SELECT r.at FROM raw.reading r SEMI JOIN ref.shift s ON s.gauge_id = r.gauge_id",
            "SELECT r.at FROM raw.reading r JOIN "
            "(SELECT gauge_id, max(n) AS n FROM ref.shift GROUP BY gauge_id) s "
            "ON s.gauge_id = r.gauge_id",
        ],
    ),
}

FINDS = [(rule, d, sql) for rule, (d, finds, _) in CASES.items() for sql in finds]
QUIET = [(rule, d, sql) for rule, (d, _, quiet) in CASES.items() for sql in quiet]


@pytest.mark.parametrize(("rule", "dialect", "sql"), FINDS, ids=lambda v: str(v)[-60:])
def test_what_is_probably_not_meant(rule: rules.Rule, dialect: str, sql: str) -> None:
    """It is found, and nothing else is."""
    assert found(sql, dialect) == {rule.id}


@pytest.mark.parametrize(("rule", "dialect", "sql"), QUIET, ids=lambda v: str(v)[-60:])
def test_what_is_nearly_the_same(rule: rules.Rule, dialect: str, sql: str) -> None:
    """It is left alone."""
    assert found(sql, dialect) == set()


@pytest.mark.parametrize("call", ["random()", "now()", "current_user", "current_date"])
def test_rows_that_are_kept_and_change_each_time(call: str) -> None:
    """Of a view or a table that is built anew, nothing is said."""
    sql = f"SELECT gauge_id, {call} AS x FROM raw.reading"
    assert found(sql, grows=True) == {"sql/changes-each-time"}
    assert found(sql) == set()
    assert found("SELECT gauge_id, upper(code) AS x FROM raw.reading", grows=True) == set()
