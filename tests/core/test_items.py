"""Items that somebody changed by hand, written back; and statements packed for the ledger."""

from __future__ import annotations

from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from inchworm.core.environments.items import (
    ABSENT,
    Leaf,
    NewValue,
    changed_leaves,
    leaf_at,
    turned_back,
    with_leaf,
)
from inchworm.core.parameters.values import Type, Value
from inchworm.core.promotion.statements import Statements

DOCUMENTS = st.recursive(
    st.none() | st.booleans() | st.integers() | st.text(max_size=3),
    lambda inner: (
        st.lists(inner, max_size=3) | st.dictionaries(st.text(max_size=2), inner, max_size=3)
    ),
    max_leaves=8,
)


def text(plain: str, type_: Type = Type.TEXT) -> Value:
    return Value(type=type_, plain=plain)


def test_leaves_that_differ() -> None:
    was = {"a": {"b": 1, "c": [1, 2]}, "gone": 1, "same": [1], "longer": [1]}
    now = {"a": {"b": 2, "c": [1, 3]}, "same": [1], "longer": [1, 2], "new": None}
    found = {leaf.dotted: (leaf.was, leaf.now) for leaf in changed_leaves(was, now)}
    assert found == {
        "a.b": (1, 2),
        "a.c.1": (2, 3),
        "gone": (1, ABSENT),
        "longer": ([1], [1, 2]),
        "new": (ABSENT, None),
    }
    assert list(changed_leaves(1, 2)) == [Leaf(path=(), was=1, now=2)]


@given(DOCUMENTS, DOCUMENTS)
def test_with_its_changed_leaves_a_document_is_the_other(was: Any, now: Any) -> None:
    for leaf in changed_leaves(was, now):
        assert leaf_at(was, leaf.path) == leaf.was or leaf.was is ABSENT
        if leaf.was is not ABSENT and leaf.now is not ABSENT:
            was = with_leaf(was, leaf.path, leaf.now)
    assert all(ABSENT in (leaf.was, leaf.now) for leaf in changed_leaves(was, now))


def test_what_is_at_a_path() -> None:
    document = {"a": [{"b": 1}]}
    assert leaf_at(document, ("a", 0, "b")) == 1
    assert leaf_at(document, ()) == document
    for path in (("a", 1), ("x",), ("a", 0, "b", "c")):
        assert leaf_at(document, path) is ABSENT
    assert with_leaf(document, ("a", 0, "b"), 2) == {"a": [{"b": 2}]}
    assert document == {"a": [{"b": 1}]}


VALUES = {
    "host": text("gauges.example"),
    "base": text("https://gauges.example/api"),
    "short": text("abc"),
    "pw": text("env:PW", Type.SECRET),
}


@pytest.mark.parametrize(
    ("source", "now", "written"),
    [
        ("${host}", "other.example", NewValue(parameter="host", value="other.example")),
        ("${host}", "gauges.example", "${host}"),
        ("at ${host}", "on gauges.example", "on ${host}"),
        ("x", "https://gauges.example/api/v2", "${base}/v2"),
        ("x", "abc", "${short}"),
        ("x", "abcd", "abcd"),
        ("x", "env:PW", "env:PW"),
        (ABSENT, {"a": ["gauges.example", 5]}, {"a": ["${host}", 5]}),
    ],
)
def test_values_turn_back_into_references(source: Any, now: Any, written: Any) -> None:
    assert turned_back(source, now, VALUES) == written


@given(st.dictionaries(st.integers(0, 999), st.lists(st.text(), max_size=3)))
def test_statements_come_back(statements: dict[int, list[str]]) -> None:
    """Those of steps without any are left out."""
    packed = Statements.of(statements)
    assert packed == Statements.of(statements)
    kept = {number: tuple(sql) for number, sql in statements.items() if sql}
    assert packed.by_step() == kept
