"""``inchworm check`` on projects with something wrong in them."""

from __future__ import annotations

import json
import xml.etree.ElementTree as ET
import zipfile
from collections.abc import Callable
from pathlib import Path

import pytest
from sarif_pydantic import Sarif

from inchworm.core.checks import rules
from inchworm.engine.actions.plan import ACTIONS, SPECIAL
from inchworm.report.rules_page import rules_page
from inchworm.report.states_page import states_page
from tests.driver import Program


def test_words_of_libraries_are_not_for_users(river: Program) -> None:
    """That of a notebook whose cells have no ids came with each check and run."""
    path = river.folder / "notebooks/level_forecast.ipynb"
    document = json.loads(path.read_text())
    cells = [{k: v for k, v in cell.items() if k != "id"} for cell in document["cells"]]
    path.write_text(json.dumps({**document, "nbformat_minor": 5, "cells": cells}))
    assert river.process("check").err == ""


def test_the_example_and_a_new_project_are_clean(river: Program, starter: Program) -> None:
    """Nothing to say about either."""
    assert river.findings(code=0) == []
    assert starter.findings(code=0) == []


Change = Callable[[Program], None]


def edit(path: str, old: str, new: str) -> Change:
    return lambda program: program.edit(path, old, new)


def junk(program: Program) -> None:
    (program.folder / HOURLY).write_bytes(b"\xff\xfe\x00")


def write(path: str, content: str) -> Change:
    return lambda program: program.write(path, content)


HOURLY, NIGHTLY = "models/hydro/hourly_level.sql", "pipelines/nightly.toml"
PUBLISH, MATRIX = "flows/publish_warnings.toml", "parameters.toml"

