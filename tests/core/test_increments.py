"""Tables that grow, by running what is written for them."""

from __future__ import annotations

import sqlite3

import pytest

from inchworm.core.promotion.increments import kept_rows, new_rows

LIVE = [(1, "old 1"), (2, "old 2")]


@pytest.fixture
def database() -> sqlite3.Connection:
    """``live`` has two rows of what ``came`` from the source, in which the second was changed."""
    connection = sqlite3.connect(":memory:")
    connection.executescript(
        'CREATE TABLE live ("at" INTEGER, text TEXT, mine TEXT);'
        'CREATE TABLE source ("at" INTEGER, text TEXT);'
        'CREATE TABLE beside ("at" INTEGER, text TEXT);'
        "INSERT INTO source VALUES (1, 'new 1'), (2, 'new 2'), (3, 'new 3');"
    )
    connection.executemany("INSERT INTO live (at, text) VALUES (?, ?)", LIVE)
    return connection


@pytest.mark.parametrize(("key", "come"), [([], [3]), (["at"], [2, 3])])
def test_rows_beyond_the_last_value_come(
    database: sqlite3.Connection, key: list[str], come: list[int]
) -> None:
    """With a key the last value is asked for again, as its rows may be told anew."""
    query = new_rows("SELECT at, text FROM source", "main.live", "AT", key)
    assert [at for at, _ in database.execute(f"{query} ORDER BY 1")] == come


def test_into_an_empty_table_all_rows_come(database: sqlite3.Connection) -> None:
    database.execute("DELETE FROM live")
    query = new_rows("SELECT at, text FROM source", "main.live", "at", [])
    assert len(database.execute(query).fetchall()) == 3


def test_rows_stay_unless_one_with_their_key_came(database: sqlite3.Connection) -> None:
    database.execute("INSERT INTO beside VALUES (2, 'new 2'), (3, 'new 3')")
    database.execute(kept_rows("main.beside", "main.live", ["at", "text"], ["At"]))
    rows = database.execute("SELECT * FROM beside ORDER BY 1").fetchall()
    assert rows == [(1, "old 1"), (2, "new 2"), (3, "new 3")]


def test_a_key_of_several_columns_is_one_key(database: sqlite3.Connection) -> None:
    database.execute("INSERT INTO beside VALUES (1, 'old 1'), (2, 'new 2')")
    database.execute(kept_rows("main.beside", "main.live", ["at", "text"], ["at", "text"]))
    rows = database.execute("SELECT * FROM beside ORDER BY 1, 2").fetchall()
    assert rows == [(1, "old 1"), (2, "new 2"), (2, "old 2")]


def test_without_a_key_all_rows_stay(database: sqlite3.Connection) -> None:
    database.execute("INSERT INTO beside VALUES (3, 'new 3')")
    database.execute(kept_rows("main.beside", "main.live", ["text", "at"], []))
    rows = database.execute("SELECT * FROM beside ORDER BY 1").fetchall()
    assert rows == [*LIVE, (3, "new 3")]
