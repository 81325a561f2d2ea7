"""Static replay of DDL against a real database, and data checks on real rows."""

from __future__ import annotations

from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from inchworm.core.identifiers import RelationName
from inchworm.core.promotion.aside import STAGING, aside
from inchworm.core.promotion.data_checks import checks_of
from inchworm.core.sql.parse import (
    meaning,
    only_defines,
    parse_statements,
    split_script,
    split_settings,
)
from inchworm.core.sql.render import to_text
from inchworm.core.sql.schema_names import with_physical_schemas
from inchworm.core.structure.replay import replay
from inchworm.core.structure.shapes import ColumnShape, column_sql
from inchworm.core.structure.violations import ForeignKey, foreign_key
from inchworm.kinds.project_reader import read_project
from inchworm.targets.databases import Database, connect

SCRIPT = """
CREATE TABLE ops.a (id INTEGER PRIMARY KEY, name VARCHAR NOT NULL, size DOUBLE);
ALTER TABLE ops.a ADD COLUMN made TIMESTAMP;
ALTER TABLE ops.a DROP COLUMN size;
ALTER TABLE ops.a RENAME COLUMN name TO label;
ALTER TABLE ops.a ALTER COLUMN label DROP NOT NULL;
CREATE TABLE ops.b AS SELECT id, label AS l, CAST(id AS BIGINT) AS n FROM ops.a;
CREATE VIEW ops.v AS SELECT a.id FROM ops.a AS a;
CREATE TABLE ops.gone (x INTEGER);
DROP TABLE ops.gone;
INSERT INTO ops.a (id) VALUES (1);
CREATE TABLE ops.c (x INTEGER, y VARCHAR, PRIMARY KEY (x));
ALTER TABLE ops.c RENAME TO d;
"""


@pytest.fixture
def database(tmp_path: Path) -> Database:
    return connect("duckdb:///d.duckdb", root=tmp_path)


def test_replay_gives_what_the_database_has(database: Database) -> None:
    """Tables, columns, types and nullability, statement by statement."""
    static, notes = replay(parse_statements(SCRIPT, "duckdb"), {}, "duckdb")
    database.create_schema("ops")
    for statement in split_script(SCRIPT, "duckdb"):
        database.execute(statement)
    live = database.structure(["ops"])
    assert notes == []
    assert set(static) == set(live)
    for name, table in live.items():
        assert [(c.name, c.type) for c in static[name].columns] == [
            (c.name, c.type) for c in table.columns
        ]
    assert [c.required for c in static["ops.a"].columns] == [True, False, False]


def test_a_key_goes_along_when_a_column_is_renamed() -> None:
    """The other columns of the key stay in it."""
    script = (
        "CREATE TABLE ops.a (x INTEGER, y INTEGER, PRIMARY KEY (x, y));"
        "ALTER TABLE ops.a RENAME COLUMN x TO z;"
    )
    tables, _ = replay(parse_statements(script, "duckdb"), {}, "duckdb")
    assert tables["ops.a"].key == ("z", "y")


@pytest.mark.parametrize(
    ("text", "key"),
    [
        (
            "FOREIGN KEY (a, b) REFERENCES ops.t(c, d)",
            ForeignKey(columns=("a", "b"), target="ops.t", target_columns=("c", "d")),
        ),
        (
            'FOREIGN KEY ("A") REFERENCES t(c) ON DELETE CASCADE',
            ForeignKey(columns=("A",), target="t", target_columns=("c",)),
        ),
        ("CHECK ((a > 1))", None),
    ],
)
def test_a_foreign_key_as_the_server_tells_it(text: str, key: ForeignKey | None) -> None:
    assert foreign_key(text) == key


def test_scripts_run_under_other_schema_names(database: Database) -> None:
    """Every mention of the schema is renamed, also in joins and qualified columns."""
    database.create_schema("dev_ops")
    script = SCRIPT + "UPDATE ops.a SET label = 'x' WHERE ops.a.id IN (SELECT id FROM ops.b);"
    for statement in split_script(script, "duckdb"):
        database.execute(
            with_physical_schemas(
                statement, lambda name: "dev_ops" if name == "ops" else name, "duckdb", "duckdb"
            )
        )
    assert {table.schema for table in database.structure().values()} == {"dev_ops"}


@pytest.mark.parametrize(
    ("one", "other", "same"),
    [
        ("SELECT 1", "select  1 -- why\n", True),
        ("SELECT 'a'", "SELECT 'A'", False),
        ("INSERT INTO t VALUES (1);", "INSERT INTO t VALUES (2);", False),
    ],
)
def test_meaning_ignores_layout_and_comments(one: str, other: str, same: bool) -> None:
    """So that a checksum changes only when what runs changes."""
    assert (meaning(one, "duckdb") == meaning(other, "duckdb")) is same


