"""A bundle against what is live: other projects' readers, and tables that nobody here manages."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import pytest
from msgspec.structs import replace

from inchworm.core.checks.environment_rules import check_environment, clocks, drifted, hanging
from inchworm.core.checks.findings import Severity, has_errors
from inchworm.core.checks.right_rules import Ending
from inchworm.core.environments.downstream import downstream
from inchworm.core.identifiers import Kind, PartId, RelationName
from inchworm.core.promotion.composition import (
    CompletedPromotion,
    Composition,
    Interface,
    LivePart,
)
from inchworm.core.structure.definitions import Difference, Thing
from inchworm.core.structure.tables import Column, Table
from inchworm.kinds.project_reader import read_project
from tests.core.test_drafting import ENVIRONMENT
from tests.core.test_rollback import completed

FILES = {
    "schemas/raw/schema.toml": 'managed = "outside"',
    "schemas/raw/tables.sql": "CREATE TABLE raw.t (id INTEGER, level DOUBLE);",
    "models/m/a.sql": "SELECT id, CAST(level AS VARCHAR) AS level FROM raw.t",
    "consumers/map.toml": 'contact = "c"\n[reads]\n"m.a" = ["level"]\n',
}
RAW = Table("raw.t", (Column("id", "INT"), Column("level", "DOUBLE")))


def live_part(part: str, project: str = "p", **more: object) -> LivePart:
    """A part that was put there by some promotion."""
    about = {
        "part": PartId.parse(part),
        "project": project,
        "bundle": f"{project}-1.0.0",
        "digest": "d",
        "content": "c",
        "commit": None,
        "promotion": "P1",
        "put_at": "then",
    }
    return LivePart(**about, interface_text=Interface(**more).text)  # type: ignore[arg-type]


def found(
    *,
    ours: Mapping[PartId, LivePart] | None = None,
    theirs: tuple[LivePart, ...] = (),
    raw: Table | None = RAW,
) -> list[tuple[str, str]]:
    """Rule and message of everything that is said."""
    assembly = read_project(
        name="p",
        version="1.0.0",
        dialect="duckdb",
        files={path: text.encode() for path, text in FILES.items()},
    ).assembly
    live = Composition(
        identity="lena",
        read_at="now",
        parts=ours or {},
        foreign_parts=theirs,
        tables={"raw.t": raw} if raw else {"raw.tt": RAW},
    )
    return [(finding.rule, finding.message) for finding in check_environment(assembly, live)]


def difference(key: str, what: str = "changed", **more: Any) -> Difference:
    thing, _, name = key.partition(" ")
    return Difference(key=key, name=name, what=what, thing=Thing(thing), relation=name, **more)


def said_of_changes(
    *differences: Difference, touched: bool = True, overwrite: bool = False, **more: Any
) -> list[tuple[str, Severity, str | None]]:
    """What is said of changes made by hand in a schema; it is touched by the promotion, or not."""
    part = PartId(Kind.SCHEMA, "ops")
    live = Composition(
        identity="lena",
        read_at="now",
        parts={part: live_part("schema:ops", tables={"ops.t": (("id", "INT"),)})},
        differences=differences,
    )
    given = {"taken_up": set(), "remade": set()} | more
    found = drifted(
        live, {part} if touched else set(), **given, environment=ENVIRONMENT, overwrite=overwrite
    )
    return [(each.message, each.severity, each.remedy) for each in found]


def test_changes_by_hand_are_errors_only_where_they_would_be_lost() -> None:
    changed = difference("view ops.v", is_of_schema=True)
    ((message, severity, _),) = said_of_changes(changed)
    assert (message, severity) == ("view ops.v is changed since the last promotion", Severity.ERROR)
    assert said_of_changes(changed, touched=False) == [
        (message, Severity.NOTE, "It stays as it is.")
    ]
    ((_, severity, remedy),) = said_of_changes(changed, overwrite=True)
    assert severity is Severity.NOTE
    assert remedy != "It stays as it is."
    assert said_of_changes(changed, taken_up={changed.key}) == []


def test_rights_are_carried_along_and_lose_nothing() -> None:
    ((_, severity, _),) = said_of_changes(difference("rights ops.t", is_of_schema=True))
    assert severity is Severity.NOTE


def test_what_hangs_on_a_table_that_is_replaced_is_named() -> None:
    part, name = PartId(Kind.MODEL, "m.a"), RelationName("m.a")
    live = Composition(
        identity="lena", read_at="now", dependents={name: ("view x.v", "a trigger"), "m.b": ("y",)}
    )
    (found,) = hanging(live, {name: part, RelationName("m.c"): part})
    text = "view x.v, a trigger on m.a, which gets another table's place"
    assert (found.message, found.part) == (text, "model:m.a")
    assert has_errors([found]) is (found.severity is Severity.ERROR)
    assert not has_errors([])


def test_clocks_that_disagree_are_told() -> None:
    def told(read_at: str, here: str, *last: CompletedPromotion) -> list[str]:
        live = Composition(identity="lena", read_at=read_at, promotions=last)
        return [each.message for each in clocks(live, here)]

    noon, later = "2026-11-27T12:00:00+00:00", "2026-11-27T12:02:01+00:00"
    assert told(noon, noon) == told(noon, "") == told(noon, "2026-11-27T14:01:59+02:00") == []
    apart = ["it is 2026-11-27 12:02 UTC here, and 2026-11-27 12:00 UTC in the database"]
    assert told(noon, later) == told("2026-11-27T12:00:00", later) == apart
    (last,) = completed("a-1.0.0")
    assert told(noon, noon, last) == []
    assert told(noon, noon, replace(last, at=later)) == [
        "it is 2026-11-27 12:00 UTC, but a-1.0.0 went in at 2026-11-27 12:02 UTC, by lena"
    ]


@pytest.mark.parametrize("rights_stay", [True, False])
def test_what_a_relation_that_ends_has_stops_the_promotion(rights_stay: bool) -> None:
    """Whoever hears of its changes would hear no more; policies and rights may have a successor."""
    ending = Ending(how="which goes away", rights_stay=rights_stay)
    stopping = {thing for thing in Thing if ending.stops(thing)}
    policies = {Thing.POLICY} if rights_stay else set()
    assert stopping == {Thing.TRIGGER, Thing.PUBLICATION} | policies
    assert {thing for thing in Thing if ending.spares(thing)} == (
        {Thing.RIGHTS} if rights_stay else set()
    )


def test_what_is_downstream_of_tables_is_told_with_its_project() -> None:
    ours = {
        part.part: part
        for part in (
            live_part("model:m.a", tables={"m.a": (("x", "INT"),)}, reads={"raw.t": ("x",)}),
            live_part("model:m.b", tables={"m.b": (("x", "INT"),)}, reads={"m.a": ("x",)}),
            live_part("model:m.c", tables={"m.c": (("x", "INT"),)}, reads={"m.z": ("x",)}),
        )
    }
    theirs = live_part("flow:post", project="other", reads={"m.b": ("x",)})
    live = Composition(identity="l", read_at="", parts=ours, foreign_parts=(theirs,))
    affected = ["flow:post of other", "model:m.a", "model:m.b"]
    assert downstream(live, ["raw.t"], "p") == affected
    assert downstream(live, ["m.b"], "p") == affected[:1]
    assert downstream(live, ["m.b"], "other") == ["flow:post"]
    assert downstream(live, ["m.c"], "p") == []


def test_nobody_builds_upon_a_database_from_which_a_table_has_gone() -> None:
    gone = difference("table ops.t", "missing", is_of_schema=True)
    for touched in (True, False):
        ((message, severity, remedy),) = said_of_changes(gone, touched=touched)
        assert (message, severity) == (
            *("table ops.t is missing since the last promotion", Severity.ERROR),
        )
        assert remedy is not None
        assert "--put-back" in remedy
        assert "inchworm adopt test ops" in remedy
    ((_, severity, _),) = said_of_changes(gone, touched=False, remade={gone.key})
    assert severity is Severity.NOTE


def test_nothing_is_said_where_all_is_well() -> None:
    """Readers of what is there, and a table outside that is as declared."""
    reader = live_part("model:x.y", "theirs", reads={"m.a": ("id",), "elsewhere.t": ("z",)})
    assert found(theirs=(reader,)) == []


def test_a_table_that_another_project_reads_cannot_just_go() -> None:
    """Also when the bundle does not mention it any more."""
    old = live_part("model:m.old", tables={"m.old": (("id", "INT"),)})
    reader = live_part("model:x.y", "theirs", reads={"m.old": ("id",)})
    assert found(ours={old.part: old}, theirs=(reader,)) == [
        ("lineage/column-gone", "m.old would be removed, but is read by model:x.y of theirs")
    ]


@pytest.mark.parametrize(
    ("before", "rule"),
    [
        ({"tables": {"m.a": (("level", "DOUBLE"),)}}, "lineage/type-changed"),
        (
            {"tables": {"m.a": (("level", "TEXT"),)}, "required": {"m.a": ("level",)}},
            "lineage/no-longer-required",
        ),
        ({"tables": {"m.a": (("id", "INT"),)}, "keys": {"m.a": ("id",)}}, "lineage/key-gone"),
    ],
    ids=["type", "required", "key"],
)
def test_readers_outside_hear_of_what_they_cannot_rely_on(
    before: dict[str, object], rule: str
) -> None:
    """Consumers of this project and parts of others, named one by one."""
    was = live_part("model:m.a", "p", **before)
    reader = live_part("notebook:n", "theirs", reads={"m.a": ("level", "id")})
    ((said, message),) = found(ours={was.part: was}, theirs=(reader,))
    assert said == rule
    assert "read by consumer:map, notebook:n of theirs" in message


@pytest.mark.parametrize(
    ("raw", "message"),
    [
        (None, "raw.t is not in this database, but model:m.a reads it"),
        (Table("raw.t", RAW.columns[:1]), "raw.t has no column level in this database"),
    ],
    ids=["no table", "no column"],
)
def test_a_table_managed_outside_must_be_there(raw: Table | None, message: str) -> None:
    """With the columns that are read; before anything runs."""
    assert found(raw=raw) == [("schema/outside-differs", message)]
