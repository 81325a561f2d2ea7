"""Whole drafts, step by step, of a project that has a part of every kind."""

from __future__ import annotations

import datetime as dt
import json

import pytest
from msgspec.structs import replace

from inchworm.core.checks.findings import Finding, Severity
from inchworm.core.environments.verification import Asked, Verification
from inchworm.core.identifiers import Kind, PartId
from inchworm.core.lineage.facts_text import (
    outline_line,
    read_facts,
    read_outline,
    read_outlines,
    read_tables,
    tables_line,
    write_facts,
)
from inchworm.core.parts import Digest
from inchworm.core.promotion.composition import Composition, LiveItem, Mixture, SetSchedule
from inchworm.core.promotion.drafting.draft import draft
from inchworm.core.promotion.drafting.request import (
    PlannedChanges,
    Request,
    environment_state,
)
from inchworm.core.promotion.drafting.structures import put_back
from inchworm.core.promotion.holds import Hold
from inchworm.core.promotion.promotion import DifferingValue, Draft
from inchworm.core.structure.changes import Change, Demand, Effect
from inchworm.core.structure.definitions import Difference, Thing
from inchworm.core.structure.tables import Column, Table
from tests.core.test_drafting import EMPTY, ENVIRONMENT, after, request

_API = {
    "openapi": "3.0.3",
    "info": {"title": "board", "version": "1"},
    "paths": {"/": {"post": {"operationId": "post", "responses": {"200": {"description": "ok"}}}}},
}
_NOTEBOOK = {
    "cells": [
        {
            "cell_type": "code",
            "id": "a",
            "metadata": {},
            "outputs": [],
            "execution_count": None,
            "source": "from inchworm.notebook import env\n"
            'd = env.query("SELECT id FROM m.a")\n'
            'env.store("m.forecast", d, columns={"id": "INTEGER", "level": "DOUBLE"})',
        }
    ],
    "metadata": {"kernelspec": {"name": "python3", "display_name": "p", "language": "python"}},
    "nbformat": 4,
    "nbformat_minor": 5,
}
FILES = {
    "schemas/raw/schema.toml": 'managed = "outside"\n',
    "schemas/raw/tables.sql": "CREATE TABLE raw.t (id INTEGER);",
    "schemas/ops/schema.toml": 'managed = "migrations"\n',
    "schemas/ops/migrations/0001_a.sql": "CREATE TABLE ops.s (id INT);",
    "schemas/ops/migrations/0002_b.sql": '/*--- when = "after" ---*/ DROP TABLE ops.old;',
    "schemas/ops/before/first.sql": "SELECT 1",
    "schemas/ops/after/last.sql": "SELECT 1",
    "schemas/ref/schema.toml": 'managed = "structure"\n',
    "schemas/ref/tables.sql": "CREATE TABLE ref.gauge (id INTEGER);",
    "models/m/a.sql": "/*--- key = ['id'] ---*/ SELECT id FROM raw.t",
    "models/m/grows.sql": "/*--- store = 'increment'\nsince = 'id'\non_change = 'keep' ---*/ "
    "SELECT id FROM m.a",
    "models/m/plain.sql": "SELECT id FROM ref.gauge",
    "checks/few.sql": "SELECT id FROM m.a WHERE id > 9",
    "checks/always.sql": "SELECT id FROM raw.t WHERE id < 0",
    "notebooks/n.ipynb": json.dumps(_NOTEBOOK),
    "library/lib/x.py": "def f():\n    return 1\n",
    "parameters.toml": '[board]\ntype = "text"\nevery = "http://board.example"\n',
    "connections/board.toml": 'kind = "http"\nurl = "${board}"\n',
    "apis/board.json": json.dumps(_API),
    "flows/post.toml": 'direction = "out"\n[from]\ntable = "m.a"\n[to]\nconnection = "board"\n'
    'api = "apis/board.json"\noperation = "post"\n[fields]\nid = "id"\n',
    "pipelines/p.toml": '[schedules.s]\ncron = "0 0 * * *"\n'
    '[[steps]]\nname = "x"\nbuild = ["m.a"]\n'
    '[[steps]]\nname = "y"\nflow = "post"\nafter = ["x"]\n',
    "consumers/r.toml": 'contact = "c"\n[reads]\n"m.a" = ["id"]\n',
}
RAW = {"raw.t": Table("raw.t", (Column("id", "INT"),))}
REF = PartId(Kind.SCHEMA, "ref")


