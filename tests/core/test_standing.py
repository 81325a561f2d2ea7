"""Where a bundle goes from what runs in an environment, on or back."""

from __future__ import annotations

import pytest

from inchworm.core.checks.findings import Severity
from inchworm.core.parts import Digest
from inchworm.core.promotion.drafting.standing import direction, going_back, other_content
from inchworm.core.promotion.promotion import Direction
from tests.core.test_rollback import completed


@pytest.mark.parametrize(
    ("before", "bundle", "heading"),
    [
        ([], "a-1.0.0", Direction.FIRST),
        (["a-1.0.0"], "a-1.0.0", Direction.SAME),
        (["a-1.9.0"], "a-1.10.0", Direction.ON),
        (["a-1.10.0"], "a-1.9.0", Direction.BACK),
        (["a-1.0.0-snapshot.1", "a-1.0.0-snapshot.2"], "a-1.0.0-snapshot.3", Direction.ON),
        (["a-1.0.0-snapshot.1", "a-1.0.0-snapshot.2"], "a-1.0.0-snapshot.1", Direction.BACK),
        (["a-1.0.0", "a-2.0.0", "a-1.0.0"], "a-2.0.0", Direction.ON),
    ],
)
def test_versions_say_what_goes_back_and_else_what_was_there(
    before: list[str], bundle: str, heading: Direction
) -> None:
    assert direction("a", bundle, Digest(f"sha256:{bundle}"), completed(*before)) is heading


def test_going_back_is_an_error_unless_it_was_asked_for() -> None:
    (last,) = completed("a-2.0.0")
    given = ("test", "a-1.0.0", Direction.BACK, last)
    (error,) = going_back(*given, may=False)
    text = "a-1.0.0 goes back behind a-2.0.0, which runs in test since 2026-01-01 UTC, by lena"
    assert (error.message, error.severity) == (text, Severity.ERROR)
    (note,) = going_back(*given, may=True)
    assert (note.message, note.severity) == (text, Severity.NOTE)
    assert note.remedy == "It was asked for with --back."
    assert error.remedy != note.remedy
    for heading in (Direction.ON, Direction.SAME, Direction.FIRST):
        assert not list(going_back("test", "a-1.0.0", heading, last, may=False))


def test_a_version_is_one_content() -> None:
    there = completed("a-1.0.0", "a-2.0.0")
    other = Digest("sha256:" + "b" * 64)
    (found,) = other_content("a-1.0.0", other, there, "test")
    assert found.message == (
        "a-1.0.0 went into test with other content (sha256:a-1.0.0, commit none, 2026-01-01 by "
        "lena); this one is sha256:bbbbbbbbbbbb"
    )
    assert not list(other_content("a-1.0.0", Digest("sha256:a-1.0.0"), there, "test"))
    assert not list(other_content("a-3.0.0", other, there, "test"))
