"""Rules about who reads what, about keys, and about checks and schedules that cannot be right."""

from __future__ import annotations

import datetime as dt

import pytest

from inchworm.core.checks.project_rules import check_assembly
from inchworm.kinds.project_reader import read_project

DAY = dt.date(2026, 2, 1)
SCHEMA = {
    "schemas/raw/schema.toml": 'managed = "outside"\n',
    "schemas/raw/tables.sql": "CREATE TABLE raw.gauge (id INT PRIMARY KEY, name VARCHAR NOT NULL)",
}
CONSUMER = 'owner = "x"\ncontact = "x@y.example"\n[reads]\n"m.a" = ["id"]\n'


def said(files: dict[str, str], *rules: str) -> list[tuple[str, str, str | None]]:
    """Rule, message and file of the findings of some rules."""
    contents = {path: text.encode() for path, text in (SCHEMA | files).items()}
    reading = read_project(name="p", version="1.0.0", dialect="duckdb", files=contents)
    findings = check_assembly(reading.assembly, DAY)
    return [(f.rule, f.message, f.file) for f in findings if f.rule in rules]


def test_a_star_that_goes_out() -> None:
    """To a consumer; a list of columns, or a reader inside, is fine."""
    star = {"models/m/a.sql": "SELECT * FROM raw.gauge"}
    rule = "model/star-goes-out"
    message = "shows all columns that there are, and consumer:c reads it"
    assert said(star | {"consumers/c.toml": CONSUMER}, rule) == [(rule, message, "models/m/a.sql")]
    behind = {"models/l/before.sql": "SELECT id FROM raw.gauge", "consumers/c.toml": CONSUMER}
    assert len(said(star | behind, rule)) == 1, "one without a star comes before it"
    assert said(star | {"models/m/b.sql": "SELECT id FROM m.a"}, rule) == []
    listed = {"models/m/a.sql": "SELECT id, name FROM raw.gauge", "consumers/c.toml": CONSUMER}
    assert said(listed, rule) == []
    union = "SELECT raw.gauge.* FROM raw.gauge UNION ALL SELECT * FROM raw.gauge"
    assert len(said({"models/m/a.sql": union, "consumers/c.toml": CONSUMER}, rule)) == 1


def test_a_model_that_nothing_reads() -> None:
    """Where the project says who reads others; one with an owner has a reader."""
    rule = "model/not-read"
    models = {
        "models/m/a.sql": "SELECT id FROM raw.gauge",
        "models/m/b.sql": "SELECT id FROM raw.gauge",
        "models/m/c.sql": "/*---\nowner = 'x'\n---*/\nSELECT id FROM raw.gauge",
    }
    assert said(models, rule) == []
    found = said(models | {"consumers/c.toml": CONSUMER}, rule)
    assert found == [(rule, "is read by nothing", "models/m/b.sql")]


@pytest.mark.parametrize(("deep", "found"), [(12, 0), (13, 1), (16, 1)])
def test_a_deep_chain_of_views(deep: int, found: int) -> None:
    """It is one finding, at the first view that is too deep; a table ends a chain."""
    rule = "model/deep-views"
    models = {
        f"models/m/v{n}.sql": f"SELECT id FROM {'raw.gauge' if n == 1 else f'm.v{n - 1}'}"
        for n in range(1, deep + 1)
    }
    assert len(said(models, rule)) == found
    middle = {"models/m/v6.sql": "/*---\nstore = 'table'\n---*/\nSELECT id FROM m.v5"}
    assert said(models | middle, rule) == []


KEYS = {
    "none": ("CREATE TABLE ops.t (id INT NOT NULL);", 1),
    "at a column": ("CREATE TABLE ops.t (id INT PRIMARY KEY);", 0),
    "by itself": ("CREATE TABLE ops.t (id INT, n INT, PRIMARY KEY (id, n));", 0),
    "unique and required": ("CREATE TABLE ops.t (id INT NOT NULL UNIQUE);", 0),
    "unique alone": ("CREATE TABLE ops.t (id INT UNIQUE);", 1),
    "added": ("CREATE TABLE ops.t (id INT); ALTER TABLE ops.t ADD PRIMARY KEY (id);", 0),
    "an index": (
        "CREATE TABLE ops.t (id INT NOT NULL); CREATE UNIQUE INDEX i ON ops.t (id);",
        0,
    ),
    "made from a query": ("CREATE TABLE ops.t AS SELECT 1 AS id;", 0),
    "dropped": ("CREATE TABLE ops.t (id INT); DROP TABLE ops.t;", 0),
    "renamed column": (
        "CREATE TABLE ops.t (id INT PRIMARY KEY); ALTER TABLE ops.t RENAME COLUMN id TO key;",
        0,
    ),
}


@pytest.mark.parametrize(("sql", "count"), KEYS.values(), ids=KEYS.keys())
def test_a_table_without_a_key(sql: str, count: int) -> None:
    """In the migration that makes it; what a baseline takes over is as it is."""
    path = "schemas/ops/migrations/0001_a.sql"
    files = {"schemas/ops/schema.toml": 'managed = "migrations"\n', path: sql}
    rule = "schema/no-key"
    assert said(files, rule) == [(rule, "ops.t has no key", path)] * count
    assert said(files | {path: f"/*---\nbaseline = true\n---*/\n{sql}"}, rule) == []


CHECKS = {
    "between = [5, 1]": "x: no value is between 5 and 1",
    "between = [1, 5]": "x: it is of type TEXT, and compared with numbers",
    "matches = '('": "x: '(' is no regular expression: ",
    "one_of = [1, 2]": "x: it is of type TEXT, and compared with the number 1",
    "points_to = 'raw.gauge'": "x: raw.gauge is no column of a table",
    "points_to = 'raw.gage.id'": "x: there is no table raw.gage",
    "points_to = 'raw.gauge.nme'": "x: raw.gauge has no column nme",
    "points_to = 'raw.gauge.name'": "x: raw.gauge.name is not the key of raw.gauge, which is id",
    "points_to = 'raw.gauge.id'": None,
    "matches = '^[A-Z]'": None,
    "one_of = ['a', 'b']": None,
}


@pytest.mark.parametrize(("check", "message"), CHECKS.items())
def test_a_check_that_cannot_hold(check: str, message: str | None) -> None:
    """With its line, and what is wrong."""
    sql = f"/*---\n[columns.x]\n{check}\n---*/\nSELECT name AS x FROM raw.gauge"
    found = said({"models/m/a.sql": sql}, "model/check-cannot-hold")
    assert len(found) == (message is not None)
    assert message is None or found[0][1].startswith(message)


@pytest.mark.parametrize(
    ("cron", "comes"), [("0 5 30 2 *", False), ("0 5 29 2 *", True), ("0 5 31 4,6 *", False)]
)
def test_a_time_that_never_comes(cron: str, comes: bool) -> None:
    """Though each of its fields is possible."""
    text = f'[schedules.s]\ncron = "{cron}"\ntimezone = "UTC"\n'
    text += '[[steps]]\nname = "x"\nbuild = ["m.a"]\n'
    model = {"models/m/a.sql": "SELECT id FROM raw.gauge"}
    found = said(model | {"pipelines/p.toml": text}, "pipeline/never-comes")
    assert [message for _, message, _ in found] == ([] if comes else [f"{cron!r} never comes"])