def told(drafted: Draft) -> list[str]:
    """Every step as a person would say it."""
    return [
        " ".join(filter(None, (f"{s.phase}:", s.action, str(s.part), s.item, f"({s.reason})")))
        for s in drafted.steps
    ]


def change(what: str, *, late: bool = False, **more: object) -> Change:
    name = str(more.pop("name", "ref.gauge"))
    return Change(what=what, name=name, statements=(f"{what};",), late=late, **more)  # type: ignore[arg-type]


def planned(*changes: Change, findings: tuple[Finding, ...] = ()) -> dict[PartId, PlannedChanges]:
    return {REF: PlannedChanges(changes=changes, findings=findings)}


def asked(live: Composition, files: dict[str, str] = FILES, **more: object) -> Request:
    return replace(request(files, live), **more)


def live(files: dict[str, str] = FILES) -> Composition:
    """Everything is in place."""
    settled = after(files)
    items = {
        part: LiveItem(part=part, digest=there.digest, state="active")
        for part, there in settled.parts.items()
        if part.kind.is_service
    }
    return replace(settled, items=items, schedules={"p.s": "on"})


def whole_draft() -> Draft:
    """A draft with steps of every phase, findings, changes and values."""
    losing = change("drop column", lost=("ref.gauge.id",), rows=("3",), effect=Effect.LOSES)
    return draft(asked(EMPTY, planned=planned(losing)))


def test_the_first_promotion_step_by_step() -> None:
    """Every phase in its order, every part with its reason."""
    drafted = draft(asked(EMPTY, planned=planned(change("make table"), change("drop", late=True))))
    assert told(drafted) == [
        "before: run schema:ops first (runs at every promotion)",
        "migrate: run schema:ops 0001_a (has not run in this database)",
        "migrate: change schema:ref wanted structure (1 safe)",
        "prepare: add notebook:n m.forecast (its table is not there yet)",
        "build: add model:m.a (new here)",
        "build: add model:m.plain (new here)",
        "build: add model:m.grows (new here)",
        "check: check model:m.a (its data before anybody sees it)",
        "check: check check:always (new here)",
        "check: check check:few (reads m.a)",
        "switch: switch over models (3 built beside go live together)",
        "migrate after: run schema:ops 0002_b (has not run in this database)",
        "migrate after: change schema:ref what goes (1 safe)",
        "deliver: add connection:board (new here)",
        "deliver: add library:lib (new here)",
        "deliver: add flow:post (new here)",
        "deliver: add notebook:n (new here)",
        "deliver: add pipeline:p (new here)",
        "after: run schema:ops last (runs at every promotion)",
        "resume: switch on pipeline:p s (test declares it on)",
        "verify: verify environment (everything is read back)",
        "record: record environment (p-1.0.0 is what runs here)",
    ]
    assert [step.number for step in drafted.steps] == list(range(1, 23))
    assert drafted.left_alone == {}
    assert drafted.changes == {REF: (change("make table"), change("drop", late=True))}


def test_nothing_is_done_where_nothing_differs() -> None:
    """What stays is counted by kind."""
    drafted = draft(asked(live(), planned=planned()))
    assert told(drafted) == []
    assert drafted.left_alone == {
        "check": 2,
        "connection": 1,
        "consumer": 1,
        "flow": 1,
        "library": 1,
        "model": 3,
        "notebook": 1,
        "pipeline": 1,
        "schema": 3,
    }


def test_another_bundle_with_the_same_content_is_only_recorded() -> None:
    """So that the environment says which one runs there; the scripts do not run."""
    there = live()
    assert there.last is not None
    other = replace(there, promotions=(replace(there.last, digest="sha256:other"),))
    assert told(draft(asked(other))) == ["record: record environment (p-1.0.0 is what runs here)"]


