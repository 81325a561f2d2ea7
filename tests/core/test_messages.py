"""What flows send, take in, copy and mail: one row, one message, one value."""

from __future__ import annotations

import datetime as dt
from decimal import Decimal

import pytest
from hypothesis import given
from hypothesis import strategies as st
from msgspec.structs import replace

from inchworm.core.running.copying import (
    FileFormat,
    ListedFile,
    TakenFile,
    format_of,
    standing,
)
from inchworm.core.running.mailing import filled, mail_of, placeholders
from inchworm.core.running.receiving import path_values, row_of
from inchworm.core.running.sending import (
    Message,
    Operation,
    Verdict,
    json_value,
    message_of,
    verdict,
)
from inchworm.core.running.taking_in import value_for

PUT = Operation(
    method="PUT",
    path="/gauges/{id}/levels",
    places={"id": "path", "unit": "query", "x-run": "header"},
    schema={
        "properties": {"level": {"type": ["number", "null"]}, "note": {"type": "string"}},
        "required": ["day"],
    },
)
ROW = {"gauge": "a/b", "u": "cm", "run": True, "l": Decimal("2.50"), "n": "x", "d": None}
FIELDS = {"id": "GAUGE", "unit": "u", "x-run": "run", "level": "l", "note": "n", "day": "d"}


def test_a_row_becomes_a_request() -> None:
    message = message_of(ROW, FIELDS, PUT)
    assert (message.path, message.query, message.headers) == (
        "/gauges/a%2Fb/levels",
        {"unit": "cm"},
        {"x-run": "true"},
    )
    assert message.body == {"level": 2.5, "note": "x", "day": None}
    assert Message.of_text(message.identity, message.text) == message
    empty = message_of(dict.fromkeys(ROW), FIELDS, PUT)
    assert (empty.path, empty.query, empty.headers) == ("/gauges//levels", {}, {})
    assert empty.body == {"level": None, "day": None}
    assert message_of(ROW, FIELDS, replace(PUT, schema={})).body is None


def test_rows_that_are_the_same_to_the_receiver_have_one_identity() -> None:
    def identity(**changed: object) -> str:
        return message_of(ROW | changed, FIELDS, PUT).identity

    assert identity() == identity(l=2.5) == identity(other=1)
    assert len({identity(), identity(l=3), identity(u="m"), identity(run=False)}) == 4
    once = [message_of(ROW | {"l": n}, FIELDS, PUT, ["GAUGE", "n"]).identity for n in (1, 2)]
    assert once[0] == once[1] != identity()
    assert message_of(ROW | {"gauge": "c"}, FIELDS, PUT, ["gauge"]).identity != once[0]


@pytest.mark.parametrize(
    ("value", "told"),
    [
        (None, None),
        (True, True),
        (Decimal("3.00"), 3),
        (Decimal("3.5"), 3.5),
        (dt.date(2026, 11, 27), "2026-11-27"),
        (dt.datetime(2026, 11, 27, 6, tzinfo=dt.UTC), "2026-11-27T06:00:00+00:00"),
        (dt.time(6, 30), "06:30:00"),
        ({1: Decimal(2)}, {"1": 2}),
        ((1, [dt.date(2026, 1, 2)]), [1, ["2026-01-02"]]),
        (b"x", "b'x'"),
    ],
)
def test_values_in_json(value: object, told: object) -> None:
    assert json_value(value) == told
    assert type(json_value(value)) is type(told)


@pytest.mark.parametrize(
    ("statuses", "meaning"),
    [
        ((200, 201, 299), Verdict.TAKEN),
        ((408, 409, 425, 500, 502, 504), Verdict.AGAIN),
        ((429, 503), Verdict.BUSY),
        ((300, 301, 308, 399, 401, 403, 404, 405, 407), Verdict.STOP),
        ((100, 199, 400, 410, 413, 422, 501), Verdict.REFUSED),
    ],
)
def test_what_a_status_means(statuses: tuple[int, ...], meaning: Verdict) -> None:
    assert {verdict(status) for status in statuses} == {meaning}


# ---- what is taken in ----------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("path", "values"),
    [
        ("/gauges/a%2Fb/levels", {"id": "a/b"}),
        ("gauges/7/levels/", {"id": "7"}),
        ("/g%61uges/7/levels", {"id": "7"}),
        ("/gauges/7", None),
        ("/gauges/7/levels/8", None),
        ("/stations/7/levels", None),
        ("/gauges/7/other", None),
    ],
)
def test_parameters_in_a_path(path: str, values: dict[str, str] | None) -> None:
    assert path_values(path, PUT) == values


def test_a_request_becomes_a_row() -> None:
    fields = {"gauge_id": "id", "level_cm": "level", "day": "day", "unit": "unit"}
    body = {"level": 2, "id": "of the body", "more": 1}
    assert row_of(body, {"id": "7"}, fields, PUT) == {
        "gauge_id": "7",
        "level_cm": 2,
        "day": None,
        "unit": None,
    }