# what is changed, the rule that must say so, where, and a part of the message or remedy
CASES: dict[str, tuple[Change, str, str, str]] = {
    "SQL that does not parse": (
        edit(HOURLY, "GROUP BY 1, 2", "GROUP BY (1, 2"),
        "sql/unreadable",
        f"{HOURLY}:23",
        "near",
    ),
    "an unknown table": (
        edit(HOURLY, "FROM hydro.reading_clean", "FROM hydro.reading_cleen"),
        "lineage/unknown-table",
        f"{HOURLY}:22",
        "Did you mean hydro.reading_clean?",
    ),
    "an unknown column": (
        edit(HOURLY, "avg(level_cm)", "avg(levl_cm)"),
        "lineage/column-gone",
        f"{HOURLY}:19",
        "hydro.reading_clean.levl_cm",
    ),
    "a cycle": (
        edit("models/hydro/gauge.sql", "FROM raw.gauge", "FROM hydro.season"),
        "lineage/cycle",
        "models/hydro/gauge.sql:12",
        "hydro.gauge -> hydro.season -> hydro.gauge",
    ),
    "two parts that provide one table": (
        write("models/raw/reading.sql", "SELECT 1 AS one"),
        "part/two-with-one-name",
        "models/raw/reading.sql",
        "schema:raw",
    ),
    "two parts whose names differ in case": (
        write("models/hydro/Gauge.sql", "SELECT 1 AS one"),
        "part/two-with-one-name",
        "models/hydro/gauge.sql",
        "models/hydro/Gauge.sql",
    ),
    "a step that names no part": (
        edit(NIGHTLY, '"level_forecast"', '"level_forcast"'),
        "part/unknown",
        f"{NIGHTLY}:14",
        "Did you mean level_forecast?",
    ),
    "steps in the wrong order": (
        edit(NIGHTLY, 'after = ["levels"]\n', ""),
        "pipeline/order",
        f"{NIGHTLY}:12",
        'after = ["levels"]',
    ),
    "a step after no step": (
        edit(NIGHTLY, 'after = ["state"]', 'after = ["stat"]'),
        "pipeline/unknown-step",
        f"{NIGHTLY}:25",
        "Did you mean state?",
    ),
    "a cron expression": (
        edit(NIGHTLY, "15 2 * * *", "15 25 * * *"),
        "pipeline/schedule",
        f"{NIGHTLY}:5",
        "cron",
    ),
    "a schedule that starts twice": (
        edit(NIGHTLY, 'cron = "15 2 * * *"', 'cron = "15 2 * * *"\nafter = "intake"'),
        "part/malformed",
        f"{NIGHTLY}:4",
        "exactly one of cron",
    ),
    "a pipeline that starts itself": (
        edit(NIGHTLY, 'cron = "15 2 * * *"', 'after = "nightly"'),
        "pipeline/circle",
        NIGHTLY,
        "pipeline:nightly -> pipeline:nightly",
    ),
    "a schedule that waits for files of a flow that copies none": (
        edit(NIGHTLY, 'cron = "15 2 * * *"', 'arrives = "publish_warnings"'),
        "flow/other-place",
        f"{NIGHTLY}:5",
        "copies no files",
    ),
    "a time zone": (
        edit(NIGHTLY, "Europe/Dublin", "Europe/Dubln"),
        "pipeline/schedule",
        f"{NIGHTLY}:6",
        "time zone",
    ),
    "a notebook that is not JSON": (
        write("notebooks/other.ipynb", "{\n nope"),
        "part/unreadable",
        "notebooks/other.ipynb:2",
        "JSON",
    ),
    "a notebook that is not one": (
        write("notebooks/other.ipynb", json.dumps({"nbformat": 4, "cells": [{}]})),
        "part/unreadable",
        "notebooks/other.ipynb",
        "nbformat 4",
    ),
    "a notebook that reads an unknown column": (
        edit("notebooks/level_forecast.ipynb", "hour, mean_cm FROM", "hour, meen_cm FROM"),
        "lineage/column-gone",
        "notebooks/level_forecast.ipynb:32",
        "hydro.hourly_level.meen_cm",
    ),
    "an OpenAPI document": (
        edit("apis/notices.yaml", "paths:", "pathes:"),
        "flow/api",
        "apis/notices.yaml",
        "OpenAPI",
    ),
    "an operation that is not in the API": (
        edit(PUBLISH, "postNotice", "postNotices"),
        "flow/api",
        f"{PUBLISH}:11",
        "Did you mean postNotice?",
    ),
    "a required field that is not mapped": (
        edit(PUBLISH, 'gauge = "gauge_name"\n', ""),
        "flow/field",
        f"{PUBLISH}:13",
        "requires the field gauge",
    ),
    "a field that the API does not have": (
        edit(PUBLISH, 'river = "river"', 'rivr = "river"'),
        "flow/field",
        f"{PUBLISH}:15",
        "Did you mean river?",
    ),
    "a missing value": (
        edit(MATRIX, 'prod = "8GB"\n', ""),
        "parameter/missing-value",
        f"{MATRIX}:35",
        "no value for prod",
    ),
    "a mistyped value": (
        edit(MATRIX, "test = 48", 'test = "48"'),
        "parameter/mistyped-value",
        f"{MATRIX}:32",
        "not a whole number",
    ),
    "an undeclared parameter in SQL": (
        edit(HOURLY, "GROUP BY 1, 2", "WHERE level_cm < :limt GROUP BY 1, 2"),
        "parameter/undeclared",
        f"{HOURLY}:23",
        "limt",
    ),
    "an undeclared parameter in TOML": (
        edit("connections/notice_service.toml", "${notice_url}", "${notice_ur}"),
        "parameter/undeclared",
        "connections/notice_service.toml:4",
        "Did you mean notice_url?",
    ),
    "an undeclared parameter in an environment": (
        edit("environments/dev.toml", "river_dev.duckdb", "${db}.duckdb"),
        "parameter/undeclared",
        "environments/dev.toml:5",
        "db",
    ),
    "a parameter that nobody uses": (
        edit("checks/no_gauge_is_silent.sql", ":silent_days", "2"),
        "parameter/unused",
        f"{MATRIX}:47",
        "silent_days",
    ),
    "a parameters file that is not TOML": (
        edit(MATRIX, "[notice_url]", "[notice_url"),
        "part/unreadable",
        f"{MATRIX}:52",
        "TOML",
    ),
    "a setting that does not exist": (
        edit(HOURLY, 'store = "table"', 'stor = "table"'),
        "part/malformed",
        f"{HOURLY}:4",
        "Did you mean store?",
    ),
    "a column setting for a column that is not shown": (
        edit(HOURLY, "[columns.mean_cm]", "[columns.meen_cm]"),
        "model/column-not-shown",
        f"{HOURLY}:6",
        "Did you mean mean_cm?",
    ),
    "two columns of one name": (
        edit(HOURLY, "AS peak_cm", "AS mean_cm"),
        "model/two-columns-with-one-name",
        HOURLY,
        "mean_cm",
    ),
    "a stray file": (
        write("models/hydro/notes.sq", "hello"),
        "part/stray-file",
        "models/hydro/notes.sq",
        "belongs to no part",
    ),
    "two migrations with one number": (
        write("schemas/ops/migrations/0002_other.sql", "SELECT 1"),
        "schema/migration-number",
        "schemas/ops/migrations/0002_subscribers.sql",
        "0002_other.sql",
    ),
    "an address written out": (
        edit("connections/notice_service.toml", "${notice_url}", "http://x.example"),
        "part/malformed",
        "connections/notice_service.toml:4",
        "parameter",
    ),
    "a schedule that no pipeline has": (
        edit("environments/test.toml", "nightly =", "nigthly ="),
        "environment/unknown-schedule",
        "environments/test.toml",
        "Did you mean nightly?",
    ),
    "an environment after one that does not exist": (
        edit("environments/prod.toml", '["test"]', '["tset"]'),
        "part/malformed",
        "environments/prod.toml:2",
        "Did you mean test?",
    ),
    "binary junk": (
        junk,
        "sql/unreadable",
        HOURLY,
        "UTF-8",
    ),
    "a secret in SQL": (
        edit(HOURLY, "GROUP BY 1, 2", "WHERE :notice_token = '' GROUP BY 1, 2"),
        "parameter/secret-in-text",
        f"{HOURLY}:23",
        "notice_token",
    ),
    "a secret in an address": (
        edit("connections/observer_portal.toml", "${portal_url}", "http://x/${notice_token}"),
        "parameter/secret-in-text",
        "connections/observer_portal.toml:4",
        "[credentials]",
    ),
    "a class on a column that does not exist": (
        edit("schemas/ops/schema.toml", "subscriber.phone", "subscriber.fone"),
        "lineage/unknown-column",
        "schemas/ops/schema.toml",
        "Did you mean ops.subscriber.phone?",
    ),
    "a library that is not Python": (
        edit("library/riverlib/error.py", "import math", "import"),
        "part/unreadable",
        "library/riverlib/error.py:3",
        "Python",
    ),
}


