"""Drafts worked out from values alone: what changes, why, and in which order."""

from __future__ import annotations

import datetime as dt

import pytest
from hypothesis import given
from hypothesis import strategies as st
from msgspec.structs import replace

from inchworm.core.environments.environment import (
    DatabaseAddress,
    Environment,
    ServiceAddress,
    in_route_order,
)
from inchworm.core.environments.physical_names import PhysicalNames
from inchworm.core.identifiers import Kind, PartId
from inchworm.core.parameters.matrix import evaluate
from inchworm.core.parts import Digest
from inchworm.core.promotion.composition import (
    CompletedPromotion,
    Composition,
    Interface,
    LiveItem,
    LivePart,
    RanMigration,
)
from inchworm.core.promotion.drafting.draft import draft
from inchworm.core.promotion.drafting.request import Request
from inchworm.core.promotion.promotion import Draft
from inchworm.core.promotion.states import Phase
from inchworm.core.rendered import RenderedParts
from inchworm.core.structure.tables import Column, Table
from inchworm.kinds.project_reader import read_project
from inchworm.kinds.recipes import recipe_of

TODAY = dt.date(2026, 11, 23)
FILES = {
    "parameters.toml": '[limit]\ntype = "integer"\nevery = 1\n',
    "schemas/raw/schema.toml": 'managed = "outside"\n',
    "schemas/raw/tables.sql": "CREATE TABLE raw.t (id INTEGER);",
    "schemas/ops/schema.toml": 'managed = "migrations"\n',
    "schemas/ops/migrations/0001_a.sql": "/*--- baseline = true ---*/ CREATE TABLE ops.s (id INT);",
    "schemas/ops/before/first.sql": "SELECT 1",
    "schemas/ops/after/last.sql": "SELECT 1",
    "models/m/a.sql": "SELECT id FROM raw.t WHERE id > :limit",
    "models/m/b.sql": "/*--- key = ['id'] ---*/ SELECT id FROM m.a",
    "models/m/c.sql": "SELECT id FROM ops.s",
    "pipelines/p.toml": '[schedules.s]\ncron = "0 0 * * *"\n'
    '[[steps]]\nname = "x"\nbuild = ["m.b"]\n',
    "consumers/r.toml": 'contact = "c"\n[reads]\n"m.b" = ["id"]\n',
}
ENVIRONMENT = Environment(
    name="test",
    database=DatabaseAddress(url="duckdb:///x"),
    workspace=ServiceAddress(url="sim:x"),
    gateway=ServiceAddress(url="sim:x"),
    schedules={"s": "on"},
)
RAW = {"raw.t": Table("raw.t", (Column("id", "INT"),))}
PIPELINE = PartId(Kind.PIPELINE, "p")
EMPTY = Composition(identity="lena at x", read_at="now", tables=RAW)


def request(files: dict[str, str], live: Composition) -> Request:
    reading = read_project(
        name="p",
        version="1.0.0",
        dialect="duckdb",
        files={path: text.encode() for path, text in files.items()},
    )
    assert [f for f in reading.assembly.findings if f.severity != "note"] == []
    values = evaluate(reading.assembly.matrix, "test", TODAY).values
    return Request(
        bundle="p-1.0.0",
        bundle_digest=Digest(f"sha256:{hash(tuple(sorted(files.items())))}"),
        environment=ENVIRONMENT,
        assembly=reading.assembly,
        rendered=RenderedParts(
            reading.assembly.parts,
            render=lambda part: reading.render(part, values),
            recipe=lambda part: recipe_of(reading.assembly, part, values),
        ),
        values=values,
        live=live,
        names=PhysicalNames(reading.assembly, ENVIRONMENT, "duckdb"),
        today=TODAY,
    )


