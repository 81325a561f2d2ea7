"""The first rows of a query: as SQL, also of tables that are not there, and as people see them."""

from __future__ import annotations

import datetime as dt
import json
from contextlib import closing
from decimal import Decimal
from typing import Any

import duckdb
import pytest

from inchworm.core.sample import Cell, Sample, plain
from inchworm.core.sql.parse import parse_query
from inchworm.core.sql.problems import SqlProblem
from inchworm.core.sql.render import to_text
from inchworm.core.sql.selection import condition_of, first_rows


@pytest.mark.parametrize(
    ("value", "cell"),
    [
        (None, None),
        (True, True),
        (7, 7),
        ("x", "x"),
        (2.5, 2.5),
        (float("inf"), "inf"),
        (float("nan"), "nan"),
        (Decimal("3.00"), 3),
        (Decimal("2.50"), 2.5),
        (Decimal("0.1234567890123456789"), "0.1234567890123456789"),
        (Decimal("NaN"), "NaN"),
        (Decimal("1e30"), 10**30),
        (dt.datetime(2026, 11, 27, 6, 30), "2026-11-27 06:30:00"),
        (dt.date(2026, 11, 27), "2026-11-27"),
        (b"\x01\xff", "0x01ff"),
        ([1, dt.date(2026, 1, 2)], '[1, "2026-01-02"]'),
        ({"ä": 1}, '{"ä": 1}'),
    ],
)
def test_values_as_people_see_them(value: object, cell: Cell) -> None:
    assert plain(value) == cell
    assert type(plain(value)) is type(cell)


def test_a_sample_says_whether_there_is_more() -> None:
    rows = [(1, "a"), (2, None), (3, "c")]
    sample = Sample.of(["n", "Who"], rows, 2)
    assert (sample.rows, sample.more) == (((1, "a"), (2, None)), True)
    assert not Sample.of(["n", "Who"], rows, 3).more
    assert Sample.from_json(json.loads(json.dumps(sample.to_json()))) == sample


def test_values_of_a_class_are_hidden() -> None:
    sample = Sample.of(["n", "Who"], [(1, "a"), (2, None)], 5)
    assert sample.hiding({"who": "personal"}).rows == ((1, "(personal)"), (2, None))
    assert sample.hiding({"who": "personal"}).columns == ("n", "Who")
    assert sample.hiding({}) == sample


# ---- as SQL --------------------------------------------------------------------------------------

LONG = f"m.{'l' * 70}"


def rows_of(query: str, computed: dict[str, str], **settings: Any) -> list[tuple[Any, ...]]:
    """What a database with the table ``raw.t`` of three rows gives."""
    select = first_rows(
        parse_query(query, "duckdb"),
        {name: parse_query(sql, "duckdb") for name, sql in computed.items()},
        "duckdb",
        **settings,
    )
    with closing(duckdb.connect()) as connection:
        connection.execute("CREATE SCHEMA raw")
        connection.execute("CREATE TABLE raw.t AS SELECT i AS n FROM range(3) r(i)")
        return sorted(connection.execute(to_text(select, "duckdb")).fetchall())


def test_tables_that_are_not_there_are_computed() -> None:
    computed = {
        "m.a": "SELECT n + 10 AS n FROM raw.t",
        LONG: "SELECT a.n + 100 AS n FROM m.a AS a",
    }
    assert rows_of(f"SELECT n FROM {LONG}", computed, first=9) == [(110,), (111,), (112,)]
    both = f"SELECT a.n, {LONG.split('.')[1]}.n FROM m.a JOIN {LONG} ON {LONG}.n = a.n + 100"
    assert rows_of(both, computed, first=9) == [(10, 110), (11, 111), (12, 112)]
    assert rows_of("SELECT n FROM raw.t", {}, first=2) == [(0,), (1,)]


def test_conditions_are_on_the_rows_of_the_query() -> None:
    computed = {"m.a": "SELECT n + 10 AS n FROM raw.t"}
    where = condition_of("n > 10 AND n IN (SELECT n FROM m.a)", "duckdb")
    assert rows_of("SELECT n FROM m.a", computed, where=where, first=9) == [(11,), (12,)]
    query = "SELECT n * 2 AS m FROM m.a"
    assert rows_of(query, computed, where=condition_of("m = 22", "duckdb"), first=9) == [(22,)]


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("n >", "is no condition: n >"),
        ("n = 1; DROP TABLE raw.t", ""),
        ("EXISTS (DELETE FROM raw.t RETURNING 1)", ""),
    ],
)
def test_what_is_no_condition(text: str, said: str) -> None:
    with pytest.raises(SqlProblem) as refused:
        condition_of(text, "duckdb")
    assert said in str(refused.value)