def test_settings_keep_their_lines() -> None:
    """Both halves of a file have the line numbers of the file."""
    text = split_settings("\n/*---\nabout = 'x'\n---*/\nSELECT 1")
    assert text.settings.splitlines().index("about = 'x'") == 2
    assert text.sql.splitlines().index("SELECT 1") == 4


@pytest.mark.parametrize(
    ("key", "checks", "wrong"),
    [
        (["id"], {}, {"id is required": 1, "id is unique": 1}),
        ([], {"id": {"unique": True}}, {"id is unique": 1}),
        ([], {"n": {"between": [0, 9]}}, {"n is between 0 and 9": 1}),
        ([], {"s": {"one_of": ["a", "b"]}}, {"s is one of a, b": 1}),
        ([], {"s": {"matches": "^[a-z]$"}}, {"s matches ^[a-z]$": 1}),
        ([], {"n": {"points_to": "m.t.id"}}, {"n points to m.t.id": 2}),
        ([], {"s": {"required": True}}, {"s is required": 0}),
    ],
    ids=["key", "unique", "between", "one_of", "matches", "points_to", "required"],
)
def test_data_checks_count_what_is_wrong(
    database: Database, key: list[str], checks: dict[str, dict[str, object]], wrong: dict[str, int]
) -> None:
    """Each check finds its own rows and no others."""
    database.create_schema("m")
    database.execute("CREATE TABLE m.t (id INTEGER, n INTEGER, s VARCHAR)")
    database.execute("INSERT INTO m.t VALUES (1,1,'a'), (1,5,'b'), (2,77,'CC'), (NULL,2,'a')")
    found = {
        check.text: database.rows(to_text(check.query, "duckdb"))[0][0]
        for check in checks_of("m.t", key, checks)
    }
    assert found == wrong
    for check in checks_of("m.t", key, checks):
        failing = database.rows(to_text(check.failing, "duckdb"))
        assert all(len(row) == 3 for row in failing), "whole rows"
        assert (len(failing) > 0) is (wrong[check.text] > 0)
        assert check.columns == tuple(key or checks)[: len(check.columns)]


@given(st.text(st.characters(codec="utf-8", exclude_characters="."), min_size=1, max_size=80))
def test_a_name_aside_is_short_enough_and_its_own(table: str) -> None:
    """However long the table's own name is, and in whatever letters."""
    beside = aside(RelationName(f"s.{table}"), STAGING)
    schema, _, name = beside.partition(".")
    assert schema == "s"
    assert name.endswith(STAGING)
    assert len(name.encode()) <= 63
    other = aside(RelationName(f"s.{table}x"), STAGING)
    assert other != beside


def test_a_gap_between_migrations_is_a_warning() -> None:
    """It names the two."""
    files = {
        "schemas/ops/schema.toml": b'managed = "migrations"',
        "schemas/ops/migrations/0001_a.sql": b"SELECT 1",
        "schemas/ops/migrations/0003_b.sql": b"SELECT 1",
        "schemas/ops/migrations/0004_c.sql": b"SELECT 1",
    }
    reading = read_project(name="p", version="1.0.0", dialect="duckdb", files=files)
    (found,) = reading.assembly.findings
    assert (found.rule, found.severity) == ("schema/migration-gap", "warning")
    assert found.message == "0003_b.sql comes after 0001_a.sql"


@pytest.mark.parametrize(
    ("shape", "text"),
    [
        (ColumnShape(name="n", type="integer"), "n integer"),
        (ColumnShape(name="Day", type="date", required=True), '"Day" date NOT NULL'),
        (ColumnShape(name="n", type="integer", default="1"), "n integer DEFAULT 1"),
        (
            ColumnShape(name="n", type="bigint", identity="by default", required=True),
            "n bigint GENERATED BY DEFAULT AS IDENTITY NOT NULL",
        ),
        (
            ColumnShape(name="n", type="integer", generated="m + 1", default="2"),
            "n integer GENERATED ALWAYS AS (m + 1) STORED",
        ),
    ],
)
def test_a_column_as_a_statement_has_it(shape: ColumnShape, text: str) -> None:
    assert column_sql(shape) == text


@pytest.mark.parametrize(
    ("script", "defines"),
    [
        ("", True),
        ("CREATE TABLE a.b (n INT); ALTER TABLE a.b ADD COLUMN insert_by TEXT;", True),
        ("grant SELECT ON a.b TO x;; COMMENT ON TABLE a.b IS 'DELETE; UPDATE'", True),
        ("DROP TABLE a.b; INSERT INTO a.c VALUES (1)", False),
        ("UPDATE a.b SET n = 1", False),
    ],
)
def test_scripts_about_structure_alone(script: str, defines: bool) -> None:
    assert only_defines(script, "postgres") is defines
