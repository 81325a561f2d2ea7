"""Values: how cells become typed, and how they reach documents and SQL."""

from __future__ import annotations

import datetime as dt
from typing import Any

import duckdb
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from sqlglot import exp

from inchworm.core.parameters.matrix import (
    evaluate,
    read_files,
    read_matrix,
    same_everywhere,
    substitute,
)
from inchworm.core.parameters.values import Domain, Type, Value, read_duration, spell_duration
from inchworm.core.sql.parse import parse_query
from inchworm.core.sql.render import literal, parameters_in, to_text, with_values
from inchworm.core.toml import read_toml

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
        (Type.DATE, "today - 9999999999d"),
        (Type.TIMESTAMP, "today + 99999999w"),
        (Type.DURATION, "99999999999w"),
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


@pytest.mark.parametrize(
    ("row", "cell", "outcome"),
    [
        ({"type": Type.INTEGER, "at_least": 1, "at_most": 9}, 9, "9"),
        ({"type": Type.INTEGER, "at_least": 1}, 0, "0 is below 1"),
        ({"type": Type.NUMBER, "at_most": 1.5}, 1.6, "1.6 is above 1.5"),
        ({"type": Type.DURATION, "at_most": "1h"}, "90m", "1h30m is above 1h"),
        ({"type": Type.DURATION}, "P1WT2H", "7d2h"),
        ({"type": Type.DATE, "at_least": "today - 7d"}, "2026-11-01", "is below 2026-11-16"),
        ({"type": Type.TEXT, "matches": "[a-z]+"}, "abc", "abc"),
        ({"type": Type.TEXT, "matches": "[a-z]+"}, "abc1", "does not match"),
        ({"type": Type.TEXT, "longest": 3}, "abcd", "longer than 3"),
        ({"type": Type.TEXT, "shortest": 3}, "ab", "shorter than 3"),
        ({"type": Type.TEXT, "matches": "("}, "ab", "no regular expression"),
        ({"type": Type.FLAG, "at_least": 1}, True, "has no bounds"),
        ({"type": Type.CHOICE, "one_of": ("low", "high")}, "mid", "is none of low, high"),
        (
            {"type": Type.TIMESTAMP, "zone": "Europe/Dublin"},
            "2026-07-01 06:00",
            "2026-07-01 06:00:00+01:00",
        ),
        ({"type": Type.TIMESTAMP}, "2026-07-01T06:00+02:00", "2026-07-01 06:00:00+02:00"),
        ({"type": Type.TIMESTAMP}, "today - 1d", "2026-11-22 00:00:00"),
        (
            {"type": Type.TIMESTAMP, "at_least": "2026-01-01 00:00:00+00:00"},
            "2026-07-01 06:00",
            "+00:00 says a zone and 2026-07-01 06:00:00 says none",
        ),
        (
            {"type": Type.TIMESTAMP, "at_most": "2026-01-01", "zone": "Europe/Dublin"},
            "2026-07-01 06:00",
            "is above 2026-01-01 00:00:00+00:00",
        ),
        ({"type": Type.TIMESTAMP, "zone": "Europe/Nowhere"}, "today", "is not a time zone"),
    ],
)
def test_a_value_stays_in_its_domain(row: dict[str, Any], cell: Any, outcome: str) -> None:
    """Bounds, patterns, lengths, choices and zones; what is wrong is said with both sides."""
    try:
        said = Domain(**row).convert(cell, TODAY).text
    except ValueError as error:
        said = str(error)
    assert outcome in said


def test_rows_may_be_grouped_and_split_over_files() -> None:
    """A name with a dot is a table in a table; a second declaration says where the first is."""
    documents = {
        "parameters.toml": '[limit]\ntype = "integer"\nevery = 1\n[nightly.batch]\n'
        'type = "integer"\nevery = 2\n',
        "parameters/more.toml": '[nightly.pause]\ntype = "duration"\nevery = "5m"\n'
        '[limit]\ntype = "integer"\nevery = 3\n',
    }
    found, findings = read_matrix({f: read_toml(t) for f, t in documents.items()}, ["dev"])
    assert [(row.name, row.group, row.file) for row in found.values()] == [
        ("limit", "", "parameters.toml"),
        ("nightly.batch", "nightly", "parameters.toml"),
        ("nightly.pause", "nightly", "parameters/more.toml"),
    ]
    (twice,) = findings
    assert (twice.file, twice.line) == ("parameters/more.toml", 4)
    assert "first in parameters.toml:1" in twice.message