@pytest.mark.parametrize(("change", "rule", "place", "says"), CASES.values(), ids=CASES.keys())
def test_each_fault_is_found_where_it_is(
    river: Program, change: Change, rule: str, place: str, says: str
) -> None:
    """With the rule's id, file and line, and what to do."""
    change(river)
    findings = river.findings()
    found = [f for f in findings if f["rule"] == rule]
    places = [f"{f['file']}:{f['line']}" if f["line"] else f["file"] for f in found]
    assert place in places, findings
    assert any(says in f["message"] + f["remedy"] for f in found), found


BOARD = "models/alert/public_board.sql"


def leak(river: Program) -> list[str]:
    """Put telephone numbers on the public board, and see what is said about it."""
    river.edit(BOARD, "FROM alert.current_warning", "FROM alert.subscriber_notice")
    river.edit(BOARD, "SELECT gauge_name, river,", "SELECT upper(phone) AS river, gauge_name,")
    river.edit(BOARD, "round(peak_cm)", "1")
    river.edit(BOARD, "round(highest_cm)", "2")
    return [f["message"] for f in river.findings() if f["rule"] == "lineage/not-cleared"]


def test_personal_data_does_not_reach_the_public_board(river: Program) -> None:
    """The class travels with the value, also through computation; the whole way is shown."""
    (message,) = leak(river)
    assert message.splitlines() == [
        "receives personal data, but is not cleared for it",
        "ops.subscriber.phone -> alert.subscriber_notice.phone -> alert.public_board.river "
        "-> flow:publish_warnings.river",
    ]
    assert river("pack", code=1).out