def test_what_leaves_the_bundle_goes_in_the_order_in_which_nothing_misses_it() -> None:
    """Whatever uses something else goes before that; models go with the switch-over."""
    kept = {
        path: text
        for path, text in FILES.items()
        if path.startswith(("schemas", "models/m/a", "consumers"))
    }
    steps = told(draft(asked(live(), kept)))
    assert [step for step in steps if "is not in the bundle any more" in step] == [
        "switch: remove model:m.grows (is not in the bundle any more)",
        "switch: remove model:m.plain (is not in the bundle any more)",
        "withdraw: remove pipeline:p (is not in the bundle any more)",
        "withdraw: remove notebook:n (is not in the bundle any more)",
        "withdraw: remove flow:post (is not in the bundle any more)",
        "withdraw: remove library:lib (is not in the bundle any more)",
        "withdraw: remove connection:board (is not in the bundle any more)",
        "withdraw: remove check:always (is not in the bundle any more)",
        "withdraw: remove check:few (is not in the bundle any more)",
    ]
    assert steps[0] == "pause: pause pipeline:p s (the pipeline goes)"
    assert not any("switch over" in step for step in steps)
    assert not any("resume" in step for step in steps)


ITEMS = {
    "gone": (None, "add flow:post (was removed there by hand)"),
    "changed": (("sha256:other", "active"), "change flow:post (was changed there by hand)"),
}


@pytest.mark.parametrize(("item", "step"), ITEMS.values(), ids=ITEMS.keys())
def test_an_item_that_somebody_touched_is_put_right(
    item: tuple[str, str] | None, step: str
) -> None:
    """Gone or changed."""
    there, flow = live(), PartId(Kind.FLOW, "post")
    items = {part: each for part, each in there.items.items() if part != flow}
    if item is not None:
        digest = item[0] or there.items[flow].digest
        items[flow] = LiveItem(part=flow, digest=digest, state=item[1])
    steps = told(draft(asked(replace(there, items=items))))
    assert [s for s in steps if s.startswith("deliver")] == [f"deliver: {step}"]


def stopped() -> Composition:
    """Everything is live; the flow was stopped and the schedule switched off by hand."""
    there, flow = live(), PartId(Kind.FLOW, "post")
    halted = LiveItem(part=flow, digest=there.items[flow].digest, state="inactive")
    return replace(
        there,
        items={**there.items, flow: halted},
        schedules={"p.s": "off"},
        set_schedules={"p.s": SetSchedule("on", "2026-11-20T09:30:00+00:00")},
    )


def test_what_was_stopped_by_hand_stays_so() -> None:
    """It is said, and what brings it back."""
    drafted = draft(asked(stopped()))
    assert told(drafted) == []
    assert {(f.part, f.message, f.remedy) for f in drafted.findings} == {
        (
            "pipeline:p",
            "the schedule s was switched off by hand after 2026-11-20 09:30; it stays off",
            "If it is to run again: --resume s.",
        ),
        (
            "flow:post",
            "it was stopped by hand; it stays stopped",
            "If it is to run again: --resume post.",
        ),
    }


@pytest.mark.parametrize("names", [{"s", "post"}, {"p.s", "flow:post"}, {"p", "post"}])
def test_what_was_stopped_by_hand_is_resumed_when_asked_for(names: set[str]) -> None:
    """By the name of the schedule or its pipeline, and of the flow."""
    drafted = draft(replace(asked(stopped()), resume=frozenset(names)))
    assert [s for s in told(drafted) if s.startswith(("deliver", "resume"))] == [
        "deliver: change flow:post (was stopped by hand, and is to run again)",
        "resume: switch on pipeline:p s (was switched off by hand since 2026-11-20 09:30; "
        "test declares it on)",
    ]
    assert drafted.findings == ()


def test_a_flow_that_changes_runs_again() -> None:
    """Whoever changes it has looked at it; that it was stopped is not the state it had."""
    parts = {p: replace(each, digest=Digest("sha256:old")) for p, each in stopped().parts.items()}
    steps = told(draft(asked(replace(stopped(), parts=parts))))
    assert "deliver: change flow:post (is not active)" in steps


