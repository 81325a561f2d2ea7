"""The resolver against the database: whatever changes in the output must be an edge."""

from __future__ import annotations

import re

import duckdb
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from inchworm.core.sql.columns import resolve
from inchworm.core.sql.parse import parse_query
from inchworm.core.structure.tables import Column, Table

COLUMNS = {"s.t": ("a", "b", "c"), "s.u": ("a", "d", "e")}
TABLES = {
    name: Table(name, tuple(Column(c, "INT") for c in columns)) for name, columns in COLUMNS.items()
}

numbers = st.integers(0, 3).map(str)


@st.composite
def expressions(draw: st.DrawFn, names: list[str], depth: int = 2) -> str:
    """An integer expression over some columns."""
    column = st.sampled_from(names)
    if depth == 0:
        return draw(st.one_of(column, column, numbers))
    inner = expressions(names, depth - 1)
    shape = draw(st.integers(0, 5))
    one, other = draw(inner), draw(inner)
    return {
        0: draw(column),
        1: f"({one} + {other})",
        2: f"CASE WHEN {one} > 1 THEN {other} ELSE 0 END",
        3: f"coalesce({one}, {other})",
        4: f"greatest({one}, {other})",
        5: f"({one} - {other})",
    }[shape]


@st.composite
def sources(draw: st.DrawFn, depth: int) -> tuple[str, list[str]]:
    """A FROM clause and the columns that it makes visible."""
    shape = draw(st.integers(0, 4 if depth else 3))
    if shape == 0:
        return "s.t", ["a", "b", "c"]
    if shape == 1:
        return "s.u AS y", ["y.a", "d", "e"]
    if shape == 2:
        on = draw(st.sampled_from(["x.a = y.a", "x.b < y.d", "x.a = y.e AND y.d > 0"]))
        kind = draw(st.sampled_from(["JOIN", "LEFT JOIN"]))
        return f"s.t AS x {kind} s.u AS y ON {on}", ["x.a", "b", "c", "y.a", "d", "e"]
    if shape == 3:
        return "s.t JOIN s.u USING (a)", ["a", "b", "c", "d", "e"]
    inner, columns = draw(selects(depth - 1))
    return f"({inner}) AS q", [f"q.{name}" for name in columns]


_SHAPES = (
    "plain",
    "grouped",
    "window",
    "union",
    "distinct",
    "limited",
    "cte",
    "ranked",
    "exists",
    "rollup",
    "scalar",
)


@st.composite
def selects(draw: st.DrawFn, depth: int = 2) -> tuple[str, list[str]]:
    """A SELECT and the names of its columns."""
    from_, names = draw(sources(depth))
    shape = draw(st.sampled_from([*_SHAPES]))
    count = draw(st.integers(1, 3))
    columns = [f"k{i}" for i in range(count)]
    where = f" WHERE {draw(expressions(names, 1))} > 0" if draw(st.booleans()) else ""
    if draw(st.booleans()) and depth:
        inner, (first, *_) = draw(selects(0))
        membership = f"{draw(st.sampled_from(names))} IN (SELECT {first} FROM ({inner}) AS i)"
        where += f"{' AND' if where else ' WHERE'} {membership}"
    values = [draw(expressions(names)) for _ in columns]
    shown = ", ".join(f"{value} AS {name}" for value, name in zip(values, columns, strict=True))
    if shape == "grouped":
        key = draw(st.sampled_from(names))
        totals = ", ".join(f"sum({v}) AS {n}" for v, n in zip(values, columns, strict=True))
        return f"SELECT {key} AS g, {totals} FROM {from_}{where} GROUP BY {key}", ["g", *columns]
    if shape == "window":
        over = f"OVER (PARTITION BY {draw(st.sampled_from(names))})"
        totals = ", ".join(f"sum({v}) {over} AS {n}" for v, n in zip(values, columns, strict=True))
        return f"SELECT {totals} FROM {from_}{where}", columns
    if shape == "union":
        word = draw(st.sampled_from(["UNION ALL", "UNION", "EXCEPT", "INTERSECT"]))
        other, other_names = draw(sources(0))
        more = ", ".join(draw(st.sampled_from(other_names)) for _ in columns)
        return f"SELECT {shown} FROM {from_}{where} {word} SELECT {more} FROM {other}", columns
    if shape == "cte":
        middle = ", ".join(f"{name} + 0 AS {name}" for name in columns)
        return (
            f"WITH w AS (SELECT {shown} FROM {from_}{where}), v AS (SELECT {middle} FROM w) "
            f"SELECT v.* FROM v JOIN w ON v.{columns[0]} = w.{columns[-1]}"
        ), columns
    if shape == "ranked":
        by = ", ".join(values)
        kept = f"QUALIFY row_number() OVER (PARTITION BY {values[0]} ORDER BY {by}) = 1"
        return f"SELECT {shown} FROM {from_}{where} {kept}", columns
    if shape == "exists":
        inner, (first, *_) = draw(selects(0))
        same = f"i.{first} = {draw(st.sampled_from(names))}"
        test = f"EXISTS (SELECT 1 FROM ({inner}) AS i WHERE {same})"
        return f"SELECT {shown} FROM {from_}{where}{' AND' if where else ' WHERE'} {test}", columns
    if shape == "rollup":
        key = draw(st.sampled_from(names))
        totals = ", ".join(f"min({v}) AS {n}" for v, n in zip(values, columns, strict=True))
        sql = f"SELECT {key} AS g, {totals} FROM {from_}{where} GROUP BY ROLLUP ({key})"
        return f"{sql} HAVING count(*) > 1", ["g", *columns]
    if shape == "scalar":
        inner, (first, *_) = draw(selects(0))
        value = f"(SELECT max(i.{first}) FROM ({inner}) AS i)"
        return f"SELECT {value} + {names[0]} AS k0 FROM {from_}{where}", ["k0"]
    if shape == "distinct":
        return f"SELECT DISTINCT {shown} FROM {from_}{where}", columns
    if shape == "limited":
        order = ", ".join(columns)
        return f"SELECT {shown} FROM {from_}{where} ORDER BY {order} LIMIT 2", columns
    return f"SELECT {shown} FROM {from_}{where}", columns


