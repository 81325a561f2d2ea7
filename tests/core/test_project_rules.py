"""Rules that look across parts: what is said, where, what to do, and what it follows from."""

from __future__ import annotations

import datetime as dt
from collections.abc import Mapping

import pytest

from inchworm.core.checks.findings import Finding, grouped
from inchworm.core.checks.project_rules import check_assembly
from inchworm.core.identifiers import Kind
from inchworm.core.lineage.facts import Policies
from inchworm.kinds.project_reader import read_project

TODAY = dt.date(2026, 11, 27)
ROWS = {"models/m/rows.sql": "SELECT 1 AS height"}
RENAME = "Rename or remove one of the two."
ADD = "Correct the name, or add the column to the table."
MAP = 'contact = "c"\n[reads]\n"m.a" = ["height"]\n'
IF_NOT = "If heigt in m.rows is meant to be height, correct it there. If not: " + ADD


def findings(files: Mapping[str, str], policies: Policies | None = None) -> list[Finding]:
    assembly = read_project(
        name="p",
        version="1.0.0",
        dialect="duckdb",
        files={path: text.encode() for path, text in files.items()},
        environments=("dev", "prod"),
        policies=policies,
    ).assembly
    return check_assembly(assembly, TODAY)


def said(finding: Finding) -> tuple[str, ...]:
    """Rule and part, place, message, remedy and cause."""
    place = f"{finding.file}:{finding.line}" if finding.line else finding.file or ""
    head = f"{finding.severity.value} {finding.rule} {finding.part or '-'}"
    told = (head, place, finding.message, finding.remedy or "", finding.cause)
    return told if finding.cause else told[:-1]


def step(*names: str) -> str:
    """A pipeline of one step."""
    listed = ", ".join(f'"{name}"' for name in names)
    return f'[[steps]]\nname = "a"\nbuild = [{listed}]\n'


DATED = {
    "parameters.toml": '[day]\ntype = "date"\nevery = "today - 1d"\n',
    "models/m/day.sql": "SELECT :day AS day",
    "models/m/shown.sql": "SELECT day FROM m.day",
    "models/m/kept.sql": "/*---\nstore = 'table'\n---*/\nSELECT day FROM m.shown",
}

