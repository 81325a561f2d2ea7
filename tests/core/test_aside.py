"""Names of relations that stand beside the live ones."""

from __future__ import annotations

import hashlib

import pytest
from hypothesis import given
from hypothesis import strategies as st

from inchworm.core.identifiers import RelationName, relation
from inchworm.core.promotion.aside import REPLACED, STAGING, aside

LONG = "x" * 57
MARK = hashlib.sha256(f"{LONG}x".encode()).hexdigest()[:8]


@pytest.mark.parametrize(
    ("table", "suffix", "taken", "name"),
    [
        ("gauge", STAGING, (), "gauge__beside"),
        ("gauge", REPLACED, ("hydro.other", "ops.gauge__kept2"), "gauge__kept"),
        ("gauge", REPLACED, ("ops.gauge__kept",), "gauge__kept2"),
        ("gauge", REPLACED, ("ops.gauge__kept", "ops.gauge__kept2"), "gauge__kept3"),
        (LONG, REPLACED, (), f"{LONG}__kept"),
        (f"{LONG}x", REPLACED, (), f"{'x' * 48}_{MARK}__kept"),
    ],
)
def test_a_name_ends_with_its_purpose(
    table: str, suffix: str, taken: tuple[str, ...], name: str
) -> None:
    """Unless something else has that name, or it would be too long for a database."""
    assert aside(relation("ops", table), suffix, taken) == f"ops.{name}"


@given(st.text(min_size=1, max_size=80), st.sampled_from([STAGING, REPLACED]), st.integers(0, 12))
def test_a_name_is_short_enough_and_nobody_elses(table: str, suffix: str, others: int) -> None:
    """In bytes, whatever the alphabet; it stays in its schema."""
    taken: list[RelationName] = []
    for _ in range(others + 1):
        taken.append(aside(relation("ops", table), suffix, taken))
    assert len(set(taken)) == others + 1
    assert {name.schema for name in taken} == {"ops"}
    assert max(len(name.table.encode()) for name in taken) <= 63


def test_long_names_that_begin_alike_stay_apart() -> None:
    """Each has a mark of its whole name."""
    assert aside(relation("ops", f"{LONG}ab"), REPLACED) != aside(
        relation("ops", f"{LONG}ac"), REPLACED
    )
