"""Drafts as the ledger keeps them: everything comes back, and older ones are read."""

from __future__ import annotations

import datetime as dt
import json

from msgspec.structs import fields, replace

from inchworm.core.checks.findings import Finding, Severity
from inchworm.core.entry.rules import Rules
from inchworm.core.identifiers import PartId
from inchworm.core.parts import Digest
from inchworm.core.promotion.composition import CompletedPromotion, Mixture, RanMigration
from inchworm.core.promotion.holds import Hold
from inchworm.core.promotion.promotion import (
    DifferingValue,
    Direction,
    Draft,
    UsedSecret,
    step_of,
)
from inchworm.core.promotion.rollback import Rollback, UndoneMigration
from inchworm.core.promotion.states import Phase
from inchworm.core.structure.changes import Change, Demand, Effect

SCHEMA, MODEL = PartId.parse("schema:ops"), PartId.parse("model:mart.daily")
PLAIN = Draft(
    environment="prod",
    bundle="x-1.0.0",
    bundle_digest=Digest("b"),
    today="2026-11-27",
    environment_state=Digest("e"),
    values_digest=Digest("v"),
    steps=(step_of(Phase.BUILD, MODEL, "add", "new here", "item"),),
)
RAN = CompletedPromotion(
    promotion="a:P1",
    bundle="x-0.9.0",
    digest="d",
    commit=None,
    by="lena",
    at="t",
    number=3,
    undoes=("a:P0",),
    exception="because",
    mixture=Mixture(sources={"model:a.b": ""}, is_choice=True),
)
BEHIND = RanMigration(
    schema="ops", name="1", checksum="c", outcome="ran", promotion="a:P2", ran_at="t", script="s"
)
FULL = replace(
    PLAIN,
    findings=(
        Finding(
            rule="r",
            severity=Severity.WARNING,
            message="m",
            remedy="do",
            part=str(MODEL),
            file="f",
            line=1,
            cause="c",
        ),
    ),
    differing=(DifferingValue(name="n", here="1", there=None, before="2"),),
    values={"n": "1"},
    secrets=(UsedSecret(name="pw", reference="env:PW", version="3"),),
    changes={
        SCHEMA: (
            Change(
                what="drop column",
                name="ops.t.n",
                statements=("ALTER",),
                effect=Effect.LOSES,
                late=True,
                lost=("ops.t.n",),
                demands=(Demand(query="q", message="s", remedy="r"),),
            ),
        )
    },
    overrides={"n": "1"},
    came_from="test",
    left_alone={"unchanged": 4},
    direction=Direction.BACK,
    runs_there=RAN,
    by_hand=("mark",),
    is_tried=True,
    sources={MODEL: "x-0.8.0"},
    is_choice=True,
    holds=(Hold(part=MODEL, because="b", until=dt.date(2026, 12, 1), by="lena", at="t"),),
    corner="lena",
    bundle_seal="sha256:seal",
    bases={MODEL: "c0ffee"},
    is_hold=True,
    rules=Rules(digest="sha256:rules", commit="c0ffee", branch="main", demands={"approvals": 1}),
    rollback=Rollback(to="a:P1", undoes=("a:P2",), because="b", rows_of_then=True, build=True),
    undone={SCHEMA: (UndoneMigration(ran=BEHIND, undo="DROP", file="f", late=True),)},
)


def kept(draft: Draft) -> Draft:
    """The draft after it was in the ledger."""
    return Draft.from_json(json.loads(json.dumps(draft.to_json())))


def test_everything_in_a_draft_comes_back() -> None:
    assert kept(FULL) == FULL
    assert kept(PLAIN) == PLAIN
    assert kept(FULL).digest == FULL.digest != PLAIN.digest


def test_what_is_not_there_is_not_written() -> None:
    """Drafts of former versions had no such keys, and are read all the same."""
    added = {"rollback", "is_tried", "sources", "is_choice", "holds", "corner", "undone"}
    added |= {"bundle_seal", "bases", "is_hold", "rules"}
    assert added & PLAIN.to_json().keys() == set()
    assert added - FULL.to_json().keys() == set()
    assert {f.name for f in fields(Draft)} - PLAIN.to_json().keys() == added


def test_what_is_reviewed_is_what_is_carried_out() -> None:
    """Whatever a yes is given for is in the digest; what only explains it is not."""
    other = [
        replace(FULL, environment="test"),
        replace(FULL, bundle_digest=Digest("x")),
        replace(FULL, values_digest=Digest("x")),
        replace(FULL, environment_state=Digest("x")),
        replace(FULL, steps=()),
        replace(FULL, changes={}),
        replace(FULL, undone={}),
        replace(FULL, sources={}),
        replace(FULL, holds=()),
        replace(FULL, holds=(replace(FULL.holds[0], because="x"),)),
        replace(FULL, bundle_seal="x"),
        replace(FULL, bases={}),
        replace(FULL, is_hold=False),
        replace(FULL, rules=replace(FULL.rules, digest="x")),
    ]
    assert len({draft.digest for draft in (FULL, *other)}) == 1 + len(other)
    same = [replace(FULL, findings=()), replace(FULL, today="x"), replace(FULL, by_hand=())]
    assert {draft.digest for draft in same} == {FULL.digest}