@pytest.mark.parametrize("dialect", ["duckdb", "postgres", "sqlite", "mysql", "spark"])
def test_a_grouped_parameter_in_sql(dialect: str) -> None:
    """``:nightly.batch`` is one parameter, in every dialect."""
    query = parse_query("SELECT a FROM s.t WHERE a > :nightly.batch AND b.c = :x", dialect)
    assert parameters_in(query) == ["nightly.batch", "x"]
    values = {
        "nightly.batch": Value(type=Type.INTEGER, plain=7),
        "x": Value(type=Type.TEXT, plain=None),
    }
    sql = to_text(with_values(query, values), dialect)
    assert "> 7" in sql
    assert "= NULL" in sql


def test_an_optional_parameter_may_have_no_value() -> None:
    """In a document the setting is then left out; inside a longer text it is missed."""
    found, _ = matrix('[note]\ntype = "text"\noptional = true\nprod = "x"\n', "dev", "prod")
    values = evaluate(found, "dev", TODAY)
    assert values.problems == ()
    assert substitute({"a": "${note}", "b": ["${note}", 1]}, values.values) == {"b": [1]}
    with pytest.raises(KeyError):
        substitute({"a": "see ${note}"}, values.values)


def test_values_for_once_go_before_those_declared() -> None:
    """They are read by the parameter's type; what refers to them follows."""
    text = '[n]\ntype = "integer"\nevery = 1\n[t]\ntype = "text"\nevery = "n is ${n}"\n'
    found, _ = matrix(text, "dev")
    values = evaluate(found, "dev", TODAY, {"n": "5"}).values
    assert (values["n"].plain, values["t"].text) == (5, "n is 5")
    (problem,) = evaluate(found, "dev", TODAY, {"n": "five"}).problems[:1]
    assert "not a whole number" in problem.message


_HOSTILE = st.one_of(
    st.text(max_size=30),
    st.sampled_from(
        [
            "'",
            "''",
            "\\",
            "\\'",
            "';--",
            "'/*",
            "*/",
            "$$",
            "${x}",
            "\x00",
            "\u2028",
            "é😀",
            "%s",
            "?",
        ]
    ),
)


@pytest.mark.parametrize("dialect", ["duckdb", "postgres", "sqlite", "mysql", "spark"])
@given(_HOSTILE)
@settings(deadline=None)
def test_a_hostile_text_stays_one_literal(dialect: str, text: str) -> None:
    """In every dialect the rendered query parses back to the same query with the same text."""
    query = parse_query("SELECT a FROM s.t WHERE a = :x OR b = 1", dialect)
    value = Value(type=Type.TEXT, plain=text)
    rendered = with_values(query, {"x": value}).sql(dialect=dialect)
    again = parse_query(rendered, dialect)
    literals = [node for node in again.find_all(exp.Literal) if node.is_string]
    assert [node.this for node in literals] == [text]
    assert len(list(again.walk())) == len(list(with_values(query, {"x": value}).walk()))


# ---- what is said of a row -----------------------------------------------------------------------

OTHERS = """
[word]
type = "text"
dev = "a"
[pw]
type = "secret"
every = "env:PW"
"""
TYPES = ", ".join(Type)
ROW_FAULTS = {
    "row = 5": ("3", "row is not a table", "Write [row] with a type."),
    '[row]\ntype = "integr"\nevery = 1': (
        "4",
        "row has no type 'integr'",
        "Did you mean integer?",
    ),
    "[row]\nevery = 1": ("3", "row has no type", f"Give it a type: {TYPES}."),
    '[row]\ntype = "integer"\nabout = 5\nevery = 1': (
        "5",
        "row.about is not text",
        "Write text.",
    ),
    '[row]\ntype = "integer"\noptional = "yes"\nevery = 1': (
        "5",
        "row.optional is not true or false",
        "Write true or false.",
    ),
    '[row]\ntype = "integer"\nevery = 1\nprdo = 2': (
        "6",
        "row.prdo is no environment",
        "Did you mean prod?",
    ),
    '[row]\ntype = "choice"\nevery = "x"': (
        "3",
        "row: a choice needs one_of = [...]",
        "Correct the row.",
    ),
    '[row]\ntype = "text"\nat_least = 3\nevery = "x"': (
        "3",
        "row: a text has no bounds",
        "Correct the row.",
    ),
}  # fmt: skip


