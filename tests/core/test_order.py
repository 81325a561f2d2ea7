"""The order in which pipelines work."""

from __future__ import annotations

import datetime as dt

import pytest

from inchworm.core.checks.project_rules import check_assembly
from inchworm.kinds.project_reader import read_project

MODELS = {
    "models/m/a.sql": "SELECT 1 AS id",
    "models/m/b.sql": "SELECT id FROM m.a",
    "models/m/c.sql": "SELECT id FROM m.b",
}


def said(pipelines: dict[str, str]) -> list[tuple[str, str]]:
    """What the check says about some pipelines over three models that read each other in turn."""
    files = MODELS | {f"pipelines/{name}.toml": text for name, text in pipelines.items()}
    assembly = read_project(
        name="p",
        version="1.0.0",
        dialect="duckdb",
        files={path: text.encode() for path, text in files.items()},
    ).assembly
    found = check_assembly(assembly, dt.date(2026, 11, 23))
    return [(finding.rule, finding.message) for finding in found]


def step(name: str, *build: str, after: tuple[str, ...] = ()) -> str:
    return f'[[steps]]\nname = "{name}"\nbuild = {list(build)}\nafter = {list(after)}\n'


def at(cron: str, zone: str = "UTC") -> str:
    return f'[schedules.s]\ncron = "{cron}"\ntimezone = "{zone}"\n'


def test_a_step_comes_after_what_it_reads_however_far_up() -> None:
    """Through a model that no step builds."""
    one = step("late", "m.c") + step("early", "m.a")
    ((rule, message),) = said({"p": one})
    assert rule == "pipeline/order"
    assert "step late works on model:m.c, which reads what step early builds" in message
    assert said({"p": step("early", "m.a") + step("late", "m.c", after=("early",))}) == []


def test_where_a_wrong_order_is_and_what_to_do() -> None:
    steps = step("late", "m.c") + step("early", "m.a") + step("more", "m.b", after=("erly",))
    files = MODELS | {"pipelines/p.toml": steps}
    contents = {path: text.encode() for path, text in files.items()}
    assembly = read_project(name="p", version="1.0.0", dialect="duckdb", files=contents).assembly
    found = check_assembly(assembly, dt.date(2026, 11, 23))
    assert [(f.rule, f"{f.part} {f.file}:{f.line}", f.remedy) for f in found] == [
        ("pipeline/order", "pipeline:p pipelines/p.toml:1", 'Put after = ["early"] on step late.'),
        ("pipeline/order", "pipeline:p pipelines/p.toml:1", 'Put after = ["more"] on step late.'),
        ("pipeline/order", "pipeline:p pipelines/p.toml:9", 'Put after = ["early"] on step more.'),
        ("pipeline/unknown-step", "pipeline:p pipelines/p.toml:9", "Did you mean early?"),
    ]


def test_a_step_may_come_after_another_through_a_third() -> None:
    """The order of steps reaches as far as it does."""
    steps = step("x", "m.a") + step("y", "m.b", after=("x",)) + step("z", "m.c", after=("y",))
    assert said({"p": steps}) == []


@pytest.mark.parametrize(
    ("reader", "builder", "is_said"),
    [
        (at("0 2 * * *"), at("0 4 * * *"), True),
        (at("0 4 * * *"), at("0 2 * * *"), False),
        (at("0 2 * * *"), at("0 20 * * *"), False),
        (at("0 2 * * *"), at("0 4 * * *", "Europe/Dublin"), False),
        (at("0 2 * * *"), at("0 4 * * 1"), False),
        (at("0 2 * * *"), at("*/5 * * * *"), False),
        (at("0 2 * * *"), "", False),
    ],
    ids=["before", "after", "a day later", "other zone", "other days", "often", "never"],
)
def test_a_pipeline_that_starts_before_what_it_reads_is_built(
    reader: str, builder: str, is_said: bool
) -> None:
    """On the same days, in the same zone, by one fixed time each."""
    found = said({"reader": reader + step("x", "m.c"), "builder": builder + step("y", "m.a")})
    assert [rule for rule, _ in found] == (["pipeline/schedule-order"] if is_said else [])


def test_what_two_pipelines_build_is_nobodys_fault() -> None:
    """It was built before by another one."""
    pipelines = {
        "reader": at("0 2 * * *") + step("x", "m.c"),
        "late": at("0 4 * * *") + step("y", "m.a"),
        "early": at("0 1 * * *") + step("z", "m.a"),
    }
    assert said(pipelines) == []


def test_two_flows_may_fill_one_table_in_any_order() -> None:
    """A copying flow looks at the columns of its table, and at no row of it."""
    flow = (
        'direction = "copy"\n[from]\nconnection = "c"\nfiles = "{}/*.csv"\n[to]\n'
        'table = "s.t"\n[fields]\nid = "id"\n'
    )
    files = {
        "schemas/s/schema.toml": 'managed = "migrations"\n',
        "schemas/s/migrations/0001_a.sql": "CREATE TABLE s.t (id INTEGER PRIMARY KEY);\n",
        "parameters.toml": '[u]\ntype = "text"\nevery = "in"\n',
        "connections/c.toml": 'kind = "files"\nurl = "${u}"\n',
        "flows/a.toml": flow.format("a"),
        "flows/b.toml": flow.format("b"),
        "models/m/x.sql": "SELECT id FROM s.t",
    }
    steps = (
        '[[steps]]\nname = "x"\nflow = "{}"\n[[steps]]\nname = "y"\nflow = "{}"\nafter = ["x"]\n'
    )
    last = '[[steps]]\nname = "z"\nbuild = ["m.x"]\nafter = ["y"]\n'
    for first, second in (("a", "b"), ("b", "a")):
        pipeline = {"pipelines/p.toml": steps.format(first, second) + last}
        assembly = read_project(
            name="p",
            version="1.0.0",
            dialect="duckdb",
            files={path: text.encode() for path, text in (files | pipeline).items()},
        ).assembly
        found = check_assembly(assembly, dt.date(2026, 11, 23))
        assert [f for f in found if f.severity.value != "note"] == []
