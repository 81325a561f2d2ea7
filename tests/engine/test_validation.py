"""Bodies are held against a schema in the same way wherever the program runs."""

from __future__ import annotations

import pytest

from inchworm.core.running.sending import Operation
from inchworm.engine.running.validation import BodyValidator


def validator(version: str, schema: dict[str, object]) -> BodyValidator:
    operation = Operation(
        method="POST", path="/", places={}, schema={"properties": {"value": schema}}
    )
    return BodyValidator({"openapi": version, "components": {}}, operation)


@pytest.mark.parametrize("version", ["3.0.3", "3.1.0"])
@pytest.mark.parametrize(
    ("format_", "good", "bad"),
    [
        ("date", "2026-11-27", "2026-13-01"),
        ("date-time", "2026-11-27T09:30:00Z", "yesterday"),
        ("uuid", "7f5a0000-0000-5000-8000-000000000000", "7f5a"),
        ("ipv4", "192.0.2.1", "192.0.2.256"),
        ("email", "duty@riverwatch.example", "duty"),
    ],
)
def test_a_value_has_the_format_of_its_field(
    version: str, format_: str, good: str, bad: str
) -> None:
    fault = validator(version, {"type": "string", "format": format_}).fault
    assert fault({"value": good}) == ""
    assert format_ in fault({"value": bad})


@pytest.mark.parametrize("version", ["3.0.3", "3.1.0"])
@pytest.mark.parametrize("format_", ["uri", "iri", "hostname", "color", "duration", "of our own"])
def test_formats_that_only_some_machines_know_are_held_against_nothing(
    version: str, format_: str
) -> None:
    assert validator(version, {"type": "string", "format": format_}).fault({"value": "a b"}) == ""


def test_numbers_are_in_the_range_of_their_format() -> None:
    fault = validator("3.0.3", {"type": "integer", "format": "int32"}).fault
    assert fault({"value": 2**31 - 1}) == ""
    assert "int32" in fault({"value": 2**31})
