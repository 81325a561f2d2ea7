"""Entry conditions: what they mean, and by what they are judged met or missing."""

from __future__ import annotations

import datetime as dt
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st
from msgspec.structs import replace

from inchworm.core.checks import rules
from inchworm.core.checks.findings import Severity
from inchworm.core.entry.approvals import Approval, Identity, Verdict, signature_in
from inchworm.core.entry.closed_hours import closed_by, closed_time
from inchworm.core.entry.conditions import EntryConditions, measure_condition, ran_condition
from inchworm.core.entry.judging import (
    Answer,
    CheckedApproval,
    Evidence,
    Number,
    Passed,
    Vouched,
    judge,
)
from inchworm.core.entry.people import People, Person
from inchworm.core.entry.statements import (
    BUNDLE_PREDICATE,
    HEAD_PREDICATE,
    PAYLOAD_TYPE,
    Opened,
    envelope,
    opened,
    signed_bytes,
    statement,
)
from inchworm.core.environments.verification import holds, key_in_body, value_at
from inchworm.core.parts import Digest

NOW = dt.datetime(2026, 11, 27, 16, 0, tzinfo=dt.UTC)
"""A Friday."""
DIGEST = Digest("sha256:" + "a" * 64)
MIRA = Person(name="mira", also=("Mira Fen", "mira@example.org"), groups=("release",))
PEOPLE = People({"mira": MIRA})


def approval(by: str = "Mira Fen", **given_: Any) -> Approval:
    """An approval of the draft."""
    made = Approval(
        verdict=Verdict.APPROVED,
        promotion="l:P3",
        digest=DIGEST,
        by=by,
        identity=Identity.GIT,
        at="2026-11-27T15:00:00+00:00",
    )
    return replace(made, **given_)


def checked(by: str = "Mira Fen", **given_: Any) -> CheckedApproval:
    """The same, looked at."""
    person, verdict = PEOPLE.called(by), given_.pop("verdict", Verdict.APPROVED)
    return CheckedApproval(approval=approval(by, verdict=verdict), person=person, **given_)


def judged(conditions: EntryConditions, **known: Any) -> list[tuple[bool, str]]:
    """Whether each condition is met, and by what."""
    evidence = Evidence(promotion="l:P3", digest=DIGEST, environment="prod", now=NOW, **known)
    return [(each.is_met, each.evidence) for each in judge(conditions, evidence, PEOPLE)]


# ---- times -------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("closed", "at", "is_closed"),
    [
        ("fri 15:00 - mon 07:00", "2026-11-27 14:59", False),
        ("fri 15:00 - mon 07:00", "2026-11-27 15:00", True),
        ("fri 15:00 - mon 07:00", "2026-11-29 23:59", True),
        ("fri 15:00 - mon 07:00", "2026-11-30 06:59", True),
        ("fri 15:00 - mon 07:00", "2026-11-30 07:00", False),
        ("mon 08:00 - mon 09:00", "2026-11-30 08:30", True),
        ("22:00 - 06:00", "2026-11-25 23:00", True),
        ("22:00 - 06:00", "2026-11-25 05:59", True),
        ("22:00 - 06:00", "2026-11-25 06:00", False),
        ("2026-12-24 - 2027-01-02", "2027-01-02 23:59", True),
        ("2026-12-24 - 2027-01-02", "2027-01-03 00:00", False),
        ("2026-12-25", "2026-12-25 12:00", True),
    ],
)
def test_closed_times(closed: str, at: str, is_closed: bool) -> None:
    """Hours of a day or week that may go over into the next; days with their ends."""
    assert closed_time(closed).holds(dt.datetime.fromisoformat(at)) is is_closed
    assert (closed_by([closed], dt.datetime.fromisoformat(at)) == closed) is is_closed


@pytest.mark.parametrize(
    "text",
    [
        "",
        "friday",
        "fri 15:00 - 07:00",
        "fri 25:00 - mon 07:00",
        "2026-12-24 - 2026-12-01",
        "9 - 5",
    ],
)
def test_what_is_no_time(text: str) -> None:
    """It is refused, with an example."""
    with pytest.raises(ValueError, match=r"fri 15:00 - mon 07:00|day is out|month must"):
        closed_time(text)