@pytest.mark.parametrize("how", ["cleared", "declassified"])
def test_a_class_ends_where_somebody_says_so(river: Program, how: str) -> None:
    """A reader is cleared for it, or a model ends it with a reason, which the bundle tells."""
    leak(river)
    if how == "cleared":
        river.edit(PUBLISH, 'direction = "out"', 'direction = "out"\ncleared = ["personal"]')
    else:
        said = '[columns.river]\ndeclassified = "hashed with salt"\n---*/'
        river.edit(BOARD, "---*/", said)
    assert river.findings(code=0) == []
    river.git("tag", "-d", "v1.4.0")
    with zipfile.ZipFile(river.folder / f".inchworm/bundles/{river.pack()}.zip") as bundle:
        parts = json.loads(bundle.read("bundle.json"))["parts"]
    told = {p["id"]: p["declassified"] for p in parts if "declassified" in p}
    expected = {"model:alert.public_board": {"alert.public_board.river": "hashed with salt"}}
    assert told == (expected if how == "declassified" else {})


def test_other_programs_can_read_the_findings(river: Program) -> None:
    """As SARIF and as JUnit XML, with the same findings."""
    CASES["an unknown table"][0](river)
    CASES["a parameter that nobody uses"][0](river)
    log = Sarif.model_validate_json(river("check", "--format", "sarif", code=1).out)
    (run,) = log.runs
    results = {(r.rule_id, r.level.value) for r in run.results or []}
    assert results == {("lineage/unknown-table", "error"), ("parameter/unused", "warning")}
    suites = ET.fromstring(river("check", "--format", "junit", code=1).out)
    assert suites.tag == "testsuites"
    (failure,) = suites.iter("failure")
    assert failure.get("type") == "lineage/unknown-table"
    (suite,) = suites
    assert suite.get("failures") == "1"
    assert suite.get("tests") == str(len(suite.findall("testcase"))) == "24"


def test_a_project_may_ask_for_documentation(starter: Program) -> None:
    """Of the kinds that it names; the finding says what is missing."""
    starter.edit(
        "inchworm.toml",
        'dialect = "duckdb"',
        'dialect = "duckdb"\n[policies]\nabout = ["model"]\nowner = ["model"]\ncolumns = ["model"]',
    )
    starter.write("models/shop/silent.sql", "SELECT 1 AS one, 2 AS two")
    found = {f["rule"]: f for f in starter.findings(code=0) if f["part"] == "model:shop.silent"}
    assert sorted(found) == [
        "documentation/no-about",
        "documentation/no-column-about",
        "documentation/no-owner",
    ]
    assert "one, two" in found["documentation/no-column-about"]["message"]


