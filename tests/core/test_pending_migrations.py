"""Migrations that a database still needs, those assumed, and what is wrong with them."""

from __future__ import annotations

from collections.abc import Sequence

import pytest
from msgspec.structs import replace

from inchworm.core.checks.findings import Finding
from inchworm.core.identifiers import Kind, PartId
from inchworm.core.parts import Digest
from inchworm.core.promotion.composition import Composition, RanMigration
from inchworm.core.promotion.migrations import Pending, change_by_hand, pending_migrations
from inchworm.core.rendered import When
from inchworm.core.structure.definitions import Difference
from inchworm.core.structure.tables import Column, Table
from tests.core.test_drafting import EMPTY, ENVIRONMENT, after, request
from tests.core.test_drafting import FILES as DRAFTED

OPS = PartId(Kind.SCHEMA, "ops")
OTHER = PartId(Kind.SCHEMA, "aux")
FILE = "schemas/ops/migrations/0002_b.sql"
STATEMENT = "CREATE TABLE ops.s (id INT);"
FIRST = f"/*--- baseline = true ---*/ {STATEMENT}"
FILES = {
    "schemas/ops/schema.toml": 'managed = "migrations"\n',
    "schemas/ops/migrations/0001_a.sql": FIRST,
    FILE: '/*--- when = "after" ---*/ CREATE TABLE ops.t (id INT);',
    "schemas/aux/schema.toml": 'managed = "migrations"\n',
    "schemas/aux/migrations/0001_a.sql": "CREATE TABLE aux.s (id INT);",
}
HAND = Difference(
    key="index corner_ops.i", name="corner_ops.i", what="unknown", now="CREATE INDEX corner_ops.i"
)
KEY, DIGEST = change_by_hand(HAND, "corner_ops", "ops")


def pending(
    live: Composition,
    files: dict[str, str] = FILES,
    baselines: dict[PartId, Sequence[str]] | None = None,
) -> tuple[list[Pending], list[Finding]]:
    asked = request(files, live)
    address = replace(ENVIRONMENT.database, schema_pattern="corner_{schema}")
    return pending_migrations(asked.assembly, asked.rendered, live, address, baselines or {})


def waiting(schema: PartId, name: str, when: When = When.BEFORE, assumed: bool = False) -> Pending:
    return Pending(schema=schema, name=name, when=when, assumed=assumed)


def with_table(schema: str) -> Composition:
    name = f"{schema}.s"
    return replace(EMPTY, tables={name: Table(name, (Column("id", "INT"),))})


def ran(schema: str, name: str, checksum: str, script: str = "") -> RanMigration:
    return RanMigration(
        schema=schema,
        name=name,
        checksum=checksum,
        outcome="ran",
        promotion="P1",
        ran_at="2026-11-26T09:00:00+00:00",
        script=script,
    )


ALL = [
    waiting(OTHER, "0001_a"),
    waiting(OPS, "0001_a"),
    waiting(OPS, "0002_b", When.AFTER),
]


def test_an_empty_database_needs_all_of_them() -> None:
    """In the order of their schemas and names."""
    assert pending(EMPTY) == (ALL, [])


def test_a_schema_whose_part_is_live_needs_none() -> None:
    """It was recorded when all of them had run; with another digest, each is asked for."""
    rendered = request(FILES, EMPTY).rendered
    (some, *_) = after(DRAFTED).parts.values()
    parts = {each: replace(some, part=each, digest=rendered.digest(each)) for each in (OTHER, OPS)}
    assert pending(replace(EMPTY, parts=parts)) == ([], [])
    parts[OPS] = replace(parts[OPS], digest=Digest("sha256:other"))
    assert pending(replace(EMPTY, parts=parts)) == (ALL[1:], [])


def test_what_ran_in_this_schema_is_not_needed_again() -> None:
    """The same name in another schema is another migration."""
    scripts = request(FILES, EMPTY).rendered.schema(OPS).migrations
    live = replace(EMPTY, migrations=(ran("ops", "0001_a", scripts[0].checksum),))
    assert pending(live) == ([ALL[0], ALL[2]], [])


