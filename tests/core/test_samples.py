"""The first rows of a query, in a record and before people."""

from __future__ import annotations

import datetime as dt
from decimal import Decimal

import pytest

from inchworm.core.sample import Cell, Sample, plain


@pytest.mark.parametrize(
    ("value", "cell"),
    [
        (None, None),
        (True, True),
        (7, 7),
        ("ä", "ä"),
        (1.5, 1.5),
        (float("inf"), "inf"),
        (float("nan"), "nan"),
        (Decimal("NaN"), "NaN"),
        (Decimal("12"), 12),
        (Decimal("12.00"), 12),
        (Decimal("0.5"), 0.5),
        (Decimal("0.1234567890123456789"), "0.1234567890123456789"),
        (dt.datetime(2026, 11, 27, 9, 30), "2026-11-27 09:30:00"),
        (dt.date(2026, 11, 27), "2026-11-27"),
        (b"\x00\xff", "0x00ff"),
        (bytearray(b"\x01"), "0x01"),
        (memoryview(b"\x02"), "0x02"),
        ({"a": dt.date(2026, 11, 27)}, '{"a": "2026-11-27"}'),
        (["ä", 1], '["ä", 1]'),
        ((1, 2), "[1, 2]"),
    ],
)
def test_a_value_as_json_can_say_it(value: object, cell: Cell) -> None:
    said = plain(value)
    assert said == cell
    assert type(said) is type(cell)


def test_a_sample_has_the_first_rows_and_says_whether_there_are_more() -> None:
    rows = [(1, "a"), (2, "b"), (3, "c")]
    sample = Sample.of(["id", "text"], rows, 2)
    assert (sample.columns, sample.rows, sample.more) == (
        ("id", "text"),
        ((1, "a"), (2, "b")),
        True,
    )
    assert not Sample.of(["id", "text"], rows, 3).more
    assert Sample.of(["id"], [], 3) == Sample(columns=("id",), rows=())


def test_a_sample_comes_back_from_the_record() -> None:
    sample = Sample(columns=("id", "text"), rows=((1, None), (2, "b")), more=True)
    said = sample.to_json()
    assert said == {"columns": ["id", "text"], "rows": [[1, None], [2, "b"]], "more": True}
    assert Sample.from_json(said) == sample


def test_classed_values_are_hidden_but_not_that_there_is_none() -> None:
    sample = Sample(columns=("Id", "Phone"), rows=((1, "555"), (2, None)), more=True)
    hidden = sample.hiding({"phone": "personal"})
    assert hidden.rows == ((1, "(personal)"), (2, None))
    assert (hidden.columns, hidden.more) == (sample.columns, True)