@given(st.dictionaries(st.sampled_from(["id"]), st.text(min_size=1), min_size=1))
def test_what_goes_into_a_path_comes_out_of_it(values: dict[str, str]) -> None:
    sent = message_of({"c": values["id"]}, {"id": "c"}, PUT)
    assert path_values(sent.path, PUT) == values


# ---- files and mails -----------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("text", "type_", "value"),
    [
        ("7", "BIGINT", 7),
        (" 7 ", "int", 7),
        ("2.5", "DECIMAL(10, 2)", Decimal("2.5")),
        ("2.5", "DOUBLE", 2.5),
        ("", "INTEGER", None),
        ("", "VARCHAR", ""),
        (" x ", "VARCHAR(3)", " x "),
        (7, "VARCHAR", 7),
        ("T", "BOOLEAN", True),
        ("false", "BOOLEAN", False),
        ("0", "BOOLEAN", False),
        ("1", "BOOLEAN", True),
        ("2026-11-27", "DATE", dt.date(2026, 11, 27)),
        ("2026-11-27T06:00", "TIMESTAMP", dt.datetime(2026, 11, 27, 6)),
        ("2026-11-27T06:00Z", "TIMESTAMPTZ", dt.datetime(2026, 11, 27, 6, tzinfo=dt.UTC)),
    ],
)
def test_a_value_of_a_file_as_a_column_takes_it(text: object, type_: str, value: object) -> None:
    assert value_for(text, type_) == value
    assert type(value_for(text, type_)) is type(value)


@pytest.mark.parametrize(
    ("text", "type_"),
    [
        ("x", "INTEGER"),
        ("2.5", "BIGINT"),
        ("x", "DECIMAL(4, 1)"),
        ("yes", "BOOLEAN"),
        ("x", "DATE"),
    ],
)
def test_a_text_that_is_no_value_of_a_column(text: str, type_: str) -> None:
    with pytest.raises(ValueError, match="is no") as refused:
        value_for(text, type_)
    assert str(refused.value) == f"{text!r} is no {type_}"


def test_formats_by_the_end_of_a_name() -> None:
    assert format_of("a/b.CSV") is FileFormat.CSV
    assert format_of("a.csv/b.ndjson") is format_of("b.jsonl") is FileFormat.JSON_LINES
    assert format_of("b.parquet") is FileFormat.PARQUET
    assert format_of("csv") is format_of("a.csv.gz") is None


def test_where_a_file_stands() -> None:
    at = dt.datetime(2026, 11, 27, 6, tzinfo=dt.UTC)
    listed = ListedFile(path="a.csv", size=1, changed_at=at.isoformat(), stamp="s")
    taken = TakenFile(path="a.csv", digest="d", stamp="s", at="t", run="R1")

    def stands(
        seconds: int, known: TakenFile | None = None, file: ListedFile = listed, rests: int = 60
    ) -> str:
        """Where it stands so many seconds after it was written."""
        now = at + dt.timedelta(seconds=seconds)
        marks = {"a.csv": known} if known else {}
        return standing(file, marks, now, dt.timedelta(seconds=rests)).value

    assert stands(59) == "unsettled"
    assert stands(59, taken) == "unsettled"
    assert stands(60) == "new"
    assert stands(60, taken) == "taken"
    assert stands(60, replace(taken, stamp="other")) == "touched"
    assert stands(-300) == "unsettled"
    assert stands(-301) == stands(-301, rests=0) == "ahead"
    assert stands(-9_999, file=replace(listed, changed_at="")) == "new"


def test_one_mail_for_a_row() -> None:
    texts = {
        "address": "{who}@x.example",
        "subject": "{gauge} at {level} ${parameter}",
        "text": "{unknown}{note}",
    }
    fields = {"who": "W", "gauge": "g", "level": "l", "note": "n"}
    row = {"w": "lena", "g": "a", "l": Decimal("2.0"), "n": None}
    mail = mail_of(row, fields, texts)
    assert mail.body == {
        "address": "lena@x.example",
        "subject": "a at 2 ${parameter}",
        "text": "{unknown}",
    }
    assert mail_of(row | {"l": 3}, fields, texts).identity != mail.identity
    assert mail_of(row | {"more": 3}, fields, texts).identity == mail.identity
    once = [mail_of(row | {"l": n}, fields, texts, ["G"]).identity for n in (1, 2)]
    assert once[0] == once[1]
    assert placeholders("{a} ${b} {c_1}{1} {}") == {"a", "c_1"}
    assert filled("{a} {a}", {"a": dt.date(2026, 1, 2)}) == "2026-01-02 2026-01-02"