def test_an_item_that_no_bundle_brought_is_told_apart() -> None:
    """And one that a value makes another one."""
    there, flow = live(), PartId(Kind.FLOW, "post")
    parts = {part: each for part, each in there.parts.items() if part != flow}
    items = {**there.items, flow: LiveItem(part=flow, digest="sha256:other", state="active")}
    steps = told(draft(asked(replace(there, parts=parts, items=items))))
    assert "deliver: change flow:post (is there, but not from a bundle)" in steps
    changed = FILES | {"connections/board.toml": 'kind = "http"\nurl = "${board}/v2"\n'}
    steps = told(draft(asked(there, changed)))
    assert "deliver: change connection:board (content changed)" in steps


def test_rows_stay_where_the_model_says_so() -> None:
    """An increment that is live keeps them; its reason says it."""
    changed = FILES | {
        "models/m/a.sql": FILES["models/m/a.sql"].replace("id FROM", "id AS id FROM")
    }
    changed["models/m/a.sql"] += " WHERE id > 0"
    steps = told(draft(asked(live(), changed)))
    assert [step for step in steps if step.startswith("build")] == [
        "build: change model:m.a (content changed)",
        "build: rebuild model:m.grows (depends on m.a; its rows stay, new ones come)",
    ]
    assert [step for step in steps if step.startswith(("pause", "resume", "check"))] == [
        "pause: pause pipeline:p s (model:m.a changes)",
        "check: check model:m.a (its data before anybody sees it)",
        "check: check check:few (reads m.a)",
        "resume: resume pipeline:p s (test declares it on)",
    ]


def test_a_notebooks_table_gets_the_columns_that_it_lacks() -> None:
    """By name."""
    there = live()
    tables = {**there.tables, "m.forecast": Table("m.forecast", (Column("id", "INT"),))}
    steps = told(draft(asked(replace(there, tables=tables))))
    assert steps[1] == "prepare: change notebook:n m.forecast (its table lacks level)"


EFFECTS = {
    "safe": (change("add column"), None),
    "slow": (
        change("type", effect=Effect.SLOW, name="ref.gauge.id"),
        "a migration changes ref.gauge",
    ),
    "loses": (
        change("drop column", effect=Effect.LOSES, lost=("ref.gauge.id",), rows=("3",)),
        "a migration changes ref.gauge",
    ),
    "late": (
        change("drop column", late=True, effect=Effect.LOSES, lost=("ref.gauge.id",), rows=("3",)),
        None,
    ),
}


@pytest.mark.parametrize(("done", "reason"), EFFECTS.values(), ids=EFFECTS.keys())
def test_models_upon_a_table_that_is_made_anew_are_built_again(
    done: Change, reason: str | None
) -> None:
    """A column more does not concern them, and what goes late goes when they read it no more."""
    environment = replace(
        ENVIRONMENT, database=replace(ENVIRONMENT.database, may_lose=("ref.gauge",))
    )
    drafted = draft(asked(live(), planned=planned(done), environment=environment))
    built = [step for step in told(drafted) if step.startswith("build")]
    assert built == ([f"build: rebuild model:m.plain ({reason})"] if reason else [])
    phase = "migrate after" if done.late else "migrate"
    item = "what goes" if done.late else "wanted structure"
    changing = f"{phase}: change schema:ref {item} (1 {done.effect.value})"
    assert changing in told(drafted)


@pytest.mark.parametrize(
    ("may_lose", "severity"),
    [
        ((), Severity.ERROR),
        (("ops.gauge",), Severity.ERROR),
        (("ref.gauge",), Severity.NOTE),
        (("ref.gauge.id",), Severity.NOTE),
    ],
)
def test_losing_values_needs_a_permission_by_name(
    may_lose: tuple[str, ...], severity: Severity
) -> None:
    """Of the table or of the column; with how many values go."""
    environment = replace(ENVIRONMENT, database=replace(ENVIRONMENT.database, may_lose=may_lose))
    environment = replace(environment, file="environments/test.toml")
    losing = change(
        "drop column",
        name="ref.gauge.id",
        effect=Effect.LOSES,
        lost=("ref.gauge.id",),
        rows=("about 2,000",),
    )
    drafted = draft(asked(live(), planned=planned(losing), environment=environment))
    (finding,) = (f for f in drafted.findings if f.rule == "schema/loses-data")
    assert finding.severity is severity
    assert finding.message == "drop column ref.gauge.id loses about 2,000 values of ref.gauge.id"
    assert (finding.part, finding.file) == ("schema:ref", "environments/test.toml")
    assert (finding.remedy == "It is listed under may_lose.") is (severity is Severity.NOTE)