@pytest.mark.parametrize(
    ("script", "lines"),
    [("", ""), ("CREATE TABLE x", f"\n--- ran\n+++ now\n-CREATE TABLE x\n+{STATEMENT}")],
)
def test_a_migration_that_was_edited_after_it_ran_is_told(script: str, lines: str) -> None:
    """With both texts, where the one that ran is known; it does not run again."""
    live = replace(EMPTY, migrations=(ran("ops", "0001_a", "sha256:other", script),))
    found, (finding,) = pending(live)
    assert found == [ALL[0], ALL[2]]
    assert finding.rule == "schema/migration-edited"
    assert finding.message == f"0001_a ran here on 2026-11-26 with other text{lines}"
    assert (finding.part, finding.file) == (str(OPS), "schemas/ops/migrations/0001_a.sql")


@pytest.mark.parametrize(
    ("wrong", "messages"),
    [
        ({}, ["the schema has tables, but it has not been compared with what is there"]),
        ({OPS: ()}, []),
        ({OPS: ("a", "b")}, ["the schema has tables, but a", "the schema has tables, but b"]),
    ],
)
def test_a_baseline_is_assumed_where_its_schema_has_tables(
    wrong: dict[PartId, Sequence[str]], messages: list[str]
) -> None:
    """It says what is otherwise; the schema is looked for under its physical name."""
    found, findings = pending(with_table("corner_ops"), baselines=wrong)
    assert found == [ALL[0], waiting(OPS, "0001_a", assumed=True), ALL[2]]
    assert [f.message for f in findings] == messages
    assert {(f.rule, f.part, f.file) for f in findings} <= {
        ("schema/baseline-differs", str(OPS), "schemas/ops/migrations/0001_a.sql")
    }
    assert pending(with_table("ops"), baselines=wrong) == (ALL, [])


def test_a_baseline_behind_other_migrations_runs() -> None:
    """It cannot describe what was there before them."""
    scripts = request(FILES, EMPTY).rendered.schema(OPS).migrations
    live = replace(
        with_table("corner_ops"), migrations=(ran("ops", "0002_b", scripts[1].checksum),)
    )
    assert pending(live) == (ALL[:2], [])


def test_a_change_by_hand_is_named_as_in_the_project() -> None:
    """So that one migration can take it up in every environment."""
    assert KEY == "index ops.i"
    same = replace(HAND, key="index ops.i", name="ops.i", now="CREATE INDEX ops.i")
    assert change_by_hand(same, "ops", "ops") == (KEY, DIGEST)
    assert change_by_hand(replace(HAND, now="other"), "corner_ops", "ops") != (KEY, DIGEST)


def taking_up(*keys: str, digest: str = DIGEST) -> dict[str, str]:
    taken = ", ".join(f'"{key}" = "{digest}"' for key in keys)
    return FILES | {FILE: f"/*--- takes_up = {{{taken}}} ---*/ CREATE INDEX i ON ops.s (id);"}


def test_a_migration_that_takes_up_a_change_is_assumed_where_that_change_is() -> None:
    """It names the differences as this database has them."""
    live = replace(EMPTY, differences=(HAND,))
    found, findings = pending(live, taking_up(KEY))
    assert findings == []
    assert found[-1] == Pending(
        schema=OPS,
        name="0002_b",
        when=When.BEFORE,
        assumed=True,
        takes_up=frozenset({"index corner_ops.i"}),
    )


@pytest.mark.parametrize(
    ("files", "differences", "told"),
    [
        (taking_up(KEY), (), 0),
        (taking_up(KEY), (replace(HAND, name="corner_aux.i"),), 0),
        (taking_up(KEY, digest="sha256:other"), (HAND,), 1),
        (taking_up(KEY, "index ops.j"), (HAND,), 1),
    ],
    ids=["not there", "elsewhere", "otherwise", "in part"],
)
def test_a_migration_that_takes_up_a_change_runs_where_it_is_not(
    files: dict[str, str], differences: tuple[Difference, ...], told: int
) -> None:
    """Where it is there otherwise or in part, that is told, and nothing is assumed."""
    found, findings = pending(replace(EMPTY, differences=differences), files)
    assert found[-1] == waiting(OPS, "0002_b")
    assert [(f.rule, f.part, f.file, f.message) for f in findings] == told * [
        (
            "schema/baseline-differs",
            str(OPS),
            FILE,
            f"0002_b takes up a change of {KEY} that was made by hand; here it was changed "
            "otherwise, or only in part",
        )
    ]