@given(st.datetimes(dt.datetime(2026, 1, 1), dt.datetime(2027, 1, 1)))
def test_a_week_is_either_closed_or_open(at: dt.datetime) -> None:
    """What is open is closed the other way round."""
    one, other = closed_time("tue 09:30 - fri 15:00"), closed_time("fri 15:00 - tue 09:30")
    assert one.holds(at) is not other.holds(at)


# ---- conditions --------------------------------------------------------------------------------


def test_measures_and_runs_are_read() -> None:
    """Against a number, or a share of what is live."""
    plain = measure_condition("notebook:level_forecast rmse_cm <= 5 in test")
    assert (plain.bound, plain.holds(5, None), plain.holds(5.1, None)) == (5, True, False)
    share = measure_condition("notebook:level_forecast score >= 90% of live in test")
    assert (share.holds(0.9, 1.0), share.holds(0.89, 1.0), share.holds(0.1, None)) == (
        *(True, False, True),
    )
    part, environment = ran_condition("pipeline:nightly in test")
    assert (str(part), environment) == ("pipeline:nightly", "test")
    for wrong in ("rmse <= 5", "notebook:x rmse < 5 in test", "schema:ops in test", "nightly"):
        with pytest.raises(ValueError, match="is not a"):
            (measure_condition if "<" in wrong else ran_condition)(wrong)


def test_conditions_are_remembered() -> None:
    """As they were."""
    conditions = EntryConditions(approvals=2, by=("mira",), closed=("2026-12-25",), rested=60.0)
    assert EntryConditions.from_json(conditions.to_json()) == conditions


# ---- approvals ---------------------------------------------------------------------------------


def test_approvals_count_by_person() -> None:
    """One person, by whatever name, is one."""
    two = EntryConditions(approvals=2)
    assert judged(two, approvals=[checked(), checked("mira")]) == [
        (False, "mira (as git says); 1 missing")
    ]
    met = [checked(), checked("Ole Sund")]
    assert judged(two, approvals=met)[0][0]


@pytest.mark.parametrize(
    ("conditions", "approvals", "authors", "why"),
    [
        ({"by": ("ole",)}, [checked()], (), "not among those who may approve"),
        ({}, [checked()], ("mira@EXAMPLE.org",), "an author of the changes"),
        ({}, [checked("Ole")], ("ole",), "an author of the changes"),
        ({}, [checked()], None, "the authors of the changes are not known here"),
        ({"signed": True}, [checked()], (), "it is not signed"),
        ({}, [checked(problem="its signature is wrong")], (), "its signature is wrong"),
    ],
)
def test_what_does_not_count_is_named(
    conditions: dict[str, Any],
    approvals: list[CheckedApproval],
    authors: tuple[str, ...] | None,
    why: str,
) -> None:
    """With the reason."""
    found = judged(EntryConditions(approvals=1, **conditions), approvals=approvals, authors=authors)
    ((is_met, evidence),) = found
    assert not is_met
    assert why in evidence


@pytest.mark.parametrize(
    ("listed", "may"),
    [
        (["mira"], True),
        (["MIRA FEN"], True),
        (["sven", "group:release"], True),
        (["release"], False),
        (["group:mira"], False),
        (["group:other", "sven"], False),
        ([], False),
    ],
)
def test_somebody_is_named_or_in_a_group(listed: list[str], may: bool) -> None:
    assert PEOPLE.may(MIRA, listed) is may
    assert not PEOPLE.may(PEOPLE.called("group:release"), ["release"])


def test_groups_and_authors_may_be_allowed() -> None:
    """As the environment says."""
    by_group = EntryConditions(
        approvals=1, by=("group:release",), authors_may_approve=True, signed=True
    )
    assert judged(by_group, approvals=[checked(is_signed=True)], authors=("Mira Fen",)) == [
        (True, "mira (signed)")
    ]


def test_the_condition_says_whose_approval_is_wanted() -> None:
    evidence = Evidence(promotion="l:P3", digest=DIGEST, environment="prod", now=NOW)

    def said(**wanted: Any) -> str:
        (one,) = judge(EntryConditions(**wanted), evidence, PEOPLE)
        return one.condition

    assert said(approvals=1, authors_may_approve=True) == "1 approval"
    assert said(approvals=2) == "2 approvals, not by an author of the changes"
    assert said(
        approvals=2, by=("group:release", "sven"), signed=True, authors_may_approve=True
    ) == ("2 approvals by group:release, sven, signed")