CASES: dict[str, tuple[dict[str, str], list[tuple[str, ...]]]] = {
    "a view of a day that a pipeline reads": ({**DATED, "pipelines/p.toml": step("m.kept")}, []),
    "a view of a day that nothing renews": (
        DATED,
        [
            (
                "warning model/view-of-a-day model:m.day",
                "models/m/day.sql",
                "uses day, which moves with the day, and no pipeline builds or reads it",
                "Build it, or something that reads it, in a pipeline with a daily schedule; or "
                "write CURRENT_DATE.",
            )
        ],
    ),
    "nothing": ({**ROWS, "models/m/a.sql": "SELECT HEIGHT FROM M.rows"}, []),
    "a part that is not there": (
        {**ROWS, "pipelines/p.toml": step("m.rosw", "M.ROWS")},
        [
            (
                "error part/unknown pipeline:p",
                "pipelines/p.toml:3",
                "names the model m.rosw, which does not exist",
                "Did you mean m.rows?",
            )
        ],
    ),
    "a circle of pipelines": (
        {
            **ROWS,
            "pipelines/a.toml": f'{step("m.rows")}[schedules.x]\nafter = "b"\n',
            "pipelines/b.toml": f'{step("m.rows")}[schedules.x]\nafter = "a"\n',
            "pipelines/c.toml": f'{step("m.rows")}[schedules.x]\nafter = "a"\n',
        },
        [
            (
                "error pipeline/circle pipeline:a",
                "pipelines/a.toml",
                "starts itself: pipeline:a -> pipeline:b -> pipeline:a",
                "Start one of them by the clock.",
            )
        ],
    ),
    "a table that is not there": (
        {**ROWS, "models/m/a.sql": "SELECT 1 AS n\nFROM m.row"},
        [
            (
                "error lineage/unknown-table model:m.a",
                "models/m/a.sql:2",
                "reads m.row, which no part provides",
                "Did you mean m.rows?",
                "table m.row",
            )
        ],
    ),
    "a column that is not there": (
        {**ROWS, "models/m/a.sql": "SELECT heigth FROM m.rows"},
        [
            (
                "error lineage/unknown-column model:m.a",
                "models/m/a.sql:1",
                "reads m.rows.heigth, which model:m.rows does not provide",
                f"Did you mean height? If not: {ADD}",
            )
        ],
    ),
    "two that agree on a column": (
        {
            "models/m/rows.sql": "SELECT 1 AS heigt",
            "models/m/a.sql": "SELECT height FROM m.rows",
            "models/m/b.sql": "SELECT height FROM m.rows",
        },
        [
            (
                f"error lineage/unknown-column model:m.{name}",
                f"models/m/{name}.sql:1",
                "reads m.rows.height, which model:m.rows does not provide",
                IF_NOT,
                "m.rows.height",
            )
            for name in "ab"
        ],
    ),
    "a column that leaves the project": (
        {"models/m/a.sql": "SELECT 1 AS other", "consumers/map.toml": MAP},
        [
            (
                "error lineage/column-gone consumer:map",
                "consumers/map.toml:3",
                "reads m.a.height, which model:m.a does not provide\nm.a.height -> consumer:map",
                "Keep the column until its readers are changed, or change them in the same bundle.",
            )
        ],
    ),
    "a class that nobody cleared": (
        {
            "models/m/b.sql": "/*---\n[columns.who]\nclass = 'personal'\n---*/\nSELECT 'x' AS who",
            "models/m/a.sql": "SELECT who AS height FROM m.b",
            "consumers/map.toml": MAP,
        },
        [
            (
                "error lineage/not-cleared consumer:map",
                "consumers/map.toml",
                "receives personal data, but is not cleared for it\n"
                "m.b.who -> m.a.height -> consumer:map",
                'Leave the column out, end the class in a model with declassified = "reason", or '
                "clear the reader with cleared = [...].",
            )
        ],
    ),
    "two of one name": (
        {"models/m/a.sql": "SELECT 1 AS n", "models/M/A.sql": "SELECT 1 AS n"},
        [
            (
                "error part/two-with-one-name model:m.a",
                "models/m/a.sql",
                "has the same name as models/M/A.sql",
                RENAME,
            )
        ],
    ),
    "a table that two provide": (
        {
            "models/m/a.sql": "SELECT 1 AS n",
            "schemas/m/schema.toml": 'managed = "outside"',
            "schemas/m/tables.sql": "CREATE TABLE m.A (n INTEGER);",
        },
        [
            (
                "error part/two-with-one-name model:m.a",
                "models/m/a.sql",
                "provides m.a, which schema:m provides already",
                RENAME,
            )
        ],
    ),
    "parameters": (
        {
            "models/m/a.sql": "SELECT :dayz AS n, :pw AS p, :base AS b",
            "parameters.toml": '[days]\ntype = "integer"\nevery = 1\n'
            '[pw]\ntype = "secret"\nevery = "env:X"\n'
            '[missing]\ntype = "integer"\ndev = 1\n'
            '[base]\ntype = "text"\ndev = "a ${of_dev}"\nevery = "b ${of_all}"\n'
            '[of_dev]\ntype = "text"\ndev = "x"\nprod = "y"\n'
            '[of_all]\ntype = "text"\ndev = "x"\nprod = "y"\n',
        },
        [
            (
                "error parameter/secret-in-text model:m.a",
                "models/m/a.sql:1",
                "uses the secret pw where it would become text",
                "Use it under [credentials] of a connection, as password or token of an "
                "environment, or with env.value in a notebook.",
            ),
            (
                "error parameter/undeclared model:m.a",
                "models/m/a.sql:1",
                "uses the parameter dayz, which is not declared",
                "Did you mean days?",
            ),
            (
                "error parameter/missing-value -",
                "parameters.toml:7",
                "missing has no value for prod",
                "Add prod = ... under [missing], or every = ...",
            ),
            *(
                (
                    "warning parameter/unused -",
                    f"parameters.toml:{line}",
                    f"{name} is declared, but nothing uses it",
                    "Remove it, or use it.",
                )
                for name, line in (("days", 1), ("missing", 7))
            ),
        ],
    ),
    "another place": (
        {
            **ROWS,
            "parameters.toml": '[url]\ntype = "text"\ndev = "http://a"\nprod = "http://b"\n',
            "connections/c.toml": 'kind = "http"\nurl = "${url}"\n',
            "flows/f.toml": 'direction = "out"\n[from]\ntable = "m.rows"\n[to]\nconnection = "c"\n'
            'address = "{n}"\nsubject = "s"\ntext = "t"\n[fields]\nn = "height"\n',
            "pipelines/p.toml": f'{step("m.rows")}[schedules.x]\narrives = "f"\n',
        },
        [
            (
                "error flow/other-place flow:f",
                "flows/f.toml:5",
                'connection:c is of kind = "http", and has to be "mail"',
                "Name one that leads to such a place, or correct its kind.",
            ),
            (
                "error flow/other-place pipeline:p",
                "pipelines/p.toml:5",
                "flow:f copies no files, so none arrive for it",
                "Name one that leads to such a place, or correct its kind.",
            ),
        ],
    ),
}


