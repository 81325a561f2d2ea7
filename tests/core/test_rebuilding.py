"""Changes of a structure where a database can alter little: said as they are, and run."""

from __future__ import annotations

import re
import sqlite3
from collections.abc import Mapping, Sequence
from contextlib import closing
from dataclasses import dataclass, field
from typing import Any, Protocol

import duckdb
import pytest

from inchworm.core.structure.changes import Alterations, Change
from inchworm.core.structure.definitions import Definition, Thing
from inchworm.core.structure.rebuilding import rebuilt
from inchworm.core.structure.shape_reading import shape_of

ALTERATIONS = {
    "duckdb": Alterations(
        changes_columns=True, keys_and_indexes_pin_tables=True, has_loose_types=False
    ),
    "sqlite": Alterations(
        changes_columns=False, keys_and_indexes_pin_tables=False, has_loose_types=True
    ),
}
_MAKES = re.compile(r"CREATE (?:UNIQUE )?(TABLE|VIEW|INDEX|SEQUENCE) (\S+)")
_COMMENTS = re.compile(r"COMMENT ON (?:TABLE|COLUMN) (\S+)")


class Connection(Protocol):
    def execute(self, sql: str) -> Any: ...


def definitions(script: str, dialect: str) -> list[Definition]:
    """What the statements of a script make."""
    made = []
    for sql in filter(None, map(str.strip, script.split(";"))):
        if match := _MAKES.match(sql):
            thing = Thing(match[1].lower())
            name = match[2] if "." in match[2] else f"ops.{match[2]}"
            shape = shape_of(sql, dialect) if thing is Thing.TABLE else None
            made.append(Definition(thing=thing, name=name, sql=sql, needs=None, shape=shape))
        elif match := _COMMENTS.match(sql):
            table = ".".join(match[1].split(".")[:2])
            made.append(Definition(thing=Thing.COMMENT, name=match[1], sql=sql, needs=(table,)))
    return made


def empty(dialect: str) -> Any:
    """A connection to an empty database with the schema ``ops``."""
    if dialect == "duckdb":
        connection: Any = duckdb.connect()
        connection.execute("CREATE SCHEMA ops")
    else:
        connection = sqlite3.connect(":memory:", isolation_level=None)
        connection.execute("ATTACH ':memory:' AS ops")
    return connection


_CATALOGUE = {
    "duckdb": (
        "SELECT table_name, column_name, data_type, is_nullable, column_default, comment "
        "FROM duckdb_columns() WHERE schema_name = 'ops'",
        "SELECT table_name, constraint_text FROM duckdb_constraints() WHERE schema_name = 'ops'",
        "SELECT table_name, sql FROM duckdb_indexes() WHERE schema_name = 'ops'",
        "SELECT view_name, sql FROM duckdb_views() WHERE schema_name = 'ops'",
        "SELECT table_name, comment FROM duckdb_tables() WHERE schema_name = 'ops'",
        "SELECT sequence_name, start_value FROM duckdb_sequences() WHERE schema_name = 'ops'",
    ),
    "sqlite": (
        'SELECT m.name, x.name, x.type, x."notnull", x.dflt_value, x.pk, x.hidden '
        "FROM ops.sqlite_master m, pragma_table_xinfo(m.name, 'ops') x",
        "SELECT type, name FROM ops.sqlite_master",
        'SELECT m.name, f."from", f."table", f."to" '
        "FROM ops.sqlite_master m, pragma_foreign_key_list(m.name, 'ops') f",
    ),
}


def catalogue(connection: Connection, dialect: str) -> list[list[Any]]:
    """What a database has in ``ops``."""
    return [
        sorted(map(repr, connection.execute(query).fetchall())) for query in _CATALOGUE[dialect]
    ]


def in_words(change: Change) -> str:
    """What it is, to whom it is slow, and what goes with it; its statements are run."""
    words = [change.what, change.name, f"({change.effect.value})"]
    words += ["late"] if change.late else []
    words += [f"loses {', '.join(change.lost)}"] if change.lost else []
    return " ".join(words)


@dataclass(frozen=True)
class Case:
    """A structure that becomes another one.

    Attributes:
        rows: statements that fill it.
        said: the changes, in words.
        stands_in_the_way: how many rows do, of each demand and misfit, in their order.
        values: a query of what is there afterwards, and the answer.
    """

    live: str
    desired: str
    said: Sequence[str]
    rows: Sequence[str] = ()
    renames: Mapping[str, str] = field(default_factory=dict)
    stands_in_the_way: Sequence[int] = ()
    values: tuple[str, object] | None = None