def test_a_signed_statement_is_the_approval_and_nothing_else() -> None:
    """An envelope from another approval, or a damaged one, holds no signature of this."""
    said = approval(identity=Identity.KEY)
    sealed = envelope(said.statement, "key", b"signature")
    assert signature_in(replace(said, envelope=sealed)) == ("key", b"signature")
    for other in (
        replace(said, because="other"),
        replace(said, promotion="l:P4"),
        replace(said, digest=Digest("sha256:" + "b" * 64)),
        replace(said, verdict=Verdict.EXCEPTION),
    ):
        assert signature_in(replace(other, envelope=sealed)) is None
    for damaged in ({}, {**sealed, "payload": "?"}, {**sealed, "signatures": []}, {"payload": 5}):
        assert signature_in(replace(said, envelope=damaged)) is None
    assert signed_bytes(b"{}").startswith(f"DSSEv1 {len(PAYLOAD_TYPE)} {PAYLOAD_TYPE} 2 ".encode())
    assert Approval.from_json(replace(said, envelope=sealed).to_json()).envelope == sealed


def test_a_statement_says_one_thing_about_one_thing() -> None:
    """Whoever signs something else, about something else, or in other words, did not say it."""
    words = {"by": "Mira Fen", "because": "ä"}
    payload = statement("riverwatch-1.4.0", DIGEST, BUNDLE_PREDICATE, words)
    held = opened(envelope(payload, "key", b"signature"))
    assert held == Opened(payload=payload, key="key", signature=b"signature")
    assert held.says("riverwatch-1.4.0", DIGEST, BUNDLE_PREDICATE) == words
    assert '"because": "ä"'.encode() in payload
    assert held.says("riverwatch-1.4.1", DIGEST, BUNDLE_PREDICATE) is None
    assert held.says("riverwatch-1.4.0", Digest("sha256:" + "b" * 64), BUNDLE_PREDICATE) is None
    assert held.says("riverwatch-1.4.0", DIGEST, HEAD_PREDICATE) is None
    spaced = replace(held, payload=payload + b" ")
    assert spaced.says("riverwatch-1.4.0", DIGEST, BUNDLE_PREDICATE) is None


@pytest.mark.parametrize("payload", [b"", b"\xff", b"5", b"[]", b"{}", b'{"predicate": 5}'])
def test_what_is_no_statement_says_nothing(payload: bytes) -> None:
    held = opened(envelope(payload, "key", b""))
    assert held is not None
    assert held.says("riverwatch-1.4.0", DIGEST, BUNDLE_PREDICATE) is None


# ---- everything else ---------------------------------------------------------------------------


def test_a_bundle_is_signed_by_whoever_is_asked_for() -> None:
    lena = Person(name="lena", also=(), groups=())
    by_both = [Vouched(person=MIRA), Vouched(person=lena), Vouched(problem="no key of ours")]
    anybody = EntryConditions(bundle_signed=True)
    assert judged(anybody) == [(False, "not signed")]
    assert judged(anybody, vouched=by_both) == [(True, "lena, mira; no key of ours")]
    assert judged(anybody, vouched=by_both[2:]) == [(False, "not signed; no key of ours")]
    release = EntryConditions(bundle_signed=True, bundle_by=("group:release", "sven"))
    assert judged(release, vouched=by_both) == [
        (True, "mira; lena's signature is not asked for; no key of ours")
    ]
    assert judged(release, vouched=by_both[1:2]) == [
        (False, "not signed; lena's signature is not asked for")
    ]
    evidence = Evidence(promotion="l:P3", digest=DIGEST, environment="prod", now=NOW)
    conditions = [each.condition for each in judge(release, evidence, PEOPLE)]
    assert conditions == ["bundle signed by group:release or sven"]
    assert [each.condition for each in judge(anybody, evidence, PEOPLE)] == ["bundle signed"]


def test_passages_and_rest() -> None:
    """From when it came."""
    conditions = EntryConditions(passed_in=("test",), rested=24 * 3600.0)
    there = Passed(since="2026-11-27T10:00:00+00:00", by="P2")
    assert judged(conditions, passed={"test": there}) == [
        (True, "P2, since 2026-11-27 10:00 UTC"),
        (False, "there since 2026-11-27 10:00 UTC; 18h to go"),
    ]
    long_ago = Passed(since="2026-11-26T15:59:00+00:00", by="P2")
    assert all(is_met for is_met, _ in judged(conditions, passed={"test": long_ago}))
    assert judged(conditions, passed={"test": Passed()}) == [
        (False, "not yet"),
        (False, "not there yet"),
    ]
    unasked = Passed(problem="test cannot be reached.")
    assert {evidence for _, evidence in judged(conditions, passed={"test": unasked})} == {
        "test cannot be reached."
    }