@pytest.mark.parametrize("name", CASES)
def test_what_is_said_of_a_project(name: str) -> None:
    files, expected = CASES[name]
    assert list(map(said, findings(files))) == expected


def test_what_policies_ask_for() -> None:
    everything = frozenset({Kind.MODEL})
    policies = Policies(about=everything, owner=everything, columns=everything)
    columns = ", ".join(f"{i} AS c{i}" for i in range(7))
    files = {
        "models/m/a.sql": f"/*---\n[columns.c1]\nabout = 'x'\n---*/\nSELECT {columns}",
        "models/m/b.sql": "/*---\nabout = 'x'\nowner = 'o'\n[columns.n]\nabout = 'x'\n---*/\n"
        "SELECT 1 AS n",
        "checks/few.sql": "SELECT n FROM m.b",
    }
    assert [(f.message, f.file) for f in findings(files, policies)] == [
        ("does not say what it is about", "models/m/a.sql"),
        ("says nothing about c0, c2, c3, c4, c5 and 1 more", "models/m/a.sql"),
        ("has no owner", "models/m/a.sql"),
    ]
    assert findings(files) == []


def test_what_follows_from_one_cause_is_one_group() -> None:
    files, _ = CASES["two that agree on a column"]
    (group,) = grouped(findings(files))
    assert str(group.head.part) == "model:m.a"
    assert [str(f.part) for f in group.following] == ["model:m.b"]
    for path, text in (
        ("schemas/raw/tables.sql", "CREATE TABLE raw.t (a INT; CREATE TABLE raw.u (a INT);"),
        ("schemas/raw/schema.toml", "managed = "),
    ):
        files = {
            "schemas/raw/schema.toml": 'managed = "outside"',
            "models/m/a.sql": "SELECT a FROM raw.t",
            "models/m/b.sql": "SELECT a FROM raw.u",
            "models/m/c.sql": "SELECT a FROM row.u",
        }
        first, other = grouped(findings(files | {path: text}))
        assert (first.head.file, first.head.part) == (path, "schema:raw")
        assert [str(f.part) for f in first.following] == ["model:m.a", "model:m.b"]
        assert (other.head.part, other.following) == ("model:m.c", ())
    files, _ = CASES["parameters"]
    assert [len(g.following) for g in grouped(findings(files))] == [0] * 5
