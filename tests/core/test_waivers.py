"""Waivers: a finding is accepted up to and including a day, and nothing else is."""

from __future__ import annotations

import datetime as dt

import pytest

from inchworm.core.checks import rules
from inchworm.core.checks.findings import Finding, Severity
from inchworm.core.checks.waivers import Waiver, apply

TODAY = dt.date(2026, 11, 26)
FINDING = rules.UNKNOWN_TABLE.finding("reads m.gone", part="model:m.a", file="models/m/a.sql")


def waiver(
    rule: str = FINDING.rule,
    part: str = "model:m.a",
    until: dt.date = TODAY,
    only: str = "",
    line: int | None = 3,
) -> Waiver:
    return Waiver(
        rule=rule, part=part, because="it comes", owner="lena", until=until, only=only, line=line
    )


def applied(*waivers: Waiver, findings: tuple[Finding, ...] = (FINDING,)) -> list[Finding]:
    return apply(findings, waivers, TODAY)


@pytest.mark.parametrize("days", [0, 1, 400])
def test_a_waived_finding_is_a_note_that_says_why(days: int) -> None:
    """Also on the last day; nothing else of it changes."""
    until = TODAY + dt.timedelta(days)
    (note,) = applied(waiver(until=until))
    assert note.severity is Severity.NOTE
    assert note.message == f"reads m.gone\nwaived until {until} by lena: it comes"
    assert (note.rule, note.part, note.file) == (FINDING.rule, FINDING.part, FINDING.file)


@pytest.mark.parametrize("days", [1, 400])
def test_a_waiver_that_is_over_waives_nothing_and_says_so(days: int) -> None:
    """With its file and line; it does not count as unused as well."""
    until = TODAY - dt.timedelta(days)
    finding, expired = applied(waiver(until=until))
    assert finding == FINDING
    assert expired.rule == rules.WAIVER_EXPIRED.id
    assert (expired.file, expired.line) == ("waivers.toml", 3)
    assert expired.message == f"the waiver of {FINDING.rule} for model:m.a ended on {until}"


@pytest.mark.parametrize(
    "other",
    [
        waiver(rule="lineage/column-gone"),
        waiver(part="model:m.b"),
        waiver(only="something else"),
    ],
    ids=["of another rule", "for another part", "only of another message"],
)
def test_a_waiver_that_fits_nothing_is_pointed_out(other: Waiver) -> None:
    """The finding stays what it is."""
    finding, unused = applied(other)
    assert finding == FINDING
    assert unused.rule == rules.WAIVER_UNUSED.id
    assert (unused.file, unused.line) == ("waivers.toml", 3)
    assert unused.message == f"the waiver of {other.rule} for {other.part} waives nothing"


def test_a_waiver_may_be_for_a_file_and_its_spelling_does_not_matter() -> None:
    """A finding that is about no part is waived for its file."""
    of_file = rules.STRAY_FILE.finding("belongs to no part", file="models/README.md")
    (note,) = applied(
        waiver(rule=rules.STRAY_FILE.id, part="MODELS/readme.md"), findings=(of_file,)
    )
    assert note.severity is Severity.NOTE
    about_nothing = rules.STRAY_FILE.finding("belongs to no part")
    (note,) = applied(waiver(rule=rules.STRAY_FILE.id, part=""), findings=(about_nothing,))
    assert note.severity is Severity.NOTE


def test_one_waiver_may_waive_several_findings_and_the_first_counts() -> None:
    """A second one for the same is unused."""
    other = rules.UNKNOWN_TABLE.finding("reads m.lost", part="model:m.a")
    first, second = waiver(only="reads"), waiver(only="m.gone")
    notes = applied(first, second, findings=(FINDING, other))
    assert [note.severity for note in notes[:2]] == [Severity.NOTE] * 2
    assert [note.rule for note in notes[2:]] == [rules.WAIVER_UNUSED.id]
