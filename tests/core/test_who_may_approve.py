"""Who may approve, held against a plain model; the people, groups and approvals are random."""

from __future__ import annotations

import datetime as dt
from itertools import permutations

from hypothesis import given
from hypothesis import strategies as st

from inchworm.core.entry.approvals import Approval, Identity, Verdict
from inchworm.core.entry.conditions import EntryConditions
from inchworm.core.entry.judging import CheckedApproval, Evidence, assigned, judge
from inchworm.core.entry.people import People, Person, Span
from inchworm.core.parts import Digest

NAMES = ("Ann", "Bea", "Cid", "Dan")
GROUPS = ("data", "release")
NOW = dt.datetime(2026, 12, 1, tzinfo=dt.UTC)
DAYS = (None, NOW.date() - dt.timedelta(days=1), NOW.date(), NOW.date() + dt.timedelta(days=1))

spans = st.builds(Span, first=st.sampled_from(DAYS), last=st.sampled_from(DAYS))


@st.composite
def everybody(draw: st.DrawFn) -> dict[str, Person]:
    """Some people, each with an address, groups and days."""
    return {
        name: Person(
            name=name,
            also=(f"{name.lower()}@x.example",),
            groups=tuple(draw(st.sets(st.sampled_from(GROUPS)))),
            span=draw(spans),
        )
        for name in draw(st.sets(st.sampled_from(NAMES)))
    }


approvals = st.tuples(st.sampled_from(NAMES), st.booleans(), st.sampled_from(("", "its problem")))


@given(
    people=everybody(),
    given_=st.lists(approvals, max_size=6),
    authors=st.sets(st.sampled_from((*NAMES, "ann@x.example", "BEA@X.EXAMPLE"))),
    wanted=st.integers(0, 3),
    by=st.lists(st.sampled_from((*NAMES, "group:data")), max_size=2),
    each_of=st.lists(st.sampled_from(GROUPS), max_size=2, unique=True),
    signed=st.booleans(),
    authors_may=st.booleans(),
)
def test_the_judgement_is_that_of_a_plain_model(
    people: dict[str, Person],
    given_: list[tuple[str, bool, str]],
    authors: set[str],
    wanted: int,
    by: list[str],
    each_of: list[str],
    signed: bool,
    authors_may: bool,
) -> None:
    everyone = People(people)
    conditions = EntryConditions(
        approvals=wanted,
        by=tuple(by),
        each_of=tuple(each_of),
        signed=signed,
        authors_may_approve=authors_may,
    )
    checked = [
        CheckedApproval(
            approval=Approval(
                verdict=Verdict.APPROVED,
                promotion="p",
                digest=Digest("d"),
                by=name,
                identity=Identity.GIT,
                at=NOW.isoformat(),
            ),
            person=everyone.called(name),
            is_signed=is_signed,
            problem=problem,
        )
        for name, is_signed, problem in given_
    ]
    evidence = Evidence(
        promotion="p",
        digest=Digest("d"),
        environment="prod",
        now=NOW,
        approvals=checked,
        authors=authors,
    )
    called = {name.lower(): name for name in NAMES}
    called |= {f"{name.lower()}@x.example": name for name in people}  # known by people.toml alone
    had_a_hand = {called[a.lower()] for a in authors if a.lower() in called}
    counting = {
        name
        for name, is_signed, problem in given_
        if not problem
        and (is_signed or not signed)
        and (name not in people or people[name].span.has(NOW.date()))
        and (authors_may or name not in had_a_hand)
        and (
            not by
            or name in by
            or ("group:data" in by and name in people and "data" in people[name].groups)
        )
    }
    members = {g: {n for n in counting if n in people and g in people[n].groups} for g in each_of}
    is_enough = len(counting) >= wanted
    each_has = not each_of or any(
        all(name in members[group] for name, group in zip(chosen, each_of, strict=True))
        for chosen in permutations(sorted(counting), len(each_of))
    )
    judged = judge(conditions, evidence, everyone)
    assert all(each.is_met for each in judged) is (is_enough and each_has)
    for each in judged:
        for name in counting & {n for n, *_ in given_}:
            assert each.evidence.count(f"{name} (") <= 1, "each person is shown once"


@given(st.dictionaries(st.sampled_from("abcd"), st.sets(st.sampled_from("pqrs")).map(sorted)))
def test_as_many_groups_as_can_be_get_a_person(may: dict[str, list[str]]) -> None:
    """Nobody stands for two groups; held against trying everything."""
    found = assigned(may)
    assert len(set(found.values())) == len(found)
    assert all(person in may[group] for group, person in found.items())
    best = 0
    for order in permutations(sorted({p for each in may.values() for p in each} | set("pqrs"))):
        best = max(best, sum(p in may[g] for g, p in zip(sorted(may), order, strict=False)))
    assert len(found) == best