def test_a_part_that_is_gone_or_another_has_drifted() -> None:
    """A table that somebody dropped; what the workspace has not, or has otherwise."""
    live = after(FILES)
    address = ENVIRONMENT.database
    assert live.drifted(address) == []
    names = {str(part.name) for part in live.parts}
    assert {"p", "m.a", "ops"} <= names, "kinds of every sort are there"
    without = replace(live, items={})
    assert without.drifted(address) == [PIPELINE]
    item = replace(live.items[PIPELINE], digest="sha256:other")
    assert replace(live, items={**live.items, PIPELINE: item}).drifted(address) == [PIPELINE]
    tables = {name: table for name, table in live.tables.items() if name != "m.a"}
    assert replace(live, tables=tables).drifted(address) == [PartId(Kind.MODEL, "m.a")]


def test_a_name_in_another_case_is_that_of_the_project() -> None:
    names = request(FILES, EMPTY).names
    assert names.logical("M.A") == names.logical("m.a") == "m.a"


def drafted(files: dict[str, str], live: Composition) -> Draft:
    return draft(request(files, live))


def after(files: dict[str, str]) -> Composition:
    """What is live when a bundle of these files has been promoted."""
    asked = request(files, EMPTY)
    assembly = asked.assembly
    parts = {
        part: LivePart(
            part=part,
            project="p",
            bundle=asked.bundle,
            digest=asked.rendered[part].digest,
            content=assembly.parts[part].digest,
            commit=None,
            promotion="P1",
            put_at="then",
            interface_text=Interface(
                values={
                    u.parameter: asked.values[u.parameter].text for u in assembly.facts[part].uses
                }
            ).text,
        )
        for part in assembly.parts
    }
    scripts = asked.rendered.schema(PartId.parse("schema:ops")).migrations
    return Composition(
        identity="lena at x",
        read_at="now",
        parts=parts,
        migrations=tuple(
            RanMigration(
                schema="ops",
                name=script.name,
                checksum=script.checksum,
                outcome="ran",
                promotion="P1",
                ran_at="then",
            )
            for script in scripts
        ),
        tables=dict(assembly.tables),
        items={PIPELINE: LiveItem(part=PIPELINE, digest=parts[PIPELINE].digest, state="")},
        schedules={"p.s": "on"},
        promotions=(
            CompletedPromotion(
                promotion="k:P1",
                bundle="b",
                digest=asked.bundle_digest,
                commit=None,
                by="l",
                at="2026-01-01T00:00:00+00:00",
            ),
        ),
    )


def told(found: Draft, *phases: Phase) -> list[str]:
    """The steps of some phases, as a person would say them."""
    return [
        " ".join(filter(None, (s.action, str(s.part), s.item, f"({s.reason})")))
        for s in found.steps
        if s.phase in phases
    ]


def test_into_an_empty_environment_everything_is_new() -> None:
    """In the order in which it can be done."""
    found = drafted(FILES, EMPTY)
    phases = [step.phase for step in found.steps]
    assert phases == sorted(phases, key=list(Phase).index)
    assert [step.number for step in found.steps] == list(range(1, len(phases) + 1))
    assert told(found, Phase.BUILD) == [
        "add model:m.a (new here)",
        "add model:m.c (new here)",
        "add model:m.b (new here)",
    ]
    assert told(found, Phase.MIGRATE) == ["run schema:ops 0001_a (has not run in this database)"]
    assert told(found, Phase.BEFORE, Phase.AFTER) == [
        "run schema:ops first (runs at every promotion)",
        "run schema:ops last (runs at every promotion)",
    ]
    assert told(found, Phase.RESUME) == ["switch on pipeline:p s (test declares it on)"]
    assert told(found, Phase.PAUSE) == []


def test_what_is_there_already_needs_nothing() -> None:
    """Not even the scripts that run at every promotion."""
    assert drafted(FILES, after(FILES)).steps == ()


CHANGES: dict[str, tuple[str, str, str, list[str]]] = {
    "a changed model": (
        "models/m/a.sql",
        "SELECT id",
        "SELECT id + 0 AS id",
        ["change model:m.a (content changed)", "rebuild model:m.b (depends on m.a)"],
    ),
    "a changed value": (
        "parameters.toml",
        "every = 1",
        "every = 2",
        ["change model:m.a (parameter limit changed)", "rebuild model:m.b (depends on m.a)"],
    ),
    "a new migration's table": (
        "schemas/ops/migrations/0002_b.sql",
        "",
        "INSERT INTO ops.s VALUES (1)",
        ["rebuild model:m.c (a migration changes ops.s)"],
    ),
    "a comment": ("models/m/a.sql", "SELECT", "-- why\nSELECT", []),
}


