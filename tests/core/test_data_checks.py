"""Data checks, by running their queries."""

from __future__ import annotations

from collections.abc import Iterator, Mapping

import duckdb
import pytest

from inchworm.core.promotion.data_checks import checks_of

ROWS = """
    SELECT * FROM (VALUES
        (1, 'a', 10.0, 'north'), (2, 'b', NULL, 'south'), (2, 'c', 99.5, 'south'),
        (3, 'a', 5.0, NULL), (NULL, 'd', -1.0, 'west')
    ) AS r("Id", text, level, place)
"""


@pytest.fixture(scope="module")
def database() -> Iterator[duckdb.DuckDBPyConnection]:
    with duckdb.connect() as connection:
        connection.execute("CREATE SCHEMA m")
        connection.execute(f"CREATE TABLE m.t AS {ROWS}")
        connection.execute("CREATE TABLE m.places AS SELECT 'north' AS name UNION SELECT 'south'")
        yield connection


@pytest.mark.parametrize(
    ("key", "columns", "text", "failing", "counted"),
    [
        (["Id"], {}, "Id is required", [None], 1),
        (["Id"], {}, "Id is unique", [2, 2], 1),
        (["text"], {}, "text is unique", [1, 3], 1),
        (["Id", "text"], {}, "Id, text is unique", [], 0),
        (["Id", "place"], {}, "Id, place is unique", [2, 2], 1),
        ([], {"Id": {"unique": True}}, "Id is unique", [2, 2], 1),
        ([], {"level": {"required": True}}, "level is required", [2], 1),
        ([], {"text": {"one_of": ["a", "b"]}}, "text is one of a, b", [2, None], 2),
        ([], {"level": {"between": [0, 50]}}, "level is between 0 and 50", [2, None], 2),
        ([], {"level": {"between": [-1, 99.5]}}, "level is between -1 and 99.5", [], 0),
        ([], {"place": {"matches": "^.o"}}, "place matches ^.o", [None], 1),
        (
            *([], {"place": {"points_to": "m.places.name"}}),
            *("place points to m.places.name", [None], 1),
        ),
    ],
)
def test_the_rows_that_a_check_is_about(
    database: duckdb.DuckDBPyConnection,
    key: list[str],
    columns: Mapping[str, Mapping[str, object]],
    text: str,
    failing: list[int | None],
    counted: int,
) -> None:
    """Of a key, the rows that share one are shown, and the keys that are repeated counted."""
    (check,) = [check for check in checks_of("m.t", key, columns) if check.text == text]
    rows = database.execute(check.failing.sql("duckdb")).fetchall()
    assert sorted((row[0] for row in rows), key=lambda id_: id_ or 99) == failing
    assert all(len(row) == 4 for row in rows), "with all their columns"
    assert database.execute(check.query.sql("duckdb")).fetchall() == [(counted,)]
    assert check.columns == (tuple(key) if "unique" in text and key else check.columns)


def test_a_key_is_required_and_unique_once() -> None:
    checks = checks_of("m.t", ["Id", "text"], {"Id": {"required": True, "one_of": [1]}})
    assert [(check.text, check.columns) for check in checks] == [
        ("Id is required", ("Id",)),
        ("text is required", ("text",)),
        ("Id, text is unique", ("Id", "text")),
        ("Id is one of 1", ("Id",)),
    ]
    assert checks_of("m.t", [], {}) == []