def test_what_stands_in_the_way_of_a_structure_is_in_the_draft() -> None:
    """As the database found it."""
    stuck = Finding(
        rule="r",
        severity=Severity.ERROR,
        part=str(REF),
        file=None,
        line=None,
        message="m",
        remedy="",
    )
    demand = Demand(query="SELECT 1", message="id is required")
    drafted = draft(
        asked(live(), planned=planned(change("make", demands=(demand,)), findings=(stuck,)))
    )
    assert stuck in drafted.findings


def test_what_was_changed_by_hand_into_what_is_desired_is_no_drift() -> None:
    """What the change still has to touch is."""
    there = live()
    differences = (
        Difference(
            key="table ref.gauge", name="ref.gauge", what="changed", is_of_schema=True, now="x"
        ),
        Difference(
            key="index ref.i",
            name="ref.i",
            what="unknown",
            thing=Thing.INDEX,
            is_of_schema=True,
            now="y",
        ),
    )
    there = replace(there, differences=differences)
    drifted = [
        f.message
        for f in draft(asked(there, planned=planned(change("drop index", name="ref.i")))).findings
        if f.rule == "promotion/drifted"
    ]
    assert drifted == ["index ref.i is new since the last promotion"]
    together = planned(change("set aside", name="ref.i, ref.gauge", several=("ref.i", "ref.gauge")))
    assert len(draft(asked(there, planned=together)).findings) == 2


def test_values_that_differ_elsewhere_or_from_before_are_shown() -> None:
    """Only those that a touched part uses; every value that is used is recorded."""
    files = FILES | {
        "parameters.toml": FILES["parameters.toml"]
        + "".join(
            f'[{name}]\ntype = "integer"\nevery = {value}\n'
            for name, value in (("low", 1), ("high", 2), ("spare", 3))
        ),
        "models/m/a.sql": "SELECT id FROM raw.t WHERE id > :low AND id < :high",
        "models/m/plain.sql": "SELECT id FROM ref.gauge WHERE id > :spare",
    }
    there = replace(after(files), schedules={"p.s": "on"})
    changed = files | {"models/m/a.sql": files["models/m/a.sql"].replace("<", "<=")}
    changed["parameters.toml"] = files["parameters.toml"].replace("every = 1", "every = 5")
    elsewhere = request(files, EMPTY).values
    drafted = draft(asked(there, changed, came_from="dev", values_there=elsewhere))
    assert drafted.differing == (DifferingValue(name="low", here="5", there="1", before="1"),)
    assert drafted.values == {
        "board": "http://board.example",
        "high": "2",
        "low": "5",
        "spare": "3",
    }
    alone = draft(asked(there, changed)).differing
    assert alone == (
        DifferingValue(name="board", here="http://board.example", there=None),
        DifferingValue(name="high", here="2", there=None),
        DifferingValue(name="low", here="5", there=None, before="1"),
    )
    steps = told(draft(asked(there, changed)))
    assert "build: change model:m.a (content changed)" in steps


def test_several_reasons_are_told_and_the_rest_counted() -> None:
    """Three names, and how many more."""
    several = {f"models/m/x{i}.sql": f"SELECT id, {i} AS n FROM raw.t" for i in range(5)}
    union = " UNION ALL ".join(f"SELECT id FROM m.x{i}" for i in range(5))
    files = FILES | several | {"models/m/y.sql": union}
    changed = files | {path: text.replace("id,", "id + 1 AS id,") for path, text in several.items()}
    there = replace(after(files), schedules={"p.s": "on"})
    steps = told(draft(asked(there, changed)))
    assert "build: rebuild model:m.y (depends on m.x0, m.x1, m.x2 and 2 more)" in steps