@pytest.mark.parametrize(("path", "old", "new", "built"), CHANGES.values(), ids=CHANGES.keys())
def test_only_what_changed_and_what_depends_on_it(
    path: str, old: str, new: str, built: list[str]
) -> None:
    """Each with its reason."""
    text = FILES.get(path, "")
    files = FILES | {path: text.replace(old, new) if old else new}
    found = drafted(files, after(FILES))
    assert told(found, Phase.BUILD) == built
    assert told(found, Phase.RECORD) == ["record environment (p-1.0.0 is what runs here)"]


def test_a_touched_schedule_pauses_and_resumes() -> None:
    """Because something that its steps read changes, however far up."""
    files = FILES | {"models/m/a.sql": "SELECT id FROM raw.t"}
    files["parameters.toml"] = ""
    found = drafted(files, after(FILES))
    assert told(found, Phase.PAUSE) == ["pause pipeline:p s (model:m.b changes)"]
    assert told(found, Phase.RESUME) == ["resume pipeline:p s (test declares it on)"]


@pytest.mark.parametrize(
    ("now", "declared", "action"),
    [
        ("on", "on", None),
        ("off", "on", "switch on"),
        ("paused", "on", "switch on"),
        ("on", "off", "switch off"),
        ("paused", "off", "switch off"),
        ("off", "off", None),
    ],
)
def test_schedules_get_their_declared_state(now: str, declared: str, action: str | None) -> None:
    """Also when nothing else is to be done."""
    asked = request(FILES, replace(after(FILES), schedules={"p.s": now}))
    environment = replace(ENVIRONMENT, schedules={"s": declared})
    found = draft(replace(asked, environment=environment))
    actions = [step.action for step in found.steps if step.phase is Phase.RESUME]
    assert actions == ([action] if action else [])


def test_what_somebody_changed_by_hand_is_put_right() -> None:
    """A table that is gone, an item that differs, an item that is gone."""
    live = after(FILES)
    tables = {name: table for name, table in live.tables.items() if name != "m.c"}
    after_touch = drafted(FILES, replace(live, tables=tables))
    assert told(after_touch, Phase.BUILD) == ["rebuild model:m.c (is missing in the database)"]
    other = LiveItem(part=PIPELINE, digest="sha256:other")
    after_touch = drafted(FILES, replace(live, items={PIPELINE: other}))
    assert told(after_touch, Phase.DELIVER) == ["change pipeline:p (was changed there by hand)"]
    after_touch = drafted(FILES, replace(live, items={}))
    assert told(after_touch, Phase.DELIVER) == ["add pipeline:p (was removed there by hand)"]


def test_what_left_the_bundle_is_removed_but_schemas_stay() -> None:
    """A schema holds data; that it stays is said."""
    kept = {p: t for p, t in FILES.items() if not p.startswith(("schemas/ops", "models/m/c"))}
    found = drafted(kept, after(FILES))
    assert told(found, Phase.SWITCH) == ["remove model:m.c (is not in the bundle any more)"]
    (note,) = found.findings
    assert note.message == "schema:ops is not in the bundle any more; its tables stay"


def test_readers_of_other_projects_are_not_forgotten() -> None:
    """A column that one of them reads must not go."""
    other = LivePart(
        part=PartId(Kind.MODEL, "theirs.x"),
        project="theirs",
        bundle="t-1.0.0",
        digest=Digest("d"),
        content=Digest("c"),
        commit=None,
        promotion="P9",
        put_at="then",
        interface_text=Interface(reads={"m.b": ("id", "gone"), "elsewhere.t": ("x",)}).text,
    )
    (finding,) = drafted(FILES, replace(EMPTY, foreign_parts=(other,))).findings
    assert finding.rule == "lineage/column-gone"
    assert finding.message == "m.b.gone is read by model:theirs.x of theirs"