T = "CREATE TABLE ops.t (id INTEGER, n INTEGER)"
ROWS = ("INSERT INTO ops.t VALUES (1, 10), (2, NULL)",)
KEYED = "CREATE TABLE ops.t (id INTEGER PRIMARY KEY, n INTEGER)"
POINTING = "CREATE TABLE ops.u (t INTEGER REFERENCES ops.t (id))"
IN_DUCKDB = {
    "nothing": Case(T, T, []),
    "a new table": Case("", T, ["make table ops.t (safe)"]),
    "a table that goes": Case(
        f"{T};{KEYED.replace('ops.t', 'ops.k')}",
        T,
        ["drop table ops.k (loses data) late loses ops.k"],
    ),
    "a new column": Case(
        T,
        "CREATE TABLE ops.t (id INTEGER, n INTEGER, m VARCHAR DEFAULT 'x')",
        ["add column ops.t.m (safe)"],
        ROWS,
        values=("SELECT m FROM ops.t", [("x",), ("x",)]),
    ),
    "a column that goes": Case(
        T,
        "CREATE TABLE ops.t (id INTEGER)",
        ["drop column ops.t.n (loses data) late loses ops.t.n"],
        ROWS,
    ),
    "a wider type": Case(
        T,
        "CREATE TABLE ops.t (id INTEGER, n BIGINT)",
        ["type INT to BIGINT ops.t.n (slow)"],
        ROWS,
        stands_in_the_way=[0],
        values=("SELECT n FROM ops.t ORDER BY id", [(10,), (None,)]),
    ),
    "a narrower type": Case(
        "CREATE TABLE ops.t (id INTEGER, n INTEGER DEFAULT 5)",
        "CREATE TABLE ops.t (id INTEGER, n TINYINT DEFAULT 6)",
        [
            "no default ops.t.n (safe)",
            "type INT to TINYINT ops.t.n (loses data) loses ops.t.n",
            "default ops.t.n (safe)",
        ],
        ("INSERT INTO ops.t VALUES (1, 10), (2, NULL)",),
        stands_in_the_way=[0],
    ),
    "texts that are no numbers": Case(
        "CREATE TABLE ops.t (n VARCHAR)",
        "CREATE TABLE ops.t (n INTEGER)",
        ["type TEXT to INT ops.t.n (loses data) loses ops.t.n"],
        ("INSERT INTO ops.t VALUES ('1'), (NULL)",),
        stands_in_the_way=[0],
    ),
    "defaults": Case(
        "CREATE TABLE ops.t (a INTEGER DEFAULT 1, b INTEGER DEFAULT 1, c INTEGER)",
        "CREATE TABLE ops.t (a INTEGER, b INTEGER DEFAULT 2, c INTEGER DEFAULT 3)",
        ["no default ops.t.a (safe)", "default ops.t.b (safe)", "default ops.t.c (safe)"],
    ),
    "what is required": Case(
        "CREATE TABLE ops.t (a INTEGER NOT NULL, b INTEGER)",
        "CREATE TABLE ops.t (a INTEGER, b INTEGER NOT NULL)",
        ["not required ops.t.a (safe)", "required ops.t.b (slow)"],
        ("INSERT INTO ops.t VALUES (1, 2)",),
        stands_in_the_way=[0],
    ),
    "a new column that calculates its default is none in place": Case(
        T,
        "CREATE TABLE ops.t (id INTEGER, n INTEGER, m INTEGER DEFAULT (abs(-3)))",
        ["set aside ops.t (slow)", "make anew ops.t (slow)"],
        ROWS,
        values=("SELECT m FROM ops.t", [(3,), (3,)]),
    ),
    "a new constraint": Case(
        T,
        "CREATE TABLE ops.t (id INTEGER, n INTEGER, UNIQUE (n), CHECK (id > 0))",
        ["set aside ops.t (slow)", "make anew ops.t (slow)"],
        ("INSERT INTO ops.t VALUES (1, 10), (2, NULL), (3, NULL)",),
        stands_in_the_way=[0, 0],
        values=("SELECT count(n), count(*) FROM ops.t", [(1, 3)]),
    ),
    "a new column that is required": Case(
        T,
        "CREATE TABLE ops.t (id INTEGER, m INTEGER NOT NULL, k INTEGER NOT NULL DEFAULT 7)",
        ["set aside ops.t (slow)", "make anew ops.t (loses data) loses ops.t.n"],
        stands_in_the_way=[0],
    ),
    "a key that points at a table made anew": Case(
        f"{KEYED};{POINTING}",
        f"{KEYED.replace('n INTEGER', 'n INTEGER, UNIQUE (n)')};{POINTING}",
        [
            "set aside ops.t, ops.u (slow)",
            "make anew ops.t (slow)",
            "make anew ops.u (slow)",
        ],
        (*ROWS, "INSERT INTO ops.u VALUES (2)"),
        stands_in_the_way=[0],
        values=("SELECT t FROM ops.u", [(2,)]),
    ),
    "a table that goes and points at one made anew": Case(
        f"{KEYED};{POINTING}",
        KEYED.replace("n INTEGER", "n INTEGER, UNIQUE (n)"),
        ["set aside ops.t (loses data) loses ops.u", "make anew ops.t (slow)"],
        (*ROWS, "INSERT INTO ops.u VALUES (2)"),
        stands_in_the_way=[0],
    ),
    "names": Case(
        T,
        "CREATE TABLE ops.w (id INTEGER, m INTEGER)",
        ["set aside ops.t (slow)", "make anew ops.w (slow)"],
        ROWS,
        {"t": "w", "w.n": "m"},
        values=("SELECT id, m FROM ops.w ORDER BY id", [(1, 10), (2, None)]),
    ),
    "a generated column": Case(
        T,
        "CREATE TABLE ops.t (id INTEGER, n INTEGER, g INTEGER GENERATED ALWAYS AS (n * 2))",
        ["set aside ops.t (slow)", "make anew ops.t (slow)"],
        ROWS,
        values=("SELECT g FROM ops.t ORDER BY id", [(20,), (None,)]),
    ),
    "indexes": Case(
        f"{T};CREATE INDEX ops_a ON ops.t (id);CREATE INDEX ops_b ON ops.t (n)",
        f"{T};CREATE INDEX ops_b ON ops.t (id, n);CREATE UNIQUE INDEX ops_c ON ops.t (id)",
        [
            "drop index ops.ops_a (safe)",
            "drop index ops.ops_b (safe)",
            "make index ops.ops_b (slow)",
            "make index ops.ops_c (slow)",
        ],
        ROWS,
    ),
    "an index pins a column that goes": Case(
        f"{T};CREATE INDEX ops_a ON ops.t (id)",
        "CREATE TABLE ops.t (id INTEGER);CREATE INDEX ops_a ON ops.t (id)",
        [
            "drop index ops.ops_a (safe)",
            "set aside ops.t (slow)",
            "make anew ops.t (loses data) loses ops.t.n",
            "make index ops.ops_a (slow)",
        ],
        ROWS,
        values=("SELECT id FROM ops.t ORDER BY id", [(1,), (2,)]),
    ),
    "an index on a new table": Case(
        "",
        f"{T};CREATE INDEX ops_a ON ops.t (id)",
        ["make table ops.t (safe)", "make index ops.ops_a (safe)"],
    ),
    "views": Case(
        f"{T};CREATE VIEW ops.a AS SELECT id FROM ops.t;CREATE VIEW ops.b AS SELECT id FROM ops.a;"
        "CREATE VIEW ops.c AS SELECT 1 AS n",
        f"{T};CREATE VIEW ops.a AS SELECT id FROM ops.t;CREATE VIEW ops.b AS SELECT 2 AS id;"
        "CREATE VIEW ops.d AS SELECT id FROM ops.b",
        [
            "drop view ops.b (safe)",
            "make view ops.b (safe)",
            "make view ops.d (safe)",
            "drop view ops.c (safe) late",
        ],
    ),
    "views of a table that is made anew": Case(
        f"{T};CREATE VIEW ops.a AS SELECT id FROM ops.t;CREATE VIEW ops.c AS SELECT 1 AS n",
        f"{T.replace('n INTEGER', 'n INTEGER, UNIQUE (n)')};"
        "CREATE VIEW ops.a AS SELECT id FROM ops.t",
        [
            "drop view ops.c (safe)",
            "drop view ops.a (safe)",
            "set aside ops.t (slow)",
            "make anew ops.t (slow)",
            "make view ops.a (safe)",
        ],
        stands_in_the_way=[0],
    ),
    "comments": Case(
        f"{T};COMMENT ON TABLE ops.t IS 'a';COMMENT ON COLUMN ops.t.n IS 'b'",
        f"{T};COMMENT ON TABLE ops.t IS 'c';COMMENT ON COLUMN ops.t.id IS 'd'",
        [
            "comment ops.t (safe)",
            "comment ops.t.id (safe)",
            "comment ops.t.n (safe)",
        ],
    ),
    "values that a narrower type does not take": Case(
        T,
        "CREATE TABLE ops.t (id INTEGER, n TINYINT)",
        ["type INT to TINYINT ops.t.n (loses data) loses ops.t.n"],
        ("INSERT INTO ops.t VALUES (1, 10), (2, NULL), (3, 300), (4, 4000)",),
        stands_in_the_way=[2],
    ),
    "values that a table made anew does not take": Case(
        T,
        "CREATE TABLE ops.t (id INTEGER, n TINYINT, CHECK (id > 1))",
        ["set aside ops.t (slow)", "make anew ops.t (loses data) loses ops.t.n"],
        ("INSERT INTO ops.t VALUES (1, 10), (2, NULL), (3, 300), (4, 4000)",),
        stands_in_the_way=[1, 2],
    ),
    "rows that have nothing for what is required": Case(
        T,
        "CREATE TABLE ops.t (id INTEGER, n INTEGER NOT NULL, m INTEGER NOT NULL)",
        ["set aside ops.t (slow)", "make anew ops.t (slow)"],
        ROWS,
        stands_in_the_way=[1, 2],
    ),
    "an empty value of what is required": Case(
        T,
        "CREATE TABLE ops.t (id INTEGER, n INTEGER NOT NULL)",
        ["required ops.t.n (slow)"],
        ROWS,
        stands_in_the_way=[1],
    ),
    "the comment of a column that goes": Case(
        f"{T};COMMENT ON COLUMN ops.t.n IS 'b'",
        "CREATE TABLE ops.t (id INTEGER)",
        ["drop column ops.t.n (loses data) late loses ops.t.n"],
    ),
    "the comments of a table that goes": Case(
        f"{T};{KEYED.replace('ops.t', 'ops.k')};COMMENT ON TABLE ops.k IS 'a';"
        "COMMENT ON COLUMN ops.k.n IS 'b'",
        T,
        ["drop table ops.k (loses data) late loses ops.k"],
    ),
    "the comment of a table": Case(
        f"{T};COMMENT ON TABLE ops.t IS 'a'", T, ["comment ops.t (safe)"]
    ),
    "comments of a table that is made anew": Case(
        f"{KEYED};COMMENT ON TABLE ops.t IS 'a';COMMENT ON COLUMN ops.t.n IS 'b';"
        "COMMENT ON COLUMN ops.t.id IS 'c'",
        f"{KEYED.replace('n INTEGER', 'n INTEGER DEFAULT 1, UNIQUE (n)')};"
        "COMMENT ON TABLE ops.t IS 'a';COMMENT ON COLUMN ops.t.n IS 'b'",
        [
            "set aside ops.t (slow)",
            "make anew ops.t (slow)",
            "comment ops.t (safe)",
            "comment ops.t.n (safe)",
        ],
        ROWS,
        stands_in_the_way=[0],
    ),
    "sequences": Case(
        "CREATE SEQUENCE ops.s START WITH 5;CREATE SEQUENCE ops.x START WITH 1;"
        "CREATE TABLE ops.t (id INTEGER DEFAULT nextval('ops.s'))",
        "CREATE SEQUENCE ops.s START WITH 9;CREATE SEQUENCE ops.y START WITH 2;"
        "CREATE TABLE ops.t (id INTEGER DEFAULT nextval('ops.s'))",
        [
            "make sequence ops.y (safe)",
            "set aside ops.t (slow)",
            "make sequence anew ops.s (safe)",
            "make anew ops.t (slow)",
            "drop sequence ops.x (safe) late",
        ],
        ("INSERT INTO ops.t VALUES (1)",),
        values=("SELECT id FROM ops.t", [(1,)]),
    ),
}  # fmt: skip
IN_SQLITE = {
    "a new column": Case(
        T,
        "CREATE TABLE ops.t (id INTEGER, n INTEGER, m TEXT DEFAULT 'x')",
        ["add column ops.t.m (safe)"],
        ROWS,
        values=("SELECT m FROM ops.t", [("x",), ("x",)]),
    ),
    "another type loses nothing": Case(
        T,
        "CREATE TABLE ops.t (id INTEGER, n TEXT)",
        ["set aside ops.t (slow)", "make anew ops.t (slow)"],
        ROWS,
        values=("SELECT n FROM ops.t ORDER BY id", [("10",), (None,)]),
    ),
    "a column that goes": Case(
        f"{T};CREATE INDEX ops.i ON t (id)",
        "CREATE TABLE ops.t (id INTEGER);CREATE INDEX ops.i ON t (id)",
        ["drop column ops.t.n (loses data) late loses ops.t.n"],
        ROWS,
    ),
    "a column of an index goes": Case(
        f"{T};CREATE INDEX ops.i ON t (n)",
        "CREATE TABLE ops.t (id INTEGER)",
        [
            "drop index ops.i (safe)",
            "set aside ops.t (slow)",
            "make anew ops.t (loses data) loses ops.t.n",
        ],
        ROWS,
    ),
    "options": Case(
        T,
        f"{T} STRICT",
        ["set aside ops.t (slow)", "make anew ops.t (slow)"],
        ROWS,
        values=("SELECT count(*) FROM ops.t", [(2,)]),
    ),
    "what points at a table made anew stays": Case(
        f"{KEYED};CREATE TABLE ops.u (t INTEGER REFERENCES t (id))",
        f"{KEYED.replace('n INTEGER', 'n INTEGER DEFAULT 1')};"
        "CREATE TABLE ops.u (t INTEGER REFERENCES t (id))",
        ["set aside ops.t (slow)", "make anew ops.t (slow)"],
        (*ROWS, "INSERT INTO ops.u VALUES (2)"),
        values=("SELECT t FROM ops.u", [(2,)]),
    ),
    "a foreign key that rows break": Case(
        f"{KEYED};CREATE TABLE ops.u (t INTEGER)",
        f"{KEYED};CREATE TABLE ops.u (t INTEGER, FOREIGN KEY (t) REFERENCES t (id))",
        ["set aside ops.u (slow)", "make anew ops.u (slow)"],
        (*ROWS, "INSERT INTO ops.u VALUES (2), (7), (8), (NULL)"),
        stands_in_the_way=[2],
    ),
    "a key that rows break": Case(
        T,
        "CREATE TABLE ops.t (id INTEGER, n INTEGER NOT NULL, PRIMARY KEY (id))",
        ["set aside ops.t (slow)", "make anew ops.t (slow)"],
        ("INSERT INTO ops.t VALUES (1, 1), (1, NULL), (1, 2), (3, 3)",),
        stands_in_the_way=[3, 1],
    ),
}  # fmt: skip