def held(because: str, until: dt.date | None = None) -> Hold:
    return Hold(part=PartId(Kind.MODEL, "m.a"), because=because, until=until, by="lena")


@pytest.mark.parametrize(
    ("before", "after", "step"),
    [
        (None, held("slow"), "hold: hold model:m.a (slow)"),
        (
            *(None, held("slow", dt.date(2026, 12, 1))),
            "hold: hold model:m.a (slow, until 2026-12-01)",
        ),
        (held("slow"), held("slow"), None),
        (held("slow"), held("wrong"), "hold: hold model:m.a (wrong)"),
        (held("slow"), None, "hold: lift model:m.a (the hold is lifted)"),
        (
            *(held("slow", dt.date(2026, 12, 1)), None),
            "hold: lift model:m.a (the hold is lifted)",
        ),
        (
            *(held("slow", dt.date(2026, 11, 1)), None),
            "hold: lift model:m.a (it was held until 2026-11-01)",
        ),
    ],
)
def test_holds_come_change_and_go(
    before: Hold | None, after: Hold | None, step: str | None
) -> None:
    there = replace(live(), holds=(before,) if before else ())
    steps = told(draft(asked(there, holds=(after,) if after else ())))
    assert [each for each in steps if each.startswith("hold")] == ([step] if step else [])


def test_tables_that_are_gone_are_made_again_when_asked_for() -> None:
    """By the schema that accounts for them, unless its structure does it anyway."""

    def gone(schema: str) -> Difference:
        name = f"{schema}.s"
        return Difference(
            key=f"table {name}", name=name, what="missing", is_of_schema=True, relation=name
        )

    there = replace(live(), differences=(gone("ops"), gone("ref")))
    ops = PartId(Kind.SCHEMA, "ops")
    assert put_back(asked(there)) == {}
    assert put_back(asked(there, put_back=True)) == {ops: [gone("ops")], REF: [gone("ref")]}
    structured = asked(there, put_back=True, planned=planned(change("create table")))
    assert put_back(structured) == {ops: [gone("ops")]}
    changed = replace(there, differences=(replace(gone("ops"), what="changed"),))
    assert put_back(asked(changed, put_back=True)) == {}


def test_what_is_known_of_a_part_comes_back_from_its_text() -> None:
    assembly = asked(EMPTY).assembly
    assert {part.kind for part in assembly.outlines} == {*Kind}
    for part, outline in assembly.outlines.items():
        text = write_facts(assembly.facts[part], outline)
        assert read_outline(text) == outline
        assert read_outlines([outline_line(text)]) == [outline]
        assert read_tables(tables_line(text)) == assembly.facts[part].provides
        assert read_facts(text) == assembly.facts[part]


def test_why_a_part_that_was_not_touched_is_rendered_differently() -> None:
    """Its values changed; or something else that it is made from."""
    board = PartId(Kind.CONNECTION, "board")
    files = FILES | {
        "parameters.toml": FILES["parameters.toml"] + '[port]\ntype = "text"\nevery = "1"\n',
        "connections/board.toml": 'kind = "http"\nurl = "${board}:${port}"\n',
    }
    there = live(files)

    def why(**values: str) -> list[str]:
        live_part = there.parts[board]
        interface = replace(live_part.interface, values=values)
        old = replace(
            live_part, digest=Digest("sha256:old"), recipe="", interface_text=interface.text
        )
        item = replace(there.items[board], digest=old.digest)
        before = replace(
            there, parts={**there.parts, board: old}, items={**there.items, board: item}
        )
        steps = told(draft(asked(before, files)))
        return [step for step in steps if "connection:board" in step]

    said = "deliver: change connection:board ({})"
    assert why(board="http://board.example", port="2") == [said.format("parameter port changed")]
    assert why(board="x", port="2") == [said.format("parameters board, port changed")]
    same = why(board="http://board.example", port="1")
    assert same == [said.format("rendered differently")]


