"""Where a rollback leads, and what it can use of what was kept."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st
from msgspec.structs import replace

from inchworm.core.errors import UsageError
from inchworm.core.identifiers import Kind, PartId, RelationName
from inchworm.core.parts import Digest
from inchworm.core.promotion.aside import Aside, Purpose
from inchworm.core.promotion.composition import (
    CompletedPromotion,
    Composition,
    RanMigration,
    passed,
)
from inchworm.core.promotion.rollback import (
    Leaving,
    Rollback,
    course_back,
    course_from_unfinished,
    lacking_columns,
    undone_migrations,
    usable_replaced,
)
from inchworm.core.rendered import Script, When
from inchworm.core.sql.only_drops import only_drops
from inchworm.core.structure.tables import Column, Table
from tests.core.test_drafting import EMPTY, FILES, request


def completed(
    *bundles: str, undoes: dict[int, tuple[str, ...]] | None = None
) -> list[CompletedPromotion]:
    """Promotions of bundles, in their order: l:P1, l:P2 ..."""
    return [
        CompletedPromotion(
            promotion=f"l:P{number}",
            bundle=bundle,
            digest=f"sha256:{bundle}",
            commit=None,
            by="lena",
            at="2026-01-01",
            number=number,
            undoes=(undoes or {}).get(number, ()),
        )
        for number, bundle in enumerate(bundles, start=1)
    ]


def kept(by: str, digest: str = "sha256:m") -> Aside:
    """A table that a promotion replaced."""
    return Aside(
        name=RelationName("m.a__kept"),
        purpose=Purpose.REPLACED,
        of=RelationName("m.a"),
        promotion=by,
        digest=Digest(digest),
    )


def test_back_is_the_one_before() -> None:
    """All that came since is undone, and its bundles are left, the latest first."""
    promotions = completed("a-1", "a-2", "a-3")
    course = course_back(promotions, "prod")
    assert (course.to.bundle, course.undoes, course.leaving) == ("a-2", ("l:P3",), ("a-3",))
    assert course_back(promotions[:2], "prod").to.bundle == "a-1"
    further = course_back(promotions, "prod", "l:P1")
    assert (further.to.bundle, further.undoes) == ("a-1", ("l:P2", "l:P3"))
    assert further.leaving == ("a-3", "a-2")


def test_one_that_stopped_leads_to_the_latest_that_was_completed() -> None:
    """Its bundle is left, too."""
    course = course_from_unfinished(completed("a-1", "a-2", "a-3"), "prod", "l:P4", "a-4")
    assert (course.to.bundle, course.undoes) == ("a-3", ("l:P4",))
    assert course.leaving == ("a-4", "a-3")


def test_one_that_stopped_as_the_first_leads_nowhere() -> None:
    """The way on is to mend it."""
    with pytest.raises(UsageError, match="Nothing was completed in prod before") as refused:
        course_from_unfinished([], "prod", "l:P1", "a-1")
    assert refused.value.next == "Mend what made it fail, and go on with it."


@pytest.mark.parametrize(
    ("bundles", "runs"), [((), "nothing was there"), (("a-1",), "only a-1 was ever there")]
)
def test_there_may_be_nothing_before(bundles: tuple[str, ...], runs: str) -> None:
    """That is an error, with what runs there."""
    with pytest.raises(UsageError, match=f"nothing before in prod: {runs}") as refused:
        course_back(completed(*bundles), "prod")
    assert refused.value.next == "To take parts away, promote a bundle without them."


def test_an_unknown_promotion_is_no_state() -> None:
    """It was never completed there."""
    with pytest.raises(UsageError, match=r"^P9 was not completed in prod") as refused:
        course_back(completed("a-1", "a-2"), "prod", "a:ledger:P9")
    assert refused.value.next == "See inchworm history --to prod."


@given(st.integers(2, 6), st.data())
def test_only_what_the_next_promotion_kept_is_of_a_state(count: int, data: st.DataObject) -> None:
    """What a later one kept, was built from something later."""
    promotions = completed(*(f"a-{n}" for n in range(count)))
    to = data.draw(st.integers(1, count))
    by = data.draw(st.integers(1, count + 1))
    rollback = Rollback(to=f"l:P{to}", undoes=())
    usable = usable_replaced([kept(f"l:P{by}")], rollback, promotions)
    assert bool(usable) is (by == to + 1)


def test_what_was_kept_is_not_used_without_a_digest_or_when_all_is_built() -> None:
    """Former versions recorded none."""
    promotions = completed("a-1", "a-2")
    back = Rollback(to="l:P1", undoes=("l:P2",))
    assert usable_replaced([kept("l:P2")], back, promotions) == {"m.a": kept("l:P2")}
    assert not usable_replaced([kept("l:P2", "")], back, promotions)
    build = Rollback(to="l:P1", undoes=("l:P2",), build=True)
    assert not usable_replaced([kept("l:P2")], build, promotions)


# ---- migrations --------------------------------------------------------------------------------

OPS = PartId(Kind.SCHEMA, "ops")


def migrated(*names: str, outcome: str = "ran", checksum: str = "c") -> Composition:
    """An environment in which migrations of the schema ran."""

    def migration(schema: str, name: str) -> RanMigration:
        return RanMigration(
            schema=schema,
            name=name,
            checksum=checksum,
            outcome=outcome,
            promotion="l:P1",
            ran_at="2026-01-01",
        )

    ran = [migration("ops", name) for name in names]
    return replace(EMPTY, migrations=(migration("ref", "0009_x"), *ran))


def undo(name: str, text: str, checksum: str = "c", when: When = When.BEFORE) -> Script:
    return Script(
        name=name,
        file=f"schemas/ops/migrations/{name}.sql",
        sql="",
        checksum=Digest(checksum),
        when=when,
        undo=text,
    )


def taken_back(
    live: Composition, *scripts: Script, missing: tuple[str, ...] = ()
) -> tuple[list[tuple[str, bool]], list[str]]:
    """What is taken back, each whether behind the switch-over; and what is said of the others."""
    to = request(FILES, live)
    leaving = Leaving(scripts={("ops", each.name): each for each in scripts}, missing=missing)
    undone, findings = undone_migrations(to.assembly, to.rendered, live, leaving, "duckdb")
    assert set(undone) <= {OPS}
    taken = undone.get(OPS, ())
    for each in taken:
        assert each.file == f"schemas/ops/migrations/{each.ran.name}.undo.sql"
        assert each.undo == leaving.scripts["ops", each.ran.name].undo
    return [(each.ran.name, each.late) for each in taken], [each.message for each in findings]


def test_migrations_are_taken_back_from_the_latest_on() -> None:
    """Those that the bundle which comes back has, stay; so do those of other schemas."""
    live = migrated("0001_a", "0002_b", "0003_c")
    scripts = [undo("0002_b", "DROP TABLE ops.b"), undo("0003_c", "ALTER TABLE ops.s ADD x INT")]
    assert taken_back(live, *scripts) == ([("0003_c", False), ("0002_b", False)], [])
    assert taken_back(migrated("0001_a")) == ([], [])


def test_what_only_takes_away_goes_behind_the_switch_over() -> None:
    live = migrated("0002_b", "0003_c")
    drops = [undo("0002_b", "DROP TABLE ops.b"), undo("0003_c", "DROP VIEW ops.c")]
    assert taken_back(live, *drops) == ([("0003_c", True), ("0002_b", True)], [])
    drops[0] = undo("0002_b", "DROP TABLE ops.b", when=When.AFTER)
    assert taken_back(live, *drops) == ([("0003_c", False), ("0002_b", False)], [])


@pytest.mark.parametrize(
    ("live", "scripts", "missing", "why"),
    [
        (migrated("0003_c"), [], (), "no bundle that ran here has it"),
        (
            *(migrated("0003_c"), [], ("a-2", "a-3")),
            "a-2, which may have its undo script, is not in the bundle store",
        ),
        (migrated("0003_c"), [undo("0003_c", "")], (), "it has no undo script"),
        (
            *(migrated("0003_c"), [undo("0003_c", "DROP TABLE ops.c", "other")], ()),
            "it ran here with other text",
        ),
        (
            *(migrated("0003_c", outcome="assumed"), [undo("0003_c", "DROP TABLE ops.c")], ()),
            "it never ran here: what it makes was there before",
        ),
    ],
)
def test_a_migration_that_cannot_be_taken_back_stays(
    live: Composition, scripts: list[Script], missing: tuple[str, ...], why: str
) -> None:
    assert taken_back(live, *scripts, missing=missing) == ([], [f"0003_c stays, because {why}"])


def test_with_a_migration_all_before_it_stay() -> None:
    live = migrated("0002_b", "0003_c", "0004_d", "0005_e")
    scripts = [undo(name, "DROP TABLE ops.x") for name in ("0002_b", "0003_c", "0005_e")]
    taken, said = taken_back(live, *scripts)
    assert [name for name, _ in taken] == ["0005_e"]
    why = "because no bundle that ran here has it"
    assert said == [f"0004_d stays, {why}; with it stay 0003_c, 0002_b"]
    assert taken_back(migrated("0002_b", "0004_d"), *scripts)[1] == [
        f"0004_d stays, {why}; with it stays 0002_b"
    ]


def lacking(
    tables: dict[str, Table], changing: set[PartId] | None = None, **models: str
) -> list[str]:
    live = replace(EMPTY, tables=tables)
    files = FILES | {"models/m/c.sql": "SELECT id, note FROM ops.s"}
    files |= {f"models/m/{name}.sql": sql for name, sql in models.items()}
    files |= {"schemas/ops/migrations/0001_a.sql": "CREATE TABLE ops.s (id INT, note TEXT);"}
    to = request(files, live)
    physical = {name: RelationName(f"dev_{name}") for name in ("x.y", "raw.t", "m.a", "ops.s")}
    found = lacking_columns(to.assembly, live, changing or set(), physical)
    return [f"{each.part}: {each.message}" for each in found]


def test_what_comes_back_needs_the_columns_that_it_reads() -> None:
    whole = Table("dev_ops.s", (Column("id", "INT"), Column("note", "TEXT")))
    assert lacking({"dev_ops.s": whole}) == []
    without = Table("dev_ops.s", (Column("id", "INT"),))
    one = "model:m.c: model:m.c reads ops.s.note, which is not there any more"
    assert lacking({"dev_ops.s": without}) == [one]
    both = "model:m.c: model:m.c reads ops.s.id, ops.s.note, which are not there any more"
    assert lacking({}) == [both], "the tables that are managed outside are checked elsewhere"
    assert lacking({}, {OPS}) == [], "the database is asked"
    fewer = Table("dev_ops.s", (Column("note", "TEXT"),))
    assert lacking({"dev_ops.s": without}, b="SELECT id FROM ops.s") == [one]
    assert lacking({"dev_ops.s": fewer}, d="SELECT note FROM ops.s") == [
        "model:m.c: model:m.c reads ops.s.id, which is not there any more"
    ], "a reader beside it lacks nothing"


def test_what_was_taken_back_has_not_passed() -> None:
    """Unless it went in again."""
    promotions = completed("a-1", "a-2", "a-1", undoes={3: ("l:P2",)})
    assert not passed(promotions, Digest("sha256:a-2"))
    assert passed(promotions, Digest("sha256:a-1"))
    again = completed("a-1", "a-2", "a-1", "a-2", undoes={3: ("l:P2",), 4: ("l:P3",)})
    assert passed(again, Digest("sha256:a-2"))


@pytest.mark.parametrize(
    ("script", "drops"),
    [
        ("DROP TABLE a.b; DROP INDEX a.i", True),
        ("ALTER TABLE a.b DROP COLUMN c", True),
        ("ALTER TABLE a.b DROP CONSTRAINT c", True),
        ("DROP VIEW a.v;", True),
        ("ALTER TABLE a.b ADD COLUMN c INTEGER", False),
        ("ALTER TABLE a.b RENAME COLUMN c TO d", False),
        ("UPDATE a.b SET c = 1; ALTER TABLE a.b DROP COLUMN d", False),
        ("DELETE FROM a.b", False),
        ("DROP TABEL a.b (", False),
    ],
)
@pytest.mark.parametrize("dialect", ["duckdb", "postgres", "sqlite"])
def test_scripts_that_only_take_away(script: str, drops: bool, dialect: str) -> None:
    """Nothing else may run behind the switch-over."""
    assert only_drops(script, dialect) is drops
