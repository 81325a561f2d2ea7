"""Values: how cells become typed, and how they reach documents and SQL."""

from __future__ import annotations

import datetime as dt
from typing import Any

import duckdb
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from sqlglot import exp

from inchworm.core.parameters import evaluate, read_matrix, same_everywhere, substitute
from inchworm.core.sql.parse import parse_query
from inchworm.core.sql.render import literal, to_text, with_values
from inchworm.core.toml import read_toml
from inchworm.core.values import Domain, Type, Value, read_duration, spell_duration

TODAY = dt.date(2026, 11, 23)


@pytest.mark.parametrize(
    ("kind", "cell", "text"),
    [
        (Type.TEXT, "a", "a"),
        (Type.INTEGER, 3, "3"),
        (Type.NUMBER, 2.5, "2.5"),
        (Type.FLAG, True, "true"),
        (Type.DATE, "2026-10-24", "2026-10-24"),
        (Type.DATE, dt.date(2026, 10, 24), "2026-10-24"),
        (Type.DATE, "today - 30d", "2026-10-24"),
        (Type.DATE, "today + 1w", "2026-11-30"),
        (Type.TIMESTAMP, "2026-10-24 06:00:00", "2026-10-24 06:00:00"),
        (Type.DURATION, "90m", "1h30m"),
        (Type.DURATION, "PT10M", "10m"),
        (Type.SECRET, "env:TOKEN", "env:TOKEN"),
    ],
)
def test_a_cell_becomes_a_value(kind: Type, cell: Any, text: str) -> None:
    """Each type has one spelling, however the cell was written."""
    assert Domain(type=kind).convert(cell, TODAY).text == text


@pytest.mark.parametrize(
    ("kind", "cell"),
    [
        (Type.TEXT, 3),
        (Type.INTEGER, True),
        (Type.INTEGER, 2.5),
        (Type.NUMBER, float("nan")),
        (Type.FLAG, "yes"),
        (Type.DATE, "24.10.2026"),
        (Type.DATE, dt.datetime(2026, 1, 1)),
        (Type.DURATION, "soon"),
        (Type.SECRET, "hunter2"),
        (Type.CHOICE, "x"),
    ],
)
def test_a_cell_of_the_wrong_type_is_refused(kind: Type, cell: Any) -> None:
    """The message repeats what was written."""
    with pytest.raises(ValueError, match=r"\w"):
        Domain(type=kind).convert(cell, TODAY)


def matrix(text: str, *environments: str) -> Any:
    return read_matrix({"parameters.toml": read_toml(text)}, environments)


def test_a_matrix_reports_all_its_faults_with_lines() -> None:
    """Unknown types and environments are found together, with the nearest name."""
    _, findings = matrix(
        '[a]\ntype = "txt"\n[b]\ntype = "text"\nevery = "x"\ntset = "y"\n', "dev", "test"
    )
    found = [(f.line, f.message, f.remedy) for f in findings]
    assert found == [
        (2, "a has no type 'txt'", "Did you mean text?"),
        (6, "b.tset is no environment", "Did you mean test?"),
    ]


def test_cells_may_use_each_other_but_not_in_a_circle() -> None:
    """References are followed; a circle is named."""
    rows, _ = matrix(
        '[host]\ntype = "text"\nevery = "db"\n[url]\ntype = "text"\nevery = "x://${host}/"\n'
        '[p]\ntype = "text"\nevery = "${q}"\n[q]\ntype = "text"\nevery = "${p}"\n',
        "dev",
    )
    values = evaluate(rows, "dev", TODAY)
    assert values.values["url"].text == "x://db/"
    assert "p -> q -> p" in values.problems[0].message


def test_a_missing_value_is_an_error_and_never_taken_from_elsewhere() -> None:
    """There is no default environment."""
    rows, _ = matrix('[a]\ntype = "text"\ndev = "x"\n', "dev", "prod")
    values = evaluate(rows, "prod", TODAY)
    assert values.values == {}
    assert [f.rule for f in values.problems] == ["parameter/missing-value"]


def test_must_differ_names_both_environments() -> None:
    """Two environments with one value are reported where the second one stands."""
    rows, _ = matrix(
        '[a]\ntype = "text"\nmust_differ = true\ndev = "x"\ntest = "x"\n', "dev", "test"
    )
    (finding,) = same_everywhere(rows, [evaluate(rows, e, TODAY) for e in ("dev", "test")])
    assert (finding.line, "dev and test share x" in finding.message) == (5, True)


@given(st.timedeltas(min_value=dt.timedelta(0), max_value=dt.timedelta(days=400)))
def test_a_duration_survives_spelling(duration: dt.timedelta) -> None:
    """To whole seconds."""
    whole = dt.timedelta(seconds=int(duration.total_seconds()))
    assert read_duration(spell_duration(whole)) == whole


@given(st.text())
def test_a_value_cannot_change_a_documents_structure(text: str) -> None:
    """Substitution works on the parsed document: only the string changes."""
    document = {"a": ["${p}", {"b": "x${p}y"}], "c": 1}
    found = substitute(document, {"p": Value(type=Type.TEXT, plain=text)})
    assert found == {"a": [text, {"b": f"x{text}y"}], "c": 1}


hostile = st.text() | st.sampled_from(
    ["'", "''; DROP TABLE t; --", "\\'", "/*", "${x}", ":y", "\n"]
)


@settings(deadline=None)
@given(hostile.filter(lambda text: "\x00" not in text))
def test_a_hostile_text_stays_a_value(text: str) -> None:
    """The database gives back exactly what was put in."""
    query = with_values(
        parse_query("SELECT :p AS x", "duckdb"), {"p": Value(type=Type.TEXT, plain=text)}
    )
    assert duckdb.sql(to_text(query, "duckdb")).fetchall() == [(text,)]


@pytest.mark.parametrize(
    "value",
    [
        Value(type=Type.DATE, plain=dt.date(2026, 1, 2)),
        Value(type=Type.TIMESTAMP, plain=dt.datetime(2026, 1, 2, 3, 4)),
        Value(type=Type.INTEGER, plain=-7),
        Value(type=Type.FLAG, plain=False),
        Value(type=Type.DURATION, plain=dt.timedelta(minutes=90)),
    ],
    ids=lambda value: value.type.value,
)
def test_a_literal_keeps_its_type(value: Value) -> None:
    """The database sees the Python value again."""
    sql = exp.select(literal(value)).sql(dialect="duckdb")
    assert duckdb.sql(sql).fetchall() == [(value.plain,)]


def test_a_secret_never_enters_sql() -> None:
    """Not even as its reference."""
    with pytest.raises(ValueError, match="secret"):
        literal(Value(type=Type.SECRET, plain="env:X"))
