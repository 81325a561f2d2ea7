"""Migrations that go wrong with tables that have rows."""

from __future__ import annotations

import pytest

from inchworm.kinds.project_reader import read_project

BASELINE = (
    "/*--- baseline = true ---*/ CREATE TABLE ops.a (id INTEGER, name VARCHAR, size DOUBLE);"
    "DELETE FROM ops.a; CREATE INDEX first ON ops.a (id);"
)


def said(sql: str, dialect: str = "postgres") -> list[tuple[str, int | None]]:
    """Rule and line of what is said about a second migration."""
    reading = read_project(
        name="p",
        version="1.0.0",
        dialect=dialect,
        files={
            "schemas/ops/schema.toml": b'managed = "migrations"',
            "schemas/ops/migrations/0001_a.sql": BASELINE.encode(),
            "schemas/ops/migrations/0002_b.sql": sql.encode(),
        },
    )
    found = [f for f in reading.assembly.findings if f.rule != "schema/not-followed"]
    assert all(f.file == "schemas/ops/migrations/0002_b.sql" for f in found)
    return [(f.rule, f.line) for f in found]


@pytest.mark.parametrize(
    ("sql", "rule"),
    [
        ("SELECT 1;\nUPDATE ops.a SET name = 'x'", "schema/without-condition"),
        ("SELECT 1;\nDELETE FROM ops.a", "schema/without-condition"),
        ("SELECT 1;\nTRUNCATE TABLE ops.a", "schema/without-condition"),
        (
            "SELECT 1;\nALTER TABLE ops.a ADD COLUMN b INTEGER NOT NULL",
            "schema/required-without-default",
        ),
        ("SELECT 1;\nCREATE INDEX i ON ops.a (name)", "schema/blocks-others"),
        ("SELECT 1;\nALTER TABLE ops.a ALTER COLUMN id TYPE BIGINT", "schema/blocks-others"),
        (
            "ALTER TABLE ops.a ADD COLUMN title VARCHAR;\nALTER TABLE ops.a DROP COLUMN name",
            "schema/looks-like-rename",
        ),
    ],
)
def test_a_migration_that_can_hurt_says_so(sql: str, rule: str) -> None:
    """With its line."""
    assert said(sql) == [(rule, 2)]


@pytest.mark.parametrize(
    "sql",
    [
        "UPDATE ops.a SET name = 'x' WHERE id = 1",
        "ALTER TABLE ops.a ADD COLUMN b INTEGER NOT NULL DEFAULT 3",
        "ALTER TABLE ops.a ADD COLUMN b INTEGER",
        "CREATE TABLE ops.n (id INTEGER PRIMARY KEY); "
        "ALTER TABLE ops.n ADD COLUMN b INTEGER NOT NULL; "
        "CREATE INDEX i ON ops.n (id); UPDATE ops.n SET id = 1",
        "ALTER TABLE ops.a RENAME COLUMN name TO title",
        "ALTER TABLE ops.a ADD COLUMN title DATE; ALTER TABLE ops.a DROP COLUMN name",
    ],
)
def test_others_are_left_alone(sql: str) -> None:
    """Where the table is new, the change has a condition, or the database does not mind."""
    assert said(sql) == []


def test_only_postgresql_is_blocked() -> None:
    """An embedded database has nobody else who waits."""
    assert said("CREATE INDEX i ON ops.a (name)", "duckdb") == []
