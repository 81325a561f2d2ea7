"""Where a rollback leads, and what it can use of what was kept."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from inchworm.core.errors import UsageError
from inchworm.core.identifiers import RelationName
from inchworm.core.parts import Digest
from inchworm.core.promotion.aside import Aside, Purpose
from inchworm.core.promotion.composition import CompletedPromotion, passed
from inchworm.core.promotion.rollback import (
    Rollback,
    course_back,
    course_from_unfinished,
    usable_replaced,
)
from inchworm.core.sql.only_drops import only_drops


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
    further = course_back(promotions, "prod", "l:P1")
    assert (further.to.bundle, further.undoes) == ("a-1", ("l:P2", "l:P3"))
    assert further.leaving == ("a-3", "a-2")


def test_one_that_stopped_leads_to_the_latest_that_was_completed() -> None:
    """Its bundle is left, too."""
    course = course_from_unfinished(completed("a-1", "a-2"), "prod", "l:P3", "a-3")
    assert (course.to.bundle, course.undoes) == ("a-2", ("l:P3",))
    assert course.leaving == ("a-3", "a-2")


@pytest.mark.parametrize("bundles", [(), ("a-1",)])
def test_there_may_be_nothing_before(bundles: tuple[str, ...]) -> None:
    """That is an error, with what runs there."""
    with pytest.raises(UsageError, match="nothing before in prod"):
        course_back(completed(*bundles), "prod")


def test_an_unknown_promotion_is_no_state() -> None:
    """It was never completed there."""
    with pytest.raises(UsageError, match="P9 was not completed in prod"):
        course_back(completed("a-1", "a-2"), "prod", "l:P9")


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
    assert usable_replaced([kept("l:P2")], back, promotions)
    assert not usable_replaced([kept("l:P2", "")], back, promotions)
    build = Rollback(to="l:P1", undoes=("l:P2",), build=True)
    assert not usable_replaced([kept("l:P2")], build, promotions)


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