def test_warnings_hours_measures_runs_and_answers() -> None:
    """Each with what it was judged by."""
    conditions = EntryConditions(
        no_warnings=True,
        closed=("fri 15:00 - mon 07:00",),
        timezone="Europe/Dublin",
        measures=("notebook:f rmse <= 110% of live in test",),
        ran=("pipeline:nightly in test",),
        ask=("./ask.sh",),
    )
    warning = rules.GOES_BACK.finding("goes back", severity=Severity.WARNING)
    wrong = judged(conditions, findings=[warning])
    assert [is_met for is_met, _ in wrong] == [False] * 5
    assert wrong[1][1] == "it is Fri 16:00 Europe/Dublin: closed, fri 15:00 - mon 07:00"
    right = judged(
        replace(conditions, closed=("mon 08:00 - mon 09:00",)),
        measured={
            ("notebook:f", "rmse", "test"): Number(value=4.4, run="R7"),
            ("notebook:f", "rmse", "prod"): Number(value=4.0, run="R2"),
        },
        ran={("pipeline:nightly", "test"): "R8"},
        answers={"./ask.sh": Answer(code=0, text="fine by me")},
    )
    assert [is_met for is_met, _ in right] == [True] * 5
    assert right[2][1] == "4.4 in R7; live 4 in R2"
    assert right[4][1] == "fine by me"


WARNING = rules.GOES_BACK.finding("goes back", severity=Severity.WARNING)
BELOW_LIVE = "notebook:f rmse <= 110% of live in test"
MEASURED = {("notebook:f", "rmse", "test"): Number(value=4.5, run="R7")}
LIVE = {("notebook:f", "rmse", "prod"): Number(value=4.0, run="R2")}
AUTHOR = ", not by an author of the changes"


@pytest.mark.parametrize(
    ("conditions", "known", "condition", "is_met", "evidence"),
    [
        (
            {"approvals": 1},
            {"approvals": [checked(verdict=Verdict.REJECTED), checked("Ole")], "authors": ("ann",)},
            f"1 approval{AUTHOR}",
            True,
            "Ole (as git says)",
        ),
        ({"approvals": 1}, {}, f"1 approval{AUTHOR}", False, "none yet; 1 missing"),
        (
            {"approvals": 3},
            {"approvals": [checked(), checked("Ole"), checked("Ann", problem="it is torn")]},
            f"3 approvals{AUTHOR}",
            False,
            "mira (as git says), Ole (as git says); 1 missing; Ann's does not count: it is torn",
        ),
        (
            {"passed_in": ("test",)},
            {"passed": {"test": Passed(since="2026-11-27T10:00:00", by="P2")}},
            "passed in test",
            True,
            "P2, since 2026-11-27 10:00 UTC",
        ),
        *(
            (
                {"rested": 7200.0},
                {"passed": {"test": Passed(since=since, by="P2")}},
                "rested 2h in test",
                is_met,
                evidence,
            )
            for since, is_met, evidence in (
                ("2026-11-27T14:00:00+00:00", True, "there since 2026-11-27 14:00 UTC"),
                ("2026-11-27T16:00:00+02:00", True, "there since 2026-11-27 16:00 UTC"),
                ("2026-11-27T14:00:00", True, "there since 2026-11-27 14:00 UTC"),
                ("2026-11-27T15:00:00", False, "there since 2026-11-27 15:00 UTC; 1h to go"),
                ("", False, "not there yet"),
            )
        ),
        ({"no_warnings": True}, {}, "no warnings", True, "none"),
        *(
            (
                {"no_warnings": True},
                {"findings": findings},
                "no warnings",
                False,
                f"promotion/goes-back: goes back{more}",
            )
            for findings, more in (([WARNING], ""), ([WARNING] * 3, " and 2 more"))
        ),
        *(
            (
                {"closed": ("22:00 - 06:00", hours), "timezone": "Europe/Athens"},
                {},
                f"not 22:00 - 06:00, {hours}",
                is_met,
                f"it is Fri 18:00 Europe/Athens{closed}",
            )
            for hours, is_met, closed in (
                ("17:00 - 19:00", False, ": closed, 17:00 - 19:00"),
                ("15:00 - 17:00", True, ""),
            )
        ),
        *(
            ({"measures": (BELOW_LIVE,)}, {"measured": measured}, BELOW_LIVE, is_met, evidence)
            for measured, is_met, evidence in (
                ({}, False, "no run of this bundle has measured it in test"),
                (MEASURED, True, "4.5 in R7; nothing live yet"),
                (MEASURED | LIVE, False, "4.5 in R7; live 4 in R2"),
            )
        ),
        *(
            ({"ran": ("flow:f in test",)}, {"ran": ran}, "flow:f ran in test", is_met, evidence)
            for ran, is_met, evidence in (
                ({}, False, "no run of this bundle has succeeded there"),
                ({("flow:f", "test"): "R8"}, True, "R8 succeeded"),
            )
        ),
        *(
            ({"ask": ("./ask",)}, {"answers": answers}, "./ask", is_met, evidence)
            for answers, is_met, evidence in (
                ({}, False, "it was not asked"),
                ({"./ask": Answer(code=0, text="")}, True, "yes"),
                ({"./ask": Answer(code=3, text="")}, False, "exit code 3"),
                ({"./ask": Answer(code=3, text="not today")}, False, "not today"),
            )
        ),
    ],
)
def test_each_condition_is_judged_and_said(
    conditions: dict[str, Any],
    known: dict[str, Any],
    condition: str,
    is_met: bool,
    evidence: str,
) -> None:
    """What is demanded, whether it is met, and by what."""
    given_ = Evidence(promotion="l:P3", digest=DIGEST, environment="prod", now=NOW, **known)
    (only,) = judge(EntryConditions(**conditions), given_, PEOPLE)
    assert (only.condition, only.is_met, only.evidence) == (condition, is_met, evidence)


