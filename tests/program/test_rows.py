"""``inchworm rows``: what a model, a failing check or a live table has, on all databases."""

from __future__ import annotations

import pytest

from inchworm.core.sample import Sample, plain
from tests.driver import Program
from tests.once import Once

MODEL = """/*---
key = ["gauge_id", "hour"]
[columns.peak_cm]
between = [-50, 200]
---*/
SELECT gauge_id, hour, max(level_cm) AS peak_cm FROM mart.reading GROUP BY 1, 2
"""


@pytest.fixture
def made(once: Once, anywhere: tuple[Program, str]) -> tuple[Program, str]:
    """A project with three readings that are live, and a model that is not."""
    once(_make, *anywhere)
    return anywhere


def _make(program: Program, url: str) -> None:
    values = "(1, 7, 80), (1, 8, 230), (2, 7, 310)"
    rows = " UNION ALL ".join(
        f"SELECT {a} AS gauge_id, {b} AS hour, {c} AS level_cm"
        for a, b, c in (each.strip("()").split(", ") for each in values.split("), ("))
    )
    program.write("models/mart/reading.sql", f'/*---\nstore = "table"\n---*/\n{rows}\n')
    program.promote(program.pack(), "dev")
    program.write("models/mart/hourly.sql", MODEL)


def first(program: Program, *arguments: str) -> list[list[object]]:
    rows: list[list[object]] = program("rows", *arguments, "--json").json["selected"][0]["rows"]
    return sorted(rows, key=str)


def test_a_model_of_the_tree_shows_its_rows(made: tuple[Program, str]) -> None:
    program, _ = made
    assert first(program, "mart.hourly") == [[1, 7, 80], [1, 8, 230], [2, 7, 310]]
    assert first(program, "model:mart.hourly", "--where", "peak_cm > 100 AND gauge_id = 1") == [
        [1, 8, 230]
    ]
    shown = program("rows", "MART.hourly", "--first", "2").text
    assert "in dev (not protected) as " in shown
    assert "gauge_id hour peak_cm" in shown
    assert "the first 2 rows of more" in shown


def test_what_differs_upstream_is_computed_and_not_read(made: tuple[Program, str]) -> None:
    program, url = made
    program.edit("models/mart/reading.sql", "310", "999")
    shown = program("rows", "mart.hourly", "--json").json["selected"][0]
    assert shown["computed"] == ["model:mart.reading"]
    assert [2, 7, 999] in shown["rows"]
    assert first(program, "mart.reading", "--live")[-1] == [2, 7, 310], "nothing was changed"
    sql = program("rows", "mart.hourly", "--sql").out
    assert sorted(map(list, program.ask(url, sql.rstrip().rstrip(";")))) == sorted(shown["rows"])


@pytest.mark.parametrize("bound", [200, 2000])
def test_a_failing_check_keeps_its_rows_and_names_the_command_for_all(
    made: tuple[Program, str], bound: int
) -> None:
    program, _ = made
    program.edit("models/mart/hourly.sql", "200", str(bound))
    program.write(
        "checks/no_flood.sql",
        '/*---\nmessage = "floods"\n---*/\n'
        "SELECT gauge_id, peak_cm FROM mart.hourly WHERE peak_cm > 300\n",
    )
    bundle = program.pack()
    failed = program("promote", bundle, "--to", "dev", "--yes", code=1).text
    part, of, row = ("check:no_flood", "", [2, 310])
    if bound == 200:
        part, of, row = ("model:mart.hourly", " --failing", [2, 7, 310])
    command = f"rows {part}{of} --in dev --of {bundle}"
    assert f"see them all: inchworm {command}" in failed
    program.edit("models/mart/reading.sql", "310", "100")  # the bundle counts, not the tree
    selected = program(*command.split(), "--json").json["selected"]
    assert row in next(each["rows"] for each in selected if each["rows"])
    steps = program("history", "P2", "--json").json["steps"]
    kept = {s["part"]: list(s["failing_rows"].values()) for s in steps if s["failing_rows"]}
    assert row in kept[part][0]["rows"]
    assert " ".join(map(str, row)) in program("history", "P2").text


