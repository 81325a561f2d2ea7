"""How findings are told: one cause, one finding; our words; advice that can be followed."""

from __future__ import annotations

import pytest

from tests.driver import Program


def models(program: Program, count: int, sql: str) -> None:
    """Write models that are alike."""
    for number in range(count):
        program.write(f"models/m/a{number:03}.sql", sql.format(number))


def test_one_cause_is_one_finding(plain: Program) -> None:
    """A column that many miss, with those that follow from it; in JSON each is told."""
    models(plain, 15, "SELECT amout AS x{} FROM ops.measurement")
    answer = plain("check", code=1)
    assert answer.out.count("lineage/unknown-column") == 1
    assert (
        "and 14 findings that follow from this: model:m.a001, model:m.a002, model:m.a003, "
        "model:m.a004, model:m.a005 and 9 more"
    ) in answer.text
    assert "15 errors" in answer.text
    found = plain.findings()
    assert len(found) == 15
    assert {f["cause"] for f in found} == {"ops.measurement.amout"}
    assert plain("check", "--all", code=1).out.count("lineage/unknown-column") == 15


def test_a_misspelling_is_not_spread(plain: Program) -> None:
    """Where several parts agree on a name, the one that differs from them may be the wrong one."""
    plain.edit("schemas/ops/migrations/0001_baseline.sql", "amount INTEGER", "amout INTEGER")
    models(plain, 3, "SELECT amount AS x{} FROM ops.measurement")
    (cause,) = {f["remedy"] for f in plain.findings() if f["rule"] == "lineage/unknown-column"}
    assert cause.startswith("If amout in ops.measurement is meant to be amount, correct it there.")


def test_a_schema_that_cannot_be_read_is_the_cause(plain: Program) -> None:
    """Of all that reads its tables; it is told first."""
    plain.edit("schemas/ops/migrations/0001_baseline.sql", "CREATE TABLE", "CREATE TABEL")
    plain.write("schemas/ops/schema.toml", 'managed = "migrationz"')
    models(plain, 4, "SELECT amount AS x{} FROM ops.measurement")
    text = plain("check", code=1).out
    assert text.index("schema.toml") < text.index("findings that follow from this")
    assert text.count("lineage/unknown-table") == 0
    assert "and 5 findings that follow from this" in text


def test_many_findings_are_counted(plain: Program) -> None:
    """The text stops at fifty causes."""
    models(plain, 70, "SELECT x{0} FROM ops.measurement WHERE x{0} = 1")
    answer = plain("check", code=1)
    assert answer.out.count("lineage/unknown-column") == 51
    assert "... and 20 findings more: 20 lineage/unknown-column. All of them: inchworm check" in (
        answer.text
    )
    assert plain("check", "--all", code=1).out.count("lineage/unknown-column") == 70


def test_what_is_built_too_late_is_said_once(plain: Program) -> None:
    """However many models stand between two steps."""
    plain.write("models/m/a.sql", "SELECT amount FROM ops.measurement")
    for one, other in ("ab", "bc", "cd"):
        plain.write(f"models/m/{other}.sql", f"SELECT amount FROM m.{one}")
    plain.write(
        "pipelines/daily.toml",
        '[[steps]]\nname = "late"\nbuild = ["m.d"]\n'
        '[[steps]]\nname = "early"\nbuild = ["m.a", "m.b", "m.c"]\n',
    )
    orders = [f for f in plain.findings() if f["rule"] == "pipeline/order"]
    assert len(orders) == 1


WRONG = {
    "flows/f.toml": ('from = "x"\ndirection = "out"\n', "from must be a table"),
    "models/report/daily_total.sql": (
        "/*---\nkey = 5\n---*/\nSELECT 1 AS x",
        "key must be a list",
    ),
    "models/report/other.sql": (
        "/*---\n[columns.x]\nrequired = 'perhaps'\n---*/\nSELECT 1 AS x",
        "columns.x.required must be true or false",
    ),
    "models/report/third.sql": (
        "/*---\n[columns.x]\nbetween = ['a', 'b']\n---*/\nSELECT 1 AS x",
        "columns.x.between[0] must be a whole number",
    ),
    "models/report/fourth.sql": (
        "/*---\nabout = ['x']\n---*/\nSELECT 1 AS x",
        "about must be a text",
    ),
    "environments/dev.toml": (
        '[databases.main]\nurl = "duckdb:///x"\nthreads = 0\n',
        "databases.main.threads must be at least 1",
    ),
}


@pytest.mark.parametrize(("path", "text", "said"), [(p, *rest) for p, rest in WRONG.items()])
def test_settings_are_refused_in_our_words(plain: Program, path: str, text: str, said: str) -> None:
    """Not in those of the library that reads them."""
    plain.write(path, text)
    found = [f for f in plain.findings() if f["file"] == path]
    assert said in {f["message"] for f in found}, found
    for finding in found:
        for word in ("valid dictionary", "instance of", "Input", "pydantic", "unable to parse"):
            assert word not in finding["message"]


def test_advice_is_never_the_thing_itself(plain: Program) -> None:
    """A name that differs in case alone is offered; the very name is not."""
    plain.write("models/m/a.sql", "SELECT q.amount FROM ops.measurement")
    for finding in plain.findings():
        assert "Did you mean q?" not in finding["remedy"]
