"""OpenAPI documents as people write them: YAML, with the types of JSON."""

from __future__ import annotations

import json

import pytest
from hypothesis import given
from hypothesis import strategies as st

from inchworm.kinds.api_document import api_fault
from inchworm.kinds.api_yaml import ApiUnreadable, read_api_document
from tests.driver import Program

WRITTEN = """
openapi: 3.0.3
info: {title: No, version: 1.4.0, x-since: 2026-11-28, x-on: on, x-octal: 010, x-time: 12:30}
paths:
  /levels:
    get:
      responses:
        200: {description: Done.}
        default: &other {description: Another.}
        404: *other
      x-merged: {<<: *other, null: 1, 1.50: ~, -3: [-3, 1e3, 0x10, .inf, TRUE, Null]}
"""


def test_it_has_the_types_of_json() -> None:
    document = read_api_document(WRITTEN.encode())
    assert api_fault(document) is None
    assert document["info"] == {
        "title": "No",
        "version": "1.4.0",
        "x-since": "2026-11-28",
        "x-on": "on",
        "x-octal": "010",
        "x-time": "12:30",
    }
    described = document["paths"]["/levels"]["get"]
    assert list(described["responses"]) == ["200", "default", "404"]
    assert described["x-merged"] == {
        "description": "Another.",
        "null": 1,
        "1.50": None,
        "-3": [-3, 1000.0, "0x10", ".inf", True, None],
    }


VALUES = st.recursive(
    st.none() | st.booleans() | st.integers() | st.floats(allow_nan=False, allow_infinity=False),
    lambda inner: st.lists(inner, max_size=3) | st.dictionaries(st.text("ab:#-1 "), inner),
)


@given(VALUES)
def test_json_is_read_as_it_is(value: object) -> None:
    assert read_api_document(json.dumps(value).encode()) == value


@pytest.mark.parametrize(
    ("text", "reason", "line"),
    [
        ("a: [1", "expected", None),
        ("a: 1\nb: !!binary aGVsbG8=", "could not determine a constructor for the tag", 2),
        ("a: 1\n? [1, 2]\n: 2", "a key has to be a text", 2),
        ("x: &x\n  y: *x\n", "an alias in it stands for what it is in", None),
        ("[" * 100_000, "nest", None),
        ("a: " + "9" * 5000, "a number in it has too many digits", None),
        ("a: 1e999", "a number in it is too large", None),
        ("a: \udc80", "it is not UTF-8", None),
        (
            "a0: &a0 [1]\n" + "".join(f"a{n}: &a{n} [{f'*a{n - 1},' * 9}]\n" for n in range(1, 20)),
            "with what aliases repeat it has more than 1,000,000 values",
            None,
        ),
    ],
)
def test_what_json_cannot_say_is_refused(text: str, reason: str, line: int | None) -> None:
    with pytest.raises(ApiUnreadable, match=reason) as refused:
        read_api_document(text.encode("utf-8", "surrogateescape"))
    assert line is None or refused.value.line == line


def test_a_status_without_quotes_is_read(river: Program) -> None:
    """Most people write it so; the check ended with a traceback."""
    river.edit("apis/observers.yaml", '"202":', "202:")
    assert river("check").code == 0
