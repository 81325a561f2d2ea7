"""What the resolver says a query's columns and rows come from."""

from __future__ import annotations

import pytest

from inchworm.core.sql.columns import Resolution, resolve
from inchworm.core.sql.parse import parse_query
from inchworm.core.structure.tables import Column, Table

TABLES = {
    table.name: table
    for table in (
        Table("raw.reading", tuple(Column(n) for n in ("gauge_id", "taken_at", "level_cm"))),
        Table("ref.gauge", tuple(Column(n) for n in ("gauge_id", "name", "river"))),
        Table("ext.feed", (), open=True),
    )
}


def resolved(sql: str, dialect: str = "duckdb") -> Resolution:
    return resolve(parse_query(sql, dialect), TABLES, dialect)


def spelled(resolution: Resolution) -> dict[str, set[str]]:
    """``{"peak": {"computed raw.reading.level_cm"}, "": {"rows ..."}}``; "" stands for the rows."""
    said = {
        column.name: {f"{how} {node}" for node, how in column.sources}
        for column in resolution.columns
    }
    return said | {"": {f"{how} {node}" for node, how in resolution.rows}}


LEVEL, GAUGE, TAKEN = "raw.reading.level_cm", "raw.reading.gauge_id", "raw.reading.taken_at"
NAME, REF = "ref.gauge.name", "ref.gauge.gauge_id"