def test_a_form_that_the_database_of_an_environment_lacks_is_told_with_its_line(
    starter: Program,
) -> None:
    """In models, checks and queries of notebooks; not where every database has it."""
    starter.write("models/shop/top.sql", "SELECT\n  arg_max(1, 2) AS best")
    starter.write("checks/none.sql", "SELECT * EXCLUDE (best)\nFROM shop.top WHERE best < 0")
    cell: dict[str, object] = {
        "cell_type": "code",
        "id": "a",
        "metadata": {},
        "outputs": [],
        "execution_count": None,
    }
    code = 'from inchworm.notebook import env\nenv.query("SELECT dayname(current_date) AS x")'
    document = {"cells": [cell | {"source": code}], "metadata": {}, "nbformat": 4}
    starter.write("notebooks/day.ipynb", json.dumps(document | {"nbformat_minor": 5}))
    assert not [f for f in starter.findings() if f["rule"] == "sql/form-unknown"]
    starter.write(
        "environments/test.toml",
        'after = ["dev"]\n[databases.main]\nurl = "postgresql://river@127.0.0.1/river"\n'
        '[workspace]\nurl = "sim:test"\n[gateway]\nurl = "sim:test"\n',
    )
    found = [f for f in starter.findings(code=1) if f["rule"] == "sql/form-unknown"]
    assert [(f["part"], f["line"], f["message"].split(", which")[0]) for f in found] == [
        ("check:none", 1, "uses * EXCLUDE"),
        ("model:shop.top", 2, "uses arg_max"),
        ("notebook:day", 3, "uses dayname"),
    ]
    assert found[0]["message"].endswith("which postgres, the database of test, lacks")


def test_a_rule_explains_itself(tmp_path: Path) -> None:
    """What, why and remedy, without a project; near misses are offered."""
    program = Program(tmp_path)
    text = program("check", "--explain", "Lineage/Cycle").text
    assert "Parts read each other in a circle." in text
    assert (
        "Did you mean lineage/cycle?" in program("check", "--explain", "lineage/cycl", code=2).err
    )


def test_the_page_about_rules_is_made_from_the_rules() -> None:
    """And every rule is used somewhere."""
    root = Path(__file__).parents[2]
    assert (root / "docs/rules.md").read_text() == rules_page()
    source = "".join(p.read_text() for p in (root / "src").rglob("*.py"))
    constants = {name for name, rule in vars(rules).items() if isinstance(rule, rules.Rule)}
    assert [name for name in constants if f"rules.{name}" not in source] == []
    declared = (root / "src/inchworm/core/checks/rules.py").read_text().count(" = _rule(")
    assert declared == len(constants), "no rule takes the name of another one"


def test_the_page_about_states_is_made_from_the_tables() -> None:
    """And every action says why it can be repeated."""
    root = Path(__file__).parents[2]
    assert (root / "docs/states.md").read_text() == states_page()
    assert all(action.repeatable for action in (*ACTIONS.values(), *SPECIAL.values()))


def test_all_findings_come_at_once(river: Program) -> None:
    """Not the first only; the text names each file and line, and the exit code is 1."""
    for name in ("SQL that does not parse", "a cron expression", "a mistyped value"):
        CASES[name][0](river)
    text = river("check", code=1).out
    for place in (f"{HOURLY}:23", f"{NIGHTLY}:5", f"{MATRIX}:32"):
        assert place in text


@pytest.mark.parametrize("name", ["SQL that does not parse", "a parameters file that is not TOML"])
def test_one_fault_is_one_finding(river: Program, name: str) -> None:
    """What cannot be read is reported once, not again by everything that uses it."""
    CASES[name][0](river)
    assert len(river.findings(code=1)) == 1


def test_a_dropped_column_shows_the_way_to_its_readers(river: Program) -> None:
    """From the column to the flow and to each consumer outside."""
    river.edit(HOURLY, "  max(level_cm) AS peak_cm,\n", "")
    messages = [f["message"] for f in river.findings(code=1) if f["rule"] == "lineage/column-gone"]
    ways = {line for message in messages for line in message.splitlines()[1:]}
    assert ways == {
        "hydro.hourly_level.peak_cm -> hydro.daily_peak.peak_cm -> consumer:county_report",
        "hydro.hourly_level.peak_cm -> alert.flood_state.peak_cm -> consumer:flood_map",
        "hydro.hourly_level.peak_cm -> alert.flood_state.peak_cm -> alert.current_warning.peak_cm"
        " -> alert.public_board.level_cm -> flow:publish_warnings.level_cm",
    }
    assert "nothing was packed" in river("pack", code=1).out


