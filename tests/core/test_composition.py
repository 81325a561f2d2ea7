"""What a composition says of parts and schedules that somebody changed by hand."""

from __future__ import annotations

import pytest
from msgspec.structs import replace

from inchworm.core.environments.environment import DatabaseAddress
from inchworm.core.identifiers import Kind, PartId
from inchworm.core.parts import Digest
from inchworm.core.promotion.composition import (
    WHOLE,
    CompletedPromotion,
    Composition,
    LiveItem,
    LivePart,
    Mixture,
    SetSchedule,
)

ADDRESS = DatabaseAddress(url="duckdb:///x.duckdb")
ONE = Digest("sha256:a")
EMPTY = Composition(identity="lena at x", read_at="now", tables={})


def live(kind: Kind, name: str) -> LivePart:
    """A part as the bookkeeping has it."""
    return LivePart(
        part=PartId(kind, name),
        project="p",
        bundle="p-1.0.0",
        digest=ONE,
        content=ONE,
        commit=None,
        promotion="l:P1",
        put_at="2026-11-01",
        interface_text="{}",
    )


@pytest.mark.parametrize(
    ("given", "now", "is_overruled"),
    [
        ("on", "on", False),
        ("on", "off", True),
        ("off", "on", True),
        ("on", "paused", False),
        ("paused", "off", True),
        ("on", None, False),
    ],
)
def test_a_schedule_that_is_left_paused_was_not_switched(
    given: str, now: str | None, is_overruled: bool
) -> None:
    """A promotion that broke off left it so."""
    assert SetSchedule(given, "2026-11-01").is_overruled(now) is is_overruled


def test_schedules_are_those_of_their_pipeline() -> None:
    """Whose name may have dots; what else is called so has none."""
    composition = replace(
        EMPTY,
        schedules={"ops.nightly.morning": "off", "ops.nightly.noon": "on", "nightly.morning": "on"},
        set_schedules={
            "ops.nightly.morning": SetSchedule("on", "2026-11-01"),
            "ops.nightly.noon": SetSchedule("on", "2026-11-01"),
            "nightly.morning": SetSchedule("off", "2026-11-01"),
        },
    )

    def switched(kind: Kind, name: str) -> list[tuple[str, str, str, str, str]]:
        differing = composition.differing(live(kind, name), ADDRESS)
        return [(d.key, d.name, d.what, d.was, d.now) for d in differing]

    assert switched(Kind.PIPELINE, "ops.nightly") == [
        ("schedule ops.nightly.morning", "pipeline:ops.nightly", "changed", "on", "off")
    ]
    assert switched(Kind.PIPELINE, "nightly") == [
        ("schedule nightly.morning", "pipeline:nightly", "changed", "off", "on")
    ]
    assert switched(Kind.NOTEBOOK, "ops.nightly") == []


def test_a_flow_that_was_stopped_differs() -> None:
    """One that is active does not."""
    flow = live(Kind.FLOW, "publish")
    item = LiveItem(part=flow.part, digest="sha256:a", state="stopped")
    composition = replace(EMPTY, parts={flow.part: flow}, items={flow.part: item})
    (difference,) = composition.differing(flow, ADDRESS)
    assert (difference.key, difference.what) == ("state of flow:publish", "changed")
    assert (difference.was, difference.now) == ("active", "stopped")
    assert composition.drifted(ADDRESS) == [flow.part]
    running = replace(composition, items={flow.part: replace(item, state="active")})
    assert running.drifted(ADDRESS) == []
    gone = replace(composition, items={})
    assert gone.drifted(ADDRESS) == [flow.part]


def test_what_former_versions_recorded_of_a_promotion() -> None:
    """Neither what it took back, nor which parts were not as in the bundle."""
    former = {
        "promotion": "P1",
        "bundle": "a-1",
        "digest": "sha256:a",
        "commit": None,
        "by": "lena",
        "at": "2026-01-01",
    }
    promotion = CompletedPromotion.from_json(former)
    assert (promotion.undoes, promotion.mixture, promotion.number) == ((), WHOLE, 0)
    mixed = replace(promotion, undoes=("l:P1",), mixture=Mixture(is_choice=True))
    assert CompletedPromotion.from_json(mixed.to_json()) == mixed