CASES = {
    "a plain column is copied": (
        "SELECT level_cm FROM raw.reading",
        {"level_cm": {f"copied {LEVEL}"}, "": set()},
    ),
    "an alias and parentheses keep a copy": (
        "SELECT (r.level_cm) AS x FROM raw.reading r",
        {"x": {f"copied {LEVEL}"}, "": set()},
    ),
    "a cast computes": (
        "SELECT level_cm::INT AS x FROM raw.reading",
        {"x": {f"computed {LEVEL}"}, "": set()},
    ),
    "CASE takes its conditions too": (
        "SELECT CASE WHEN level_cm > 0 THEN gauge_id END AS x FROM raw.reading",
        {"x": {f"computed {LEVEL}", f"computed {GAUGE}"}, "": set()},
    ),
    "group keys decide rows, by ordinal and alias": (
        "SELECT date_trunc('hour', taken_at) AS h, max(level_cm) AS m FROM raw.reading GROUP BY h",
        {"h": {f"computed {TAKEN}"}, "m": {f"computed {LEVEL}"}, "": {f"rows {TAKEN}"}},
    ),
    "GROUP BY ALL means what is not aggregated": (
        "SELECT gauge_id, count(*) AS n FROM raw.reading GROUP BY ALL",
        {"gauge_id": {f"copied {GAUGE}"}, "n": set(), "": {f"rows {GAUGE}"}},
    ),
    "WHERE and HAVING decide rows": (
        "SELECT gauge_id FROM raw.reading WHERE level_cm > 0 GROUP BY 1 HAVING max(taken_at) > 0",
        {
            "gauge_id": {f"copied {GAUGE}"},
            "": {f"rows {LEVEL}", f"rows {GAUGE}", f"rows {TAKEN}"},
        },
    ),
    "USING merges both sides": (
        "SELECT gauge_id, name FROM raw.reading JOIN ref.gauge USING (gauge_id)",
        {
            "gauge_id": {f"copied {GAUGE}", f"copied {REF}"},
            "name": {f"copied {NAME}"},
            "": {f"rows {GAUGE}", f"rows {REF}"},
        },
    ),
    "NATURAL joins by what both have": (
        "SELECT name, level_cm FROM raw.reading NATURAL JOIN ref.gauge",
        {
            "name": {f"copied {NAME}"},
            "level_cm": {f"copied {LEVEL}"},
            "": {f"rows {GAUGE}", f"rows {REF}"},
        },
    ),
    "a star leaves out and replaces": (
        "SELECT * EXCLUDE (taken_at) REPLACE (level_cm + 1 AS level_cm) FROM raw.reading",
        {"gauge_id": {f"copied {GAUGE}"}, "level_cm": {f"computed {LEVEL}"}, "": set()},
    ),
    "a CTE hides a table of its name": (
        "WITH reading AS (SELECT name AS level_cm FROM ref.gauge) SELECT level_cm FROM reading",
        {"level_cm": {f"copied {NAME}"}, "": set()},
    ),
    "a CTE that is not used adds nothing": (
        "WITH spare AS (SELECT * FROM raw.reading WHERE level_cm > 0) SELECT name FROM ref.gauge",
        {"name": {f"copied {NAME}"}, "": set()},
    ),
    "a recursive CTE reaches its fixed point": (
        "WITH RECURSIVE c(n, m) AS (SELECT gauge_id, 0 FROM ref.gauge UNION ALL "
        "SELECT m, n FROM c WHERE n < 9) SELECT m FROM c",
        {"m": {f"copied {REF}"}, "": {f"rows {REF}"}},
    ),
    "set operations go by position": (
        "SELECT name FROM ref.gauge UNION ALL SELECT river FROM ref.gauge",
        {"name": {f"copied {NAME}", "copied ref.gauge.river"}, "": set()},
    ),
    "a distinct set operation compares all columns": (
        "SELECT name FROM ref.gauge UNION SELECT river FROM ref.gauge",
        {
            "name": {f"copied {NAME}", "copied ref.gauge.river"},
            "": {f"rows {NAME}", "rows ref.gauge.river"},
        },
    ),
    "EXCEPT takes values from the left only": (
        "SELECT name FROM ref.gauge EXCEPT SELECT river FROM ref.gauge",
        {"name": {f"copied {NAME}"}, "": {f"rows {NAME}", "rows ref.gauge.river"}},
    ),
    "a window's partition and order compute": (
        "SELECT row_number() OVER (PARTITION BY gauge_id ORDER BY taken_at) AS n FROM raw.reading",
        {"n": {f"computed {GAUGE}", f"computed {TAKEN}"}, "": set()},
    ),
    "a named window is looked up": (
        "SELECT sum(level_cm) OVER w AS s FROM raw.reading WINDOW w AS (ORDER BY taken_at)",
        {"s": {f"computed {LEVEL}", f"computed {TAKEN}"}, "": set()},
    ),
    "QUALIFY decides rows": (
        "SELECT name FROM ref.gauge QUALIFY row_number() OVER (ORDER BY river) = 1",
        {"name": {f"copied {NAME}"}, "": {"rows ref.gauge.river"}},
    ),
    "a scalar subquery computes, its conditions too": (
        "SELECT (SELECT max(level_cm) FROM raw.reading r WHERE r.gauge_id = g.gauge_id) AS top "
        "FROM ref.gauge g",
        {"top": {f"computed {LEVEL}", f"computed {GAUGE}", f"computed {REF}"}, "": set()},
    ),
    "EXISTS decides rows, its select list does not": (
        "SELECT name FROM ref.gauge g WHERE EXISTS "
        "(SELECT level_cm FROM raw.reading r WHERE r.gauge_id = g.gauge_id)",
        {"name": {f"copied {NAME}"}, "": {f"rows {GAUGE}", f"rows {REF}"}},
    ),
    "an order alone is no edge": (
        "SELECT name FROM ref.gauge ORDER BY river",
        {"name": {f"copied {NAME}"}, "": set()},
    ),
    "an order under a limit is": (
        "SELECT name FROM ref.gauge ORDER BY river LIMIT 3",
        {"name": {f"copied {NAME}"}, "": {"rows ref.gauge.river"}},
    ),
    "DISTINCT ON and its order decide rows": (
        "SELECT DISTINCT ON (river) name FROM ref.gauge ORDER BY gauge_id",
        {"name": {f"copied {NAME}"}, "": {"rows ref.gauge.river", f"rows {REF}"}},
    ),
    "an own alias can be used again": (
        "SELECT level_cm + 1 AS a, a * 2 AS b FROM raw.reading",
        {"a": {f"computed {LEVEL}"}, "b": {f"computed {LEVEL}"}, "": set()},
    ),
    "a lambda's variable is no column": (
        "SELECT list_transform([level_cm], name -> name + gauge_id) AS x FROM raw.reading",
        {"x": {f"computed {LEVEL}", f"computed {GAUGE}"}, "": set()},
    ),
    "a derived table's columns can be renamed": (
        "SELECT b FROM (SELECT name, river FROM ref.gauge) AS d(a, b)",
        {"b": {"copied ref.gauge.river"}, "": set()},
    ),
    "VALUES come from nowhere": (
        "SELECT v.n, name FROM ref.gauge JOIN (VALUES (1)) AS v(n) ON v.n = gauge_id",
        {"n": set(), "name": {f"copied {NAME}"}, "": {f"rows {REF}"}},
    ),
    "an unnested list multiplies rows": (
        "SELECT gauge_id, unnest([name]) AS u FROM ref.gauge",
        {"gauge_id": {f"copied {REF}"}, "u": {f"computed {NAME}"}, "": {f"rows {NAME}"}},
    ),
    "a lateral join reads what stands before it": (
        "SELECT l.x FROM ref.gauge g, LATERAL (SELECT g.name AS x) l",
        {"x": {f"copied {NAME}"}, "": set()},
    ),
    "a pivot computes its columns and groups by the others": (
        "SELECT * FROM raw.reading PIVOT (max(level_cm) FOR gauge_id IN (1 AS one, 2 AS two))",
        {
            "taken_at": {f"copied {TAKEN}"},
            "one": {f"computed {LEVEL}", f"computed {GAUGE}"},
            "two": {f"computed {LEVEL}", f"computed {GAUGE}"},
            "": {f"rows {TAKEN}"},
        },
    ),
    "a pivot statement groups as it says": (
        "PIVOT raw.reading ON gauge_id IN (1) USING max(level_cm) GROUP BY taken_at",
        {
            "taken_at": {f"copied {TAKEN}"},
            "1": {f"computed {LEVEL}", f"computed {GAUGE}"},
            "": {f"rows {TAKEN}"},
        },
    ),
    "an unpivot copies into its value and leaves nulls out": (
        "SELECT * FROM ref.gauge UNPIVOT (word FOR what IN (name, river))",
        {
            "gauge_id": {f"copied {REF}"},
            "what": set(),
            "word": {f"copied {NAME}", "copied ref.gauge.river"},
            "": {f"rows {NAME}", "rows ref.gauge.river"},
        },
    ),
    "an open table gives any column": (
        "SELECT anything FROM ext.feed",
        {"anything": {"copied ext.feed.anything"}, "": set()},
    ),
}


