"""Queries whose tables have other names in an environment give what they gave."""

from __future__ import annotations

from collections.abc import Callable
from functools import cache
from typing import Any

import duckdb
import pytest

from inchworm.core.sql.parse import parse_query
from inchworm.core.sql.renamed_tables import with_tables
from inchworm.core.sql.render import to_text

NAMINGS: dict[str, Callable[[str], str]] = {
    "the same": lambda name: name,
    "other schemas": lambda name: f"dev_{name}",
    "one other schema": lambda name: name.replace("x.", "dev_x."),
    "other tables": lambda name: f"staging.{name.replace('.', '_')}",
    "one other table": lambda name: name.replace("x.t", "staging.t__new"),
}
QUERIES = {
    "plain": "SELECT n, t.id FROM x.t",
    "qualified by schema": "SELECT x.t.n, t.id FROM x.t WHERE x.t.n > 1",
    "aliases": "SELECT a.n, b.n FROM x.t AS a JOIN y.t AS b ON a.id = b.id",
    "one alias": "SELECT a.n, y.t.n FROM x.t AS a JOIN y.t ON a.id = y.t.id",
    "two of one name": "SELECT x.t.n AS a, y.t.n AS b FROM x.t JOIN y.t ON x.t.id = y.t.id",
    "two of one name, using": "SELECT x.t.n AS a, y.t.n AS b FROM x.t JOIN y.t USING (id)",
    "an inner one": (
        "SELECT x.t.id, (SELECT sum(y.t.n) FROM y.t WHERE y.t.id = x.t.id) AS s FROM x.t"
    ),
    "an inner one by its bare name": (
        "SELECT t.id, (SELECT sum(t.n) FROM y.t WHERE t.id = x.t.id) AS s FROM x.t"
    ),
    "an inner one of the same table": (
        "SELECT id, (SELECT max(t.n) FROM x.t) AS m FROM x.t WHERE x.t.n > 1"
    ),
    "exists": "SELECT id FROM x.t WHERE NOT EXISTS (SELECT 1 FROM y.t WHERE y.t.n = x.t.n)",
    "a union": "SELECT x.t.n FROM x.t UNION ALL SELECT t.n FROM y.t",
    "a CTE": "WITH c AS (SELECT t.n, t.id FROM y.t) SELECT x.t.n, c.n FROM x.t JOIN c USING (id)",
    "a CTE of a table's name": "WITH t AS (SELECT n FROM x.t) SELECT t.n FROM t",
    "a derived table": "SELECT d.n, x.t.id FROM (SELECT t.n, id FROM y.t) AS d JOIN x.t USING (id)",
    "a derived table of an outer one's name": (
        "SELECT id, (SELECT max(t.n) FROM (SELECT n + 100 AS n FROM y.t) AS t) AS m FROM x.t"
    ),
    "every column of one": (
        "SELECT t.*, d.n AS m FROM x.t JOIN (SELECT t.* FROM y.t) AS d ON d.id = x.t.id"
    ),
    "a field of a value": "SELECT x.s.v.a, s.v.a AS b, v.a AS c FROM x.s",
    "a join in parentheses": (
        "SELECT x.t.n AS a, y.t.n AS b FROM (x.t JOIN y.t ON x.t.id = y.t.id) WHERE x.t.n < y.t.n"
    ),
    "an alias of a join in parentheses": (
        "SELECT j.n, j.id FROM (x.t JOIN (SELECT id FROM y.t) AS y USING (id)) AS j WHERE j.n > 1"
    ),
    "the inner one in a join": (
        "SELECT t.id FROM x.t WHERE t.n IN "
        "(SELECT d.n + x.t.id - 1 FROM y.t JOIN x.t AS d ON d.id = y.t.id)"
    ),
    "an alias like another table": "SELECT t.n, y.t.n AS m FROM y.t JOIN x.t AS u USING (id)",
    "a pivot": "SELECT * FROM (SELECT x.t.id, x.t.n FROM x.t) PIVOT (sum(n) FOR id IN (1, 2))",
    "qualify": (
        "SELECT t.id FROM y.t "
        "QUALIFY row_number() OVER (PARTITION BY y.t.id ORDER BY t.n) = 1"
    ),
    "case": "SELECT X.T.N, t.Id FROM x.T WHERE x.t.n > 1",
    "order and group": "SELECT y.t.n, count(*) FROM y.t GROUP BY y.t.n ORDER BY y.t.n",
    "a window": "SELECT x.t.id, sum(x.t.n) OVER (PARTITION BY x.t.id) AS s FROM x.t",
    "lateral": "SELECT t.id, l.m FROM x.t, LATERAL (SELECT x.t.n + 1 AS m) AS l",
}  # fmt: skip
SCHEMAS = ("x", "y", "dev_x", "dev_y", "staging")


@cache
def database(naming: str) -> Any:
    """A database whose tables have the names that an environment gives them."""
    connection, name = duckdb.connect(), NAMINGS[naming]
    for schema in SCHEMAS:
        connection.execute(f"CREATE SCHEMA {schema}")
    for table, rows in (("x.t", "(1, 2), (2, 1), (3, 5)"), ("y.t", "(1, 7), (2, 8), (2, 5)")):
        connection.execute(f"CREATE TABLE {name(table)} (id INTEGER, n INTEGER)")
        connection.execute(f"INSERT INTO {name(table)} VALUES {rows}")
    connection.execute(f"CREATE TABLE {name('x.s')} AS SELECT {{'a': 4}} AS v")
    return connection


@pytest.mark.parametrize("naming", NAMINGS)
@pytest.mark.parametrize("query", QUERIES)
def test_a_query_gives_what_it_gave(query: str, naming: str) -> None:
    name, sql = NAMINGS[naming], QUERIES[query]
    renamed = to_text(with_tables(parse_query(sql, "duckdb"), name, "duckdb"), "duckdb")
    before, after = database("the same"), database(naming)
    columns = [column[0] for column in before.execute(sql).description]
    expected = sorted(map(repr, before.fetchall()))
    assert sorted(map(repr, after.execute(renamed).fetchall())) == expected
    assert [column[0].lower() for column in after.description] == [c.lower() for c in columns]