def test_a_value_is_missed_only_by_what_uses_it(plain: Program) -> None:
    """Although something else that is live here uses it."""
    matrix = (plain.folder / "parameters.toml").read_text()
    plain.write("parameters.toml", f'{matrix}\n[least]\ntype = "integer"\nevery = 3\n')
    plain.write("models/mart/high.sql", "SELECT :least AS level\n")
    plain.write("models/mart/low.sql", "SELECT 1 AS level\n")
    plain.promote(plain.pack(), "dev")
    plain.write("parameters.toml", matrix)
    assert first(plain, "mart.low") == [[1]]
    missed = plain("rows", "mart.high", code=1).text
    assert "dev has no value for least, which model:mart.high uses" in missed


def test_failing_rows_of_a_key_are_all_that_share_it(made: tuple[Program, str]) -> None:
    program, _ = made
    program.edit("models/mart/hourly.sql", "max(level_cm)", "level_cm")
    program.edit("models/mart/hourly.sql", " GROUP BY 1, 2", " WHERE hour = 7")
    program.edit("models/mart/hourly.sql", '["gauge_id", "hour"]', '["hour"]')
    assert first(program, "mart.hourly.hour", "--failing") == []
    by_check = {
        each["about"]: sorted(each["rows"])
        for each in program("rows", "mart.hourly", "--failing", "--json").json["selected"]
    }
    assert by_check["hour is unique"] == [[1, 7, 80], [2, 7, 310]]
    assert by_check["peak_cm is between -50 and 200"] == [[2, 7, 310]]


def test_values_of_a_class_are_in_no_record(made: tuple[Program, str]) -> None:
    program, _ = made
    program.write(
        "models/mart/hourly.sql",
        MODEL.replace("[columns.peak", '[columns.gauge_id]\nclass = "personal"\n[columns.peak'),
    )
    program.write("checks/none.sql", "SELECT gauge_id + 40 AS told, peak_cm FROM mart.hourly\n")
    program("promote", program.pack(), "--to", "dev", "--yes", code=1)
    steps = program("history", "P2", "--json").json["steps"]
    kept = {s["part"]: list(s["failing_rows"].values()) for s in steps if s["failing_rows"]}
    assert {tuple(row) for row in kept["model:mart.hourly"][0]["rows"]} == {
        ("(personal)", 8, 230),
        ("(personal)", 7, 310),
    }
    assert {row[0] for row in kept["check:none"][0]["rows"]} == {"(personal)"}


def test_tables_that_only_the_database_knows_can_be_looked_at(made: tuple[Program, str]) -> None:
    program, url = made
    program.ask(url, "CREATE TABLE mart.hers AS SELECT 5 AS n", "SELECT 1")
    assert first(program, "mart.hers") == [[5]]


def test_what_has_no_rows_is_said(made: tuple[Program, str]) -> None:
    program, _ = made
    assert "Did you mean mart.hourly?" in program("rows", "mart.hourli", code=2).text
    assert "is a column" in program("rows", "mart.hourly.hour", code=2).text
    assert "no checks" in program("rows", "mart.reading", "--failing", code=2).text
    wrong = program("rows", "mart.hourly", "--where", "peak_cm >", code=2).text
    assert "--where is no condition" in wrong
    assert "level_cm > 300" in wrong
    assert program("rows", "mart.hourly", "--where", "1 = 1; DROP TABLE mart.reading", code=2)
    program.write("models/mart/broken.sql", "SELEC 1\n")
    assert "inchworm check" in program("rows", "mart.broken", code=1).text


def test_values_are_told_as_json_can_say_them() -> None:
    assert plain(b"\x01\xff") == "0x01ff"
    assert plain(float("nan")) == "nan"
    assert plain([1, "é"]) == '[1, "é"]'
    sample = Sample.of(["a", "B"], [[1, 2], [None, 3], [4, 5]], 2)
    assert sample.more
    assert sample.hiding({"b": "personal"}).rows == ((1, "(personal)"), (None, "(personal)"))
    assert Sample.from_json(sample.to_json()) == sample


def test_a_pipe_gets_every_column_in_one_line_per_row(starter: Program) -> None:
    """However wide: nothing is cut off or folded."""
    columns = ", ".join(f"repeat('w', 40) AS column_{number}" for number in range(12))
    starter.write("models/report/wide.sql", f"SELECT {columns}")
    lines = starter("rows", "report.wide", "--in", "dev").out.splitlines()
    (heading,) = [line for line in lines if line.startswith("column_0")]
    assert heading.split() == [f"column_{number}" for number in range(12)]
    (row,) = [line for line in lines if line.startswith("www")]
    assert row.split() == ["w" * 40] * 12
