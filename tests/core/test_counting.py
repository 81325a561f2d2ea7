"""Numbers in sentences."""

from __future__ import annotations

import pytest

from inchworm.core.counting import counted


@pytest.mark.parametrize(
    ("number", "noun", "words"),
    [
        (0, "row", "0 rows"),
        (1, "row", "1 row"),
        (2, "step", "2 steps"),
        (12_000, "row", "12,000 rows"),
    ],
)
def test_a_noun_with_its_number(number: int, noun: str, words: str) -> None:
    assert counted(number, noun) == words