def test_what_is_made_again_is_in_the_draft() -> None:
    def gone(name: str) -> Difference:
        return Difference(
            key=f"table {name}", name=name, what="missing", is_of_schema=True, relation=name
        )

    for names, text in (
        (["ops.s"], "ops.s is missing; made again, empty"),
        (["ops.s", "ops.u"], "ops.s, ops.u are missing; made again, empty"),
    ):
        there = replace(live(), differences=tuple(map(gone, names)))
        steps = told(draft(asked(there, put_back=True)))
        assert [step for step in steps if step.startswith("put back")] == [
            f"put back: put back schema:ops ({text})"
        ]


def test_a_draft_covers_the_environment_as_it_is_declared() -> None:
    """Whatever is declared otherwise, what was approved is not what would be done."""
    database = ENVIRONMENT.database
    others = [
        replace(ENVIRONMENT, database=replace(database, url="duckdb:///y")),
        replace(ENVIRONMENT, database=replace(database, schema_pattern="dev_{schema}")),
        replace(ENVIRONMENT, workspace=replace(ENVIRONMENT.workspace, url="sim:y")),
        replace(ENVIRONMENT, gateway=replace(ENVIRONMENT.gateway, url="sim:y")),
        replace(ENVIRONMENT, default_schedule="on"),
        replace(ENVIRONMENT, schedules={"s": "off"}),
        replace(
            ENVIRONMENT,
            verifications=(Verification(name="a", asked=Asked.VALUE, question="board"),),
        ),
    ]
    states = [environment_state(each, EMPTY) for each in (ENVIRONMENT, *others)]
    assert len(set(states)) == len(states)
    assert environment_state(replace(ENVIRONMENT, about="x"), EMPTY) == states[0]


def test_parts_without_a_place_of_their_own_leave_the_record() -> None:
    """Schemas keep their tables."""
    left = ("schemas/ref/", "models/m/plain", "checks/always", "consumers/")
    files = {path: text for path, text in FILES.items() if not path.startswith(left)}
    steps = told(draft(asked(live(), files)))
    assert [step for step in steps if "remove" in step and "model" not in step] == [
        "withdraw: remove check:always (is not in the bundle any more)",
        "withdraw: remove consumer:r (is not in the bundle any more)",
        "withdraw: remove schema:ref (is not in the bundle any more; its tables stay)",
    ]


def test_what_was_switched_by_hand_is_a_difference() -> None:
    there, address = stopped(), ENVIRONMENT.database
    pipeline, flow = PartId(Kind.PIPELINE, "p"), PartId(Kind.FLOW, "post")
    (schedule,) = there.differing(there.parts[pipeline], address)
    assert (schedule.key, schedule.name, schedule.what) == ("schedule p.s", "pipeline:p", "changed")
    assert (schedule.was, schedule.now) == ("on", "off")
    (state,) = there.differing(there.parts[flow], address)
    assert (state.key, state.name) == ("state of flow:post", "flow:post")
    assert (state.was, state.now) == ("active", "inactive")
    settled = live()
    assert settled.differing(settled.parts[flow], address) == []
    other = replace(there, parts={**there.parts, PartId(Kind.PIPELINE, "q"): there.parts[pipeline]})
    assert len(other.differing(there.parts[pipeline], address)) == 1


def test_what_has_to_hold_is_asked_at_the_end() -> None:
    asked_for = (
        Verification(name="few", asked=Asked.QUERY, question="SELECT\n  1", answer="> 0"),
        Verification(name="up", asked=Asked.HTTP, question="http://board.example", status=204),
        Verification(name="nightly", asked=Asked.RUN, question="p"),
    )
    environment = replace(ENVIRONMENT, verifications=asked_for)
    steps = told(draft(asked(EMPTY, environment=environment)))
    assert [step for step in steps if ": ask" in step] == [
        "verify: ask environment few (SELECT 1 > 0)",
        "verify: ask environment up (http://board.example status 204)",
        "verify: ask environment nightly (a run of p has to succeed)",
    ]


@pytest.mark.parametrize(
    "mixture", [Mixture(), Mixture(sources={"model:m.a": "b"}, is_choice=True)]
)
def test_a_mixture_comes_back_from_the_bookkeeping(mixture: Mixture) -> None:
    assert Mixture.read(mixture.text) == mixture
    assert Mixture.read(None) == Mixture.read("") == Mixture()