# ---- verifications -----------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("expected", "got", "is_met"),
    [
        ("> 0", 1, True),
        ("> 0", 0, False),
        ("10", 10.0, True),
        ("= 9", "10", False),
        ("< 9", "10", False),
        ("< 9", 8, True),
        ("<= 9", 9, True),
        (">= 9", 8.9, False),
        ("!= open", "shut", True),
        ("open", "open", True),
        ("= true", True, True),
        ("= null", None, True),
        ("contains test", "https://test.example", True),
        ("contains test", "https://prod.example", False),
        ("containstest", "containstest", True),
    ],
)
def test_answers_are_compared(expected: str, got: object, is_met: bool) -> None:
    """Numbers as numbers, everything else as text."""
    assert holds(expected, got) is is_met


def test_keys_lead_into_a_body() -> None:
    """Through objects and lists."""
    body = {"checks": [{"state": "open"}], "n": 5}
    assert key_in_body("checks.0.state = open") == ("checks.0.state", "= open")
    assert value_at(body, "checks.0.state") == "open"
    for key in ("checks.1.state", "checks.x", "m", "n.x"):
        with pytest.raises(KeyError):
            value_at(body, key)
    with pytest.raises(ValueError, match="is not a key"):
        key_in_body("open")


@pytest.mark.parametrize(
    ("since", "recorded", "is_met", "said"),
    [
        ("2026-11-30T00:00:00+00:00", "", True, ""),
        ("2026-11-30T00:00:00+00:00", "2026-11-30T00:05:00+00:00", True, ""),
        ("2026-11-30T00:00:00+00:00", "2026-12-01T23:00:00+00:00", False, "the later counts"),
        ("2026-12-01T23:00:00+00:00", "2025-10-27T00:00:00+00:00", False, "the later counts"),
    ],
)
def test_how_long_something_rested_is_what_two_records_agree_on(
    since: str, recorded: str, is_met: bool, said: str
) -> None:
    """The ledger's and the database's; where they differ the later counts, and that is said."""
    evidence = Evidence(
        promotion="p",
        digest=DIGEST,
        environment="prod",
        now=dt.datetime(2026, 12, 2, tzinfo=dt.UTC),
        passed={"test": Passed(since=since, recorded=recorded, by="P1")},
    )
    (rested,) = judge(EntryConditions(rested=24 * 3600.0), evidence, People())
    assert rested.is_met is is_met
    assert ("the database says" in rested.evidence) is bool(said)
    assert said in rested.evidence
