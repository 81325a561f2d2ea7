"""Values on their way in: cells of files for columns of a type, and pieces of a path."""

from __future__ import annotations

import datetime as dt
import re
from decimal import Decimal

import pytest

from inchworm.core.running.receiving import path_values
from inchworm.core.running.sending import Operation
from inchworm.core.running.taking_in import value_for
from inchworm.core.sql.declared import Declared
from inchworm.core.sql.spelling import spelled


@pytest.mark.parametrize(
    ("text", "type_", "value"),
    [
        ("12", "INTEGER", 12),
        (" 12 ", "bigint", 12),
        ("1.5", "DOUBLE", 1.5),
        ("1.50", "DECIMAL(10, 2)", Decimal("1.50")),
        ("true", "BOOLEAN", True),
        ("T", "BOOLEAN", True),
        ("1", "BOOLEAN", True),
        ("FALSE", "BOOLEAN", False),
        ("f", "BOOLEAN", False),
        ("0", "BOOLEAN", False),
        ("2026-11-27", "DATE", dt.date(2026, 11, 27)),
        ("2026-11-27 09:30:00", "TIMESTAMP", dt.datetime(2026, 11, 27, 9, 30)),
        ("2026-11-27T09:30+01:00", "TIMESTAMP", dt.datetime(2026, 11, 27, 8, 30)),
        ("2026-11-27T09:30-05:30", "datetime", dt.datetime(2026, 11, 27, 15)),
        (dt.datetime(2026, 11, 27, 9, tzinfo=dt.UTC), "TIMESTAMP", dt.datetime(2026, 11, 27, 9)),
        ("2026-11-27T09:30", "TIMESTAMPTZ", dt.datetime(2026, 11, 27, 9, 30, tzinfo=dt.UTC)),
        ("09:30", "TIME", "09:30"),
        ("", "INTEGER", None),
        ("", "VARCHAR", ""),
        (" a ", "VARCHAR(9)", " a "),
        (7, "VARCHAR", 7),
        (None, "INTEGER", None),
    ],
)
def test_a_value_of_a_file_becomes_that_of_its_column(
    text: object, type_: str, value: object
) -> None:
    taken = value_for(text, type_)
    assert taken == value
    assert type(taken) is type(value)


@pytest.mark.parametrize(
    ("text", "type_"),
    [
        ("1.5", "INTEGER"),
        ("x", "DECIMAL(9)"),
        ("yes", "BOOLEAN"),
        ("27.11.2026", "DATE"),
        ("9:30+01:00", "TIME"),
        ("09:30+01:00", "TIME"),
    ],
)
def test_what_is_no_value_of_the_type_is_named(text: str, type_: str) -> None:
    with pytest.raises(ValueError, match=re.escape(f"'{text}' is no {type_}")):
        value_for(text, type_)


@pytest.mark.parametrize(
    ("path", "values"),
    [
        ("/gauges/7/levels", {"gauge": "7"}),
        ("gauges/Upper%20Brack%2F1/levels/", {"gauge": "Upper Brack/1"}),
        ("/gauges/7/level%73", {"gauge": "7"}),
        ("/gauges/7/other", None),
        ("/gauges/7", None),
        ("/gauges/7/levels/8", None),
        ("/", None),
    ],
)
def test_parameters_are_read_from_the_path_of_the_operation(
    path: str, values: dict[str, str] | None
) -> None:
    operation = Operation(method="POST", path="/gauges/{gauge}/levels", places={}, schema={})
    assert path_values(path, operation) == values


@pytest.mark.parametrize(
    ("place", "name"),
    [
        ("landing/a.csv", "landed"),
        ("landing/deep/a.csv", "landed"),
        ("landing/a.json", "rest"),
        ("landing/../other/a.csv", None),
        ("landing\\..\\other.csv", None),
        ("Landing/a.csv", None),
    ],
)
def test_a_place_is_one_of_those_declared_and_none_beside_them(
    place: str, name: str | None
) -> None:
    declared = Declared(reads={"landed": "landing/*.csv", "rest": "landing/*"})
    assert declared.name_of(place) == name


@pytest.mark.parametrize(
    ("name", "text"),
    [
        ("level", "level"),
        ("level_2", "level_2"),
        ("Level", '"Level"'),
        ("two words", '"two words"'),
        ('say "so"', '"say ""so"""'),
        ("select", '"select"'),
        ("höhe", '"höhe"'),
        ("2level", '"2level"'),
    ],
)
def test_a_name_is_quoted_only_where_it_needs_it(name: str, text: str) -> None:
    assert spelled(name) == text