@pytest.mark.parametrize(
    ("proved", "action", "findings"),
    [
        ((), "assume", []),
        (("ops.s lacks id",), "assume", ["the schema has tables, but ops.s lacks id"]),
        (
            None,
            "assume",
            ["the schema has tables, but it has not been compared with what is there"],
        ),
    ],
    ids=["the same", "different", "not compared"],
)
def test_a_baseline_is_proved_before_it_is_assumed(
    proved: tuple[str, ...] | None, action: str, findings: list[str]
) -> None:
    """Where the schema has tables; by what the database says of both sides."""
    live = replace(EMPTY, tables=RAW | {"ops.s": Table("ops.s", (Column("id"),))})
    asked = request(FILES, live)
    if proved is not None:
        asked = replace(asked, baselines={PartId.parse("schema:ops"): proved})
    found = draft(asked)
    assert [s.action for s in found.steps if s.phase is Phase.MIGRATE] == [action]
    assert [f.message for f in found.findings] == findings


def test_a_baseline_runs_where_the_schema_is_empty() -> None:
    """There is nothing to prove."""
    found = drafted(FILES, EMPTY)
    assert [s.action for s in found.steps if s.phase is Phase.MIGRATE] == ["run"]


def test_a_draft_survives_the_ledger() -> None:
    """With the same digest."""
    found = drafted(FILES, EMPTY)
    assert Draft.from_json(found.to_json()) == found
    assert Draft.from_json(found.to_json()).digest == found.digest


def test_a_drafts_digest_covers_the_environment_as_it_is() -> None:
    """Another table, schedule or value is another draft."""
    live = after(FILES)
    base = drafted(FILES, live).digest
    assert drafted(FILES, replace(live, read_at="later")).digest == base
    extra = {**live.tables, "x.y": Table("x.y", ())}
    assert drafted(FILES, replace(live, tables=extra)).digest != base
    assert drafted(FILES, replace(live, schedules={"p.s": "off"})).digest != base
    assert (
        drafted(FILES | {"parameters.toml": FILES["parameters.toml"] + "\n"}, live).digest != base
    )


names = st.sampled_from("abcdef")


@given(st.dictionaries(names, st.sets(names, max_size=3), max_size=6))
def test_the_route_respects_every_after(route: dict[str, set[str]]) -> None:
    """Unless it runs in a circle, an environment comes after all that it names."""
    acyclic = {
        name: {before for before in befores if before < name} for name, befores in route.items()
    }
    environments = [
        replace(ENVIRONMENT, name=name, after=tuple(sorted(befores)))
        for name, befores in acyclic.items()
    ]
    order = [environment.name for environment in in_route_order(environments)]
    assert sorted(order) == sorted(acyclic)
    for name, befores in acyclic.items():
        for before in befores & set(acyclic):
            assert order.index(before) < order.index(name)


def test_a_migration_that_breaks_live_models_is_pointed_out() -> None:
    """Until they are switched over; with the advice to run it afterwards, where it is not said."""
    live = after(FILES)
    model = PartId(Kind.MODEL, "m.c")
    reader = replace(live.parts[model], interface_text=Interface(reads={"ops.s": ("id",)}).text)
    live = replace(live, parts={**live.parts, model: reader})
    files = FILES | {"models/m/c.sql": "SELECT number AS id FROM ops.s"}
    change = "ALTER TABLE ops.s RENAME COLUMN id TO number"
    early = drafted(files | {"schemas/ops/migrations/0002_b.sql": change}, live)
    (found,) = early.findings
    assert found.rule == "promotion/breaks-until-switch"
    assert found.message == "ops.s.id goes before model:m.c is switched over"
    late = f'/*--- when = "after" ---*/ {change}'
    assert drafted(files | {"schemas/ops/migrations/0002_b.sql": late}, live).findings == ()
