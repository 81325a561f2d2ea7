"""What is said of the statements of a migration, without a database."""

from __future__ import annotations

import pytest

from inchworm.core.checks.migrations import concerns, outside_transactions
from inchworm.core.sql.parse import parse_statements
from inchworm.core.structure.tables import Column, Table

BEFORE = {"ops.t": Table("ops.t", (Column("Id", "INT"), Column("note", "TEXT")))}
MADE = "CREATE TABLE ops.n (id INT);\n"


def said(script: str, dialect: str) -> list[tuple[str, str, int | None]]:
    """The rule, the message and the line of each concern."""
    found = concerns(parse_statements(script, dialect), BEFORE, dialect)
    return [(each.rule.id.partition("/")[2], each.message, each.line) for each in found]


@pytest.mark.parametrize(
    ("script", "expected"),
    [
        ("DELETE FROM ops.t", ["empties all rows of ops.t"]),
        ("TRUNCATE TABLE ops.t", ["empties all rows of ops.t"]),
        ("TRUNCATE TABLE ops.T, ops.u", ["empties all rows of ops.t", "empties all rows of ops.u"]),
        (f"{MADE}TRUNCATE TABLE ops.n, ops.u", ["empties all rows of ops.u"]),
        ("UPDATE ops.t SET id = 1", ["changes all rows of ops.t"]),
        ("UPDATE ops.t SET id = 1 WHERE id = 2", []),
        ("DELETE FROM ops.t WHERE id = 2", []),
        (f"{MADE}UPDATE ops.N SET id = 1; DELETE FROM ops.n", []),
        (f"DELETE FROM ops.n;{MADE}", ["empties all rows of ops.n"]),
        (
            "ALTER TABLE ops.t ADD COLUMN Extra INT NOT NULL",
            ["adds the required column extra to ops.t without a default"],
        ),
        ("ALTER TABLE ops.t ADD COLUMN a INT NOT NULL DEFAULT 1", []),
        ("ALTER TABLE ops.t ADD COLUMN a INT GENERATED ALWAYS AS IDENTITY NOT NULL", []),
        ("ALTER TABLE ops.t ADD COLUMN a INT", []),
        (f"{MADE}ALTER TABLE ops.n ADD COLUMN a INT NOT NULL", []),
        (
            "ALTER TABLE ops.t DROP COLUMN note; ALTER TABLE ops.t ADD COLUMN remark TEXT",
            ["drops ops.t.note and adds remark of the same type"],
        ),
        ("ALTER TABLE ops.t DROP COLUMN note; ALTER TABLE ops.t ADD COLUMN n INT", []),
        ("ALTER TABLE ops.u DROP COLUMN note; ALTER TABLE ops.u ADD COLUMN n TEXT", []),
    ],
)
@pytest.mark.parametrize("dialect", ["duckdb", "postgres"])
def test_what_goes_wrong_where_there_are_rows(
    script: str, expected: list[str], dialect: str
) -> None:
    """Tables that the migration itself makes have none."""
    assert [message for _, message, _ in said(script, dialect)] == expected


def test_what_keeps_others_from_writing_is_said_of_postgres_alone() -> None:
    """Each with its line."""
    script = f"""{MADE}CREATE INDEX i ON ops.n (id);
CREATE INDEX j ON ops.T (id);
CREATE INDEX CONCURRENTLY k ON ops.t (id);
ALTER TABLE ops.t ALTER COLUMN Id DROP DEFAULT, ALTER COLUMN Id TYPE BIGINT;
ALTER TABLE ops.n ALTER COLUMN id TYPE BIGINT;
"""
    assert said(script, "duckdb") == []
    assert said(script, "postgres") == [
        ("blocks-others", "makes an index on ops.t while nobody can write to it", 3),
        ("blocks-others", "writes all of ops.t anew to change the type of id", 5),
    ]


@pytest.mark.parametrize(
    ("script", "in_one", "expected"),
    [
        (
            "CREATE INDEX CONCURRENTLY i ON ops.t (id)",
            True,
            ["builds an index without blocking, which no transaction can do"],
        ),
        ("CREATE INDEX i ON ops.t (id)", True, []),
        ("CREATE INDEX CONCURRENTLY IF NOT EXISTS i ON ops.t (id)", False, []),
        (
            "CREATE INDEX CONCURRENTLY i ON ops.t (id)",
            False,
            ["would fail if it ran again after a crash"],
        ),
        ("DROP TABLE ops.t", False, ["would fail if it ran again after a crash"]),
        ("DROP TABLE IF EXISTS ops.t", False, []),
        ("UPDATE ops.t SET id = 1", False, []),
        (
            "UPDATE ops.t SET id = 1;\nUPDATE ops.t SET id = 2",
            False,
            ["has 2 statements outside a transaction"],
        ),
        ("", False, ["has 0 statements outside a transaction"]),
    ],
)
def test_what_does_not_go_together_with_a_transaction(
    script: str, in_one: bool, expected: list[str]
) -> None:
    """In one, and outside of one."""
    found = outside_transactions(parse_statements(script, "postgres"), in_one=in_one)
    assert [each.message for each in found] == expected