@pytest.fixture(scope="module")
def database() -> duckdb.DuckDBPyConnection:
    connection = duckdb.connect()
    connection.execute("CREATE SCHEMA s")
    for name, columns in COLUMNS.items():
        shown = ", ".join(f"(i * {7 + k} + i // {k + 2}) % 4 AS {c}" for k, c in enumerate(columns))
        connection.execute(f"CREATE TABLE {name} AS SELECT {shown} FROM range(9) AS r(i)")
    return connection


@pytest.mark.long
@settings(
    deadline=None,
    suppress_health_check=[HealthCheck.too_slow, HealthCheck.function_scoped_fixture],
)
@given(selects())
def test_every_measured_dependency_is_an_edge(
    database: duckdb.DuckDBPyConnection, select: tuple[str, list[str]]
) -> None:
    """Change one input column at a time: columns of the output that change must come from it."""
    assert missing_edges(database, select[0]) == []


def missing_edges(database: duckdb.DuckDBPyConnection, sql: str) -> list[str]:
    """Dependencies that show when the query runs, but that the resolver does not know."""
    found = resolve(parse_query(sql, "duckdb"), TABLES, "duckdb")
    assert not [p for p in found.problems if p.kind not in ("ambiguous-column", "not-understood")]
    rows = {str(node) for node, _ in found.rows}
    missing = []
    before = database.execute(sql).fetchall()
    for name, columns in COLUMNS.items():
        for column in columns:
            database.execute("BEGIN")
            database.execute(f"UPDATE {name} SET {column} = ({column} * 3 + 1) % 5")
            after = database.execute(sql).fetchall()
            database.execute("ROLLBACK")
            for i, out in enumerate(found.columns):
                if sorted(map(repr, _column(before, i))) == sorted(map(repr, _column(after, i))):
                    continue
                edges = rows | {str(node) for node, _ in out.sources}
                if not {f"{name}.{column}", name} & edges:
                    missing.append(f"{name}.{column} -> {out.name}")
    return missing