@pytest.mark.parametrize(("sql", "expected"), CASES.values(), ids=CASES.keys())
def test_sources(sql: str, expected: dict[str, set[str]]) -> None:
    """Each construct has exactly the sources that the conventions give it."""
    found = resolved(sql)
    assert spelled(found) == expected
    assert found.problems == ()


@pytest.mark.parametrize(
    ("sql", "kind", "name", "line", "suggestion"),
    [
        ("SELECT nme FROM ref.gauge", "unknown-column", "nme", 1, "name"),
        ("SELECT 1\nFROM ref.gage", "unknown-table", "ref.gage", 2, "ref.gauge"),
        (
            "SELECT gauge_id\nFROM raw.reading, ref.gauge",
            "ambiguous-column",
            "gauge_id",
            1,
            None,
        ),
        ("SELECT q.name FROM ref.gauge g", "unknown-table", "q", 1, None),
    ],
    ids=["unknown column", "unknown table", "ambiguous column", "unknown alias"],
)
def test_problems(sql: str, kind: str, name: str, line: int, suggestion: str | None) -> None:
    """What is wrong is reported with its line, and with the nearest name if one is near."""
    (problem,) = resolved(sql).problems
    assert (problem.kind, problem.name, problem.line) == (kind, name, line)
    assert problem.suggestion == suggestion


def test_a_column_that_does_not_exist_still_counts_as_read() -> None:
    """Its readers further down must be known, so the edge from it stays."""
    found = spelled(resolved("SELECT r.depth AS d FROM raw.reading r"))
    assert found["d"] == {"copied raw.reading.depth"}


def test_a_pivot_over_the_data_depends_on_everything_and_says_so() -> None:
    """What is not followed is never dropped."""
    found = resolved("PIVOT raw.reading ON gauge_id USING max(level_cm)")
    assert [problem.kind for problem in found.problems] == ["not-understood"]
    assert {str(node) for node, _ in found.rows} == {LEVEL, GAUGE, TAKEN}
    assert found.open


@pytest.mark.parametrize("dialect", ["duckdb", "postgres", "sqlite", "mysql", "spark"])
def test_dialects_agree_on_plain_sql(dialect: str) -> None:
    """The same plain query has the same sources in every dialect."""
    sql = (
        "WITH r AS (SELECT gauge_id, level_cm FROM raw.reading WHERE taken_at > 0) "
        "SELECT g.name, max(r.level_cm) AS top FROM r JOIN ref.gauge g ON g.gauge_id = r.gauge_id "
        "GROUP BY g.name"
    )
    assert spelled(resolved(sql, dialect)) == {
        "name": {f"copied {NAME}"},
        "top": {f"computed {LEVEL}"},
        "": {f"rows {TAKEN}", f"rows {GAUGE}", f"rows {REF}", f"rows {NAME}"},
    }


@pytest.mark.parametrize(
    ("dialect", "sql", "same"),
    [
        ("duckdb", 'SELECT "Name" FROM ref.gauge', True),
        ("postgres", 'SELECT "Name" FROM ref.gauge', False),
        ("postgres", "SELECT NAME FROM REF.Gauge", True),
        ("snowflake", 'SELECT "NAME" FROM ref.gauge', True),
    ],
)
def test_case_of_names(dialect: str, sql: str, same: bool) -> None:
    """Quotes make case count where the dialect says so."""
    assert (resolved(sql, dialect).problems == ()) is same