def test_a_project_file_that_is_not_toml(river: Program) -> None:
    """One message with file and line; every command ends the same way."""
    river.edit("inchworm.toml", 'name = "riverwatch"', "name = ")
    for command in ("check", "pack", "status", "history"):
        answer = river(command, code=1)
        assert "inchworm.toml:1" in answer.err


def test_outside_of_a_project(river: Program) -> None:
    """The message says how to start one."""
    answer = Program(river.folder.parent)("check", code=2)
    assert "inchworm new DIR" in answer.err


def test_an_empty_project_says_that_nothing_was_checked(starter: Program) -> None:
    """No green line over nothing."""
    for folder in ("models", "pipelines", "schemas"):
        (starter.folder / folder).rename(starter.folder / f".{folder}")
    assert starter("check").out.splitlines()[-1].startswith("nothing checked")


def test_enormous_and_strange_input(starter: Program) -> None:
    """Generated, nested, wide and foreign: a right answer or one clear finding, never a crash."""
    nested = "SELECT amount FROM ops.measurement"
    for level in range(300):
        nested = f"SELECT amount FROM ({nested}) AS q{level}"
    starter.write("models/big/nested.sql", nested)
    starter.write(
        "models/big/sum.sql", f"SELECT {' + '.join(['amount'] * 5000)} AS x FROM big.nested"
    )
    parentheses = "(" * 1000 + "x" + " + 1)" * 1000
    starter.write("models/big/deep.sql", f"SELECT {parentheses} AS y FROM big.sum")
    unions = " UNION ALL ".join(["SELECT y FROM big.deep"] * 500)
    starter.write("models/big/unions.sql", unions)
    wide = ", ".join(f"y AS c{i}" for i in range(2000))
    starter.write("models/big/wide.sql", f"SELECT {wide} FROM big.unions")
    starter.write("models/big/star.sql", "SELECT * FROM big.wide")
    starter.write("models/greek/στάθμη.sql", 'SELECT c1999 AS "ύψος \'""" FROM big.star')
    for i in range(10):
        starter.write(f"models/ring/m{i}.sql", f"SELECT * FROM ring.m{(i + 1) % 10}")
    (finding,) = starter.findings(code=1)
    assert finding["rule"] == "lineage/cycle"
    assert finding["message"].count("->") == 10
    shown = starter("trace", "ops.measurement.amount", "--down").out
    assert "greek.στάθμη.ύψος" in shown


CONFLICT = "{}\n<<<<<<< HEAD\n{}\n=======\n{}\n>>>>>>> other\n"


def test_a_merge_that_is_not_resolved_is_told_as_one(plain: Program) -> None:
    """In SQL and in settings, at the line where it begins."""
    sql = CONFLICT.format("SELECT day", ", 1 AS a", ", 2 AS a") + "FROM ops.measurement"
    plain.write("models/report/both.sql", sql)
    parameters = CONFLICT.format("[more]", 'every = "1"', 'every = "2"')
    plain.write("parameters/more.toml", parameters)
    found = {(f["file"], f["line"], f["message"]) for f in plain.findings(code=1)}
    message = "has git's conflict markers: a merge is not resolved"
    assert {("models/report/both.sql", 2, message), ("parameters/more.toml", 2, message)} <= found


def test_a_model_that_makes_its_table_itself(plain: Program) -> None:
    """It says what to write in its place."""
    plain.write("models/report/made.sql", "CREATE TABLE report.made AS SELECT 1 AS one")
    (finding,) = [f for f in plain.findings(code=1) if f["severity"] == "error"]
    assert (finding["rule"], finding["message"]) == ("sql/not-a-query", "is CREATE, not a SELECT")
    assert 'store = "table"' in finding["remedy"]