CONSTRUCTS = {
    "nested and shadowing CTEs": "WITH q AS (WITH q AS (SELECT a, b FROM s.t) "
    "SELECT b AS a FROM q) SELECT a FROM q",
    "a CTE that hides a table": "WITH u AS (SELECT c AS d FROM s.t) SELECT d FROM u",
    "recursion": "WITH RECURSIVE r(n, m) AS (SELECT a, b FROM s.t UNION SELECT n + 1, m FROM r "
    "WHERE n < 3) SELECT n, m FROM r",
    "three tables by USING": "SELECT a, b, u.d, x.e FROM s.t JOIN s.u USING (a) "
    "JOIN s.u AS x USING (a)",
    "a full join by USING": "SELECT a, b, d FROM s.t FULL JOIN s.u USING (a)",
    "NATURAL": "SELECT * FROM s.t NATURAL JOIN s.u",
    "parenthesised joins": "SELECT b, d FROM (s.t JOIN s.u ON s.t.a = s.u.a)",
    "semi join": "SELECT b FROM s.t SEMI JOIN s.u USING (a)",
    "anti join": "SELECT b FROM s.t ANTI JOIN s.u ON t.a = u.d",
    "positional join": "SELECT b, d FROM s.t POSITIONAL JOIN s.u",
    "as-of join": "SELECT b, d FROM s.t ASOF JOIN s.u ON t.a >= u.a",
    "lateral": "SELECT b, l.m FROM s.t, LATERAL (SELECT max(d) AS m FROM s.u WHERE u.a = t.a) AS l",
    "lateral that nobody called so": "SELECT b, m FROM s.t, (SELECT t.c + 1 AS m)",
    "unnest in FROM": "SELECT b, v FROM s.t, unnest([a, c]) AS n(v)",
    "unnest in SELECT": "SELECT b, unnest([a, c]) AS v FROM s.t",
    "a series by column": "SELECT b, i FROM s.t, generate_series(1, c) AS g(i)",
    "values": "SELECT b, w FROM s.t JOIN (VALUES (1, 'x'), (2, 'y')) AS v(k, w) ON v.k = t.a",
    "set operations by name": "SELECT a, b FROM s.t UNION ALL BY NAME SELECT d AS b, a FROM s.u",
    "set operations nested": "(SELECT a FROM s.t UNION ALL SELECT d FROM s.u) "
    "EXCEPT SELECT e FROM s.u",
    "intersect all": "SELECT a FROM s.t INTERSECT ALL SELECT a FROM s.u",
    "a star renamed": "SELECT * RENAME (b AS z) FROM s.t",
    "a qualified star": "SELECT x.* EXCLUDE (a), y.d FROM s.t AS x JOIN s.u AS y ON x.a = y.a",
    "columns by function": "SELECT COLUMNS(*) FROM s.t",
    "columns in a function": "SELECT max(COLUMNS(*)) FROM s.t",
    "a correlated subquery two levels down": "SELECT b, (SELECT count(*) FROM s.u WHERE d > "
    "(SELECT min(e) FROM s.u AS z WHERE z.a = t.a)) AS n FROM s.t",
    "ANY": "SELECT b FROM s.t WHERE a = ANY (SELECT d FROM s.u)",
    "ALL": "SELECT b FROM s.t WHERE a >= ALL (SELECT d FROM s.u WHERE e = t.c)",
    "NOT IN with two columns": "SELECT c FROM s.t WHERE (a, b) NOT IN (SELECT d, e FROM s.u)",
    "EXISTS in SELECT": "SELECT b, EXISTS (SELECT 1 FROM s.u WHERE d = t.a) AS x FROM s.t",
    "windows by name": "SELECT sum(b) OVER w AS x, rank() OVER (w ROWS UNBOUNDED PRECEDING) AS y "
    "FROM s.t WINDOW w AS (PARTITION BY a ORDER BY c)",
    "a window frame": "SELECT sum(b) OVER (ORDER BY c, a ROWS 1 PRECEDING) AS x FROM s.t",
    "FILTER": "SELECT a, count(*) FILTER (WHERE b > 1) AS n FROM s.t GROUP BY a",
    "WITHIN GROUP": "SELECT percentile_disc(0.5) WITHIN GROUP (ORDER BY b) AS m FROM s.t",
    "an ordered aggregate": "SELECT string_agg(b, ',' ORDER BY c, b) AS x FROM s.t",
    "arg_max": "SELECT arg_max(a, b * 10 + c) AS x FROM s.t",
    "GROUPING SETS": "SELECT a, b, sum(c) AS n, grouping(a, b) AS g FROM s.t "
    "GROUP BY GROUPING SETS ((a), (b), ())",
    "ROLLUP": "SELECT a, b, sum(c) AS n FROM s.t GROUP BY ROLLUP (a, b)",
    "CUBE": "SELECT a, b, sum(c) AS n FROM s.t GROUP BY CUBE (a, b)",
    "QUALIFY": "SELECT a, b FROM s.t QUALIFY row_number() OVER (PARTITION BY a ORDER BY b, c) = 1",
    "DISTINCT ON": "SELECT DISTINCT ON (a) b FROM s.t ORDER BY a, c, b",
    "an order that a limit makes count": "SELECT sum(b) AS n FROM (SELECT b FROM s.t ORDER BY c, b "
    "LIMIT 3)",
    "ORDER BY ALL": "SELECT a, b FROM s.t ORDER BY ALL LIMIT 2",
    "an ordinal and an alias in ORDER BY": "SELECT a + b AS x, c FROM s.t ORDER BY 2, x LIMIT 3",
    "HAVING by alias": "SELECT a AS k, sum(b) AS n FROM s.t GROUP BY k HAVING n > 2",
    "an alias used again": "SELECT a + 1 AS x, x + b AS y FROM s.t WHERE y > 1",
    "an alias that hides nothing": "SELECT b AS a, a AS z FROM s.t",
    "struct fields": "SELECT p.x AS v, p['y'] AS w FROM (SELECT {'x': a, 'y': b} AS p FROM s.t)",
    "a struct by its table": "SELECT q.p.x AS v FROM (SELECT {'x': a, 'y': b} AS p FROM s.t) AS q",
    "a whole row": "SELECT x AS r FROM s.t AS x",
    "lists and lambdas": "SELECT list_transform([a, b], lambda v: v + c) AS x FROM s.t",
    "a list comprehension": "SELECT [v * 2 FOR v IN [a, b] IF v > 1] AS x FROM s.t",
    "JSON": "SELECT json_object('k', a)->>'k' AS x FROM s.t",
    "CASE by value": "SELECT CASE a WHEN b THEN 1 WHEN c THEN 2 END AS x FROM s.t",
    "BETWEEN columns": "SELECT a FROM s.t WHERE b BETWEEN a AND c",
    "IS DISTINCT FROM": "SELECT a FROM s.t WHERE b IS DISTINCT FROM c",
    "TRY_CAST": "SELECT TRY_CAST(a AS VARCHAR) || b AS x FROM s.t",
    "a derived table with column names": "SELECT y FROM (SELECT a, b FROM s.t) AS q(x, y) "
    "WHERE x > 0",
    "FROM first": "FROM s.t SELECT a, b WHERE c > 1",
    "GROUP BY ALL": "SELECT a + b AS k, sum(c) AS n FROM s.t GROUP BY ALL",
    "PIVOT": "SELECT * FROM s.t PIVOT (sum(b) FOR a IN (0, 1, 2))",
    "PIVOT by the data": "PIVOT s.t ON a USING sum(b) GROUP BY c",
    "UNPIVOT": "UNPIVOT s.t ON b, c INTO NAME n VALUE v",
    "PIVOT with names": "SELECT * FROM s.t PIVOT (sum(b) FOR a IN (0 AS zero, 1 AS one))",
    "PIVOT of two": "SELECT * FROM s.t PIVOT (sum(b) AS s, count(c) AS n FOR a IN (0, 1))",
    "PIVOT on two": "PIVOT s.t ON a IN (0, 1), c IN (0, 1) USING sum(b)",
    "PIVOT in groups": "PIVOT s.t ON a IN (0, 1) USING sum(b) GROUP BY c",
    "PIVOT in no groups": "PIVOT s.t ON a IN (0, 1) USING sum(b)",
    "UNPIVOT in FROM": "SELECT * FROM s.t UNPIVOT (v FOR n IN (b, c))",
    "UNPIVOT with nulls": "SELECT * FROM s.t UNPIVOT INCLUDE NULLS (v FOR n IN (b, c))",
    "UNPIVOT with names": "SELECT * FROM s.t UNPIVOT (v FOR n IN (b AS x, c AS y))",
    "UNPIVOT of pairs": "SELECT * FROM s.t UNPIVOT ((v, w) FOR n IN ((a, b), (c, a)))",
    "a table function over a column": "SELECT b, x.* FROM s.t, unnest(range(a)) AS x(i)",
    "count without columns": "SELECT a, count(*) AS n FROM s.t GROUP BY a",
    "a mark for quotes": 'SELECT "a" AS "Quoted Name", "b" AS "x.y" FROM s.t',
}


@pytest.mark.parametrize("sql", CONSTRUCTS.values(), ids=CONSTRUCTS.keys())
def test_each_construct_misses_nothing(database: duckdb.DuckDBPyConnection, sql: str) -> None:
    """Its columns are those that the database shows, and every measured dependency is known."""
    assert missing_edges(database, sql) == []
    found = resolve(parse_query(sql, "duckdb"), TABLES, "duckdb")
    if not found.open:
        shown = database.execute(f"SELECT * FROM ({sql}) LIMIT 0").description
        assert [column.name for column in found.columns] == [name.lower() for name, *_ in shown]


@settings(deadline=None)
@given(selects())
def test_a_column_that_is_not_named_is_no_edge(select: tuple[str, list[str]]) -> None:
    """No source that the text does not even mention, unless a star stands for it."""
    sql, _ = select
    found = resolve(parse_query(sql, "duckdb"), TABLES, "duckdb")
    nodes = {node for column in found.columns for node, _ in column.sources}
    nodes |= {node for node, _ in found.rows}
    for node in nodes:
        assert node.field is not None
        assert node.field in re.findall(r"\w+", sql), sql


def _column(rows: list[tuple[object, ...]], i: int) -> list[object]:
    return [row[i] for row in rows]