@pytest.mark.parametrize(
    ("dialect", "case"),
    [
        *(pytest.param("duckdb", case, id=f"duckdb {name}") for name, case in IN_DUCKDB.items()),
        *(pytest.param("sqlite", case, id=f"sqlite {name}") for name, case in IN_SQLITE.items()),
    ],
)
def test_a_structure_becomes_another_one(dialect: str, case: Case) -> None:
    live, desired = (definitions(script, dialect) for script in (case.live, case.desired))
    changes = rebuilt(live, desired, case.renames, dialect, ALTERATIONS[dialect])
    assert list(map(in_words, changes)) == case.said
    with closing(empty(dialect)) as connection, closing(empty(dialect)) as other:
        for statement in (*(each.sql for each in live), *case.rows):
            connection.execute(statement)
        for each in desired:
            other.execute(each.sql)
        queries = [
            query
            for change in changes
            for query in (*(d.query for d in change.demands), *(q for _, q in change.misfits))
        ]
        standing = [connection.execute(query).fetchone()[0] for query in queries]
        assert standing == list(case.stands_in_the_way)
        if any(standing):
            return
        for change in changes:
            for statement in change.statements:
                connection.execute(statement)
        assert catalogue(connection, dialect) == catalogue(other, dialect)
        if case.values is not None:
            query, answer = case.values
            assert connection.execute(query).fetchall() == answer
