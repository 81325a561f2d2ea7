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


@st.composite
def selects(draw: st.DrawFn, depth: int = 2) -> tuple[str, list[str]]:
    """A SELECT and the names of its columns."""
    from_, names = draw(sources(depth))
    shape = draw(st.sampled_from(["plain", "grouped", "window", "union", "distinct", "limited"]))
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


@settings(
    max_examples=150,
    deadline=None,
    suppress_health_check=[HealthCheck.too_slow, HealthCheck.function_scoped_fixture],
)
@given(selects())
def test_every_measured_dependency_is_an_edge(
    database: duckdb.DuckDBPyConnection, select: tuple[str, list[str]]
) -> None:
    """Change one input column at a time: columns of the output that change must come from it."""
    sql, _ = select
    query = parse_query(sql, "duckdb")
    found = resolve(query, TABLES, "duckdb")
    assert not [p for p in found.problems if p.kind != "ambiguous-column"]
    rows = {str(node) for node, _ in found.rows}
    before = database.execute(sql).fetchall()
    for name, columns in COLUMNS.items():
        for column in columns:
            database.execute("BEGIN")
            database.execute(f"UPDATE {name} SET {column} = ({column} * 3 + 1) % 5")
            after = database.execute(sql).fetchall()
            database.execute("ROLLBACK")
            for i, out in enumerate(found.columns):
                if sorted(map(repr, _column(before, i))) != sorted(map(repr, _column(after, i))):
                    edges = rows | {str(node) for node, _ in out.sources}
                    assert f"{name}.{column}" in edges, f"{out.name} of {sql}"


@settings(max_examples=150, deadline=None)
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