@pytest.mark.parametrize("text", ROW_FAULTS)
def test_what_is_said_of_a_row(text: str) -> None:
    line, message, remedy = ROW_FAULTS[text]
    _, findings = matrix(f"\n\n{text}\n", "dev", "prod")
    (finding,) = findings
    said = (finding.rule, f"{finding.file}:{finding.line}", finding.message, finding.remedy)
    assert said == ("parameter/malformed", f"parameters.toml:{line}", message, remedy)


def test_a_value_may_be_there_before_its_environment() -> None:
    _, (early,) = matrix('[row]\ntype = "integer"\nevery = 1\nelsewhere_new = 2\n', "dev", "prod")
    assert (early.rule, early.severity, early.line) == ("parameter/early-value", "warning", 4)


VALUE_FAULTS = {
    'every = "${wrod}"': ("row uses wrod, which is not declared", "Did you mean word?"),
    'every = "${pw}"': (
        "row uses the secret pw, which would become readable",
        "Use the secret where it is needed, not in another value.",
    ),
    'every = "${word}"\none_of = ["b", "c"]': (
        "row for dev: 'a' is none of b, c",
        "Write a value of type text.",
    ),
    "prod = 'x'": ("row has no value for dev", "Add dev = ... under [row], or every = ..."),
}


@pytest.mark.parametrize("text", VALUE_FAULTS)
def test_what_is_said_of_a_value(text: str) -> None:
    found, findings = matrix(f'{OTHERS}[row]\ntype = "text"\n{text}\n', "dev", "prod")
    assert findings == []
    (problem,) = evaluate(found, "dev", TODAY).problems
    assert (problem.message, problem.remedy) == VALUE_FAULTS[text]
    assert (problem.file, problem.line is not None) == ("parameters.toml", True)


def test_what_cannot_be_read_is_no_matrix() -> None:
    files = {
        "parameters.toml": b'[a]\ntype = "text"\n\n[b\n',
        "parameters/b.toml": b"",
        "x.toml": b"[",
    }
    found, findings = read_files(files, ["dev"])
    assert found == {}
    (finding,) = findings
    assert (finding.rule, finding.file, finding.line) == ("part/unreadable", "parameters.toml", 4)
    assert finding.message


def test_a_row_knows_its_lines_and_what_it_is_about() -> None:
    text = '[a]\ntype = "date"\nevery = "today"\n[b]\nabout = "c"\ntype = "text"\ndev = "x"\n'
    found, findings = matrix(text, "dev")
    assert findings == []
    assert (found["a"].about, found["b"].about) == ("", "c")
    assert (found["a"].lines["every"], found["b"].lines["dev"]) == (3, 7)
    assert evaluate(found, "dev", TODAY).values["a"].text == TODAY.isoformat()


@pytest.mark.parametrize(
    ("kind", "text", "spelled"),
    [
        (Type.INTEGER, "-12", "-12"),
        (Type.NUMBER, "2.50", "2.50"),
        (Type.FLAG, "true", "true"),
        (Type.FLAG, "false", "false"),
        (Type.DATE, "today - 1d", "2026-11-22"),
        (Type.TEXT, "12", "12"),
    ],
)
def test_text_becomes_a_value_of_its_type(kind: Type, text: str, spelled: str) -> None:
    value = Domain(type=kind).parse(text, TODAY)
    assert (value.type, value.text) == (kind, spelled)


@pytest.mark.parametrize(
    ("kind", "text", "says"),
    [
        (Type.INTEGER, "1.5", "'1.5' is not a whole number"),
        (Type.INTEGER, "1_0", "'1_0' is not a whole number"),
        (Type.NUMBER, "much", "'much' is not a number"),
        (Type.FLAG, "True", "'True' is not true or false"),
    ],
)
def test_text_of_another_type_is_refused(kind: Type, text: str, says: str) -> None:
    with pytest.raises(ValueError, match=says):
        Domain(type=kind).parse(text, TODAY)


def test_values_given_for_once_are_read_as_their_type() -> None:
    text = "\n".join(
        f'[{kind}]\ntype = "{kind}"\noptional = true' for kind in ("integer", "number")
    )
    found, _ = matrix(text, "dev")
    given = evaluate(found, "dev", TODAY, {"integer": "7", "number": "2.50"})
    assert {name: value.text for name, value in given.values.items()} == {
        "integer": "7",
        "number": "2.50",
    }
    wrong = evaluate(found, "dev", TODAY, {"integer": "7.5", "number": "x"})
    assert len(wrong.problems) == 2
    assert all(p.remedy.startswith("Write a value of type ") for p in wrong.problems)
