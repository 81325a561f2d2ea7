"""Rendered parts: their documents decide what changed; each is rendered when it is asked for."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import pytest

from inchworm.core.identifiers import Kind, PartId, RelationName
from inchworm.core.parts import Digest, digest_of
from inchworm.core.rendered import (
    Managed,
    Rendered,
    RenderedCheck,
    RenderedDocument,
    RenderedFlow,
    RenderedModel,
    RenderedParts,
    RenderedSchema,
    Script,
    Store,
    When,
    canonical,
)

FLOW = PartId(Kind.FLOW, "warnings")
PIPELINE = PartId(Kind.PIPELINE, "nightly")
SCHEMA = PartId(Kind.SCHEMA, "ops")
MODEL = PartId(Kind.MODEL, "m.a")
NAMES = {"m.a": RelationName("dev_m.a"), "m.b": RelationName("dev_m.b")}


def script(name: str, **more: Any) -> Script:
    file = f"schemas/ops/migrations/{name}.sql"
    return Script(name=name, file=file, sql="SELECT 1", checksum=Digest("sha256:c"), **more)


def test_a_document_says_which_names_its_tables_have() -> None:
    plain = RenderedDocument(part=PIPELINE, content={"steps": ["m.b", "m.a"]})
    assert plain.document == {"steps": ["m.b", "m.a"]}
    placed = plain.placed({"m.b": NAMES["m.b"], "m.a": NAMES["m.a"]})
    assert placed.document == {"steps": ["m.b", "m.a"], "tables": NAMES}
    assert list(placed.document["tables"]) == ["m.a", "m.b"], "in one order, whatever was given"
    assert placed.part == PIPELINE
    assert placed.digest != plain.digest
    assert plain.placed({}).digest == plain.digest
    assert plain.digest == digest_of(canonical(plain.document))


def test_a_flows_ends_have_the_names_of_the_environment() -> None:
    content: Mapping[str, Any] = {
        "direction": "out",
        "from": {"table": "M.A", "connection": "x"},
        "to": {"query": "SELECT m.b.id FROM m.b JOIN m.other AS o ON o.id = m.b.id"},
    }
    flow = RenderedFlow(part=FLOW, content=content, dialect="duckdb")
    assert flow.document == content
    placed = flow.placed(NAMES).document
    assert placed["from"] == {"table": "dev_m.a", "connection": "x"}
    assert 'FROM "dev_m"."b" AS b' in placed["to"]["query"]
    assert "m.other AS o" in placed["to"]["query"], "what keeps its name, keeps it"
    assert placed["direction"] == "out"
    assert placed["tables"] == NAMES
    assert content["from"]["table"] == "M.A", "the content itself is left as it was"
    elsewhere = {"m.z": RelationName("dev_m.z")}
    assert flow.placed(elsewhere).document["from"]["table"] == "M.A"


def test_a_model_says_what_makes_it_another_one() -> None:
    model = RenderedModel(part=MODEL, sql="SELECT 1 AS x", store=Store.TABLE, key=("x",))
    assert model.document == {
        "sql": "SELECT 1 AS x",
        "store": "table",
        "key": ["x"],
        "checks": {},
    }
    assert not model.is_view
    assert RenderedModel(part=MODEL, sql="", store=Store.VIEW).is_view
    grows = RenderedModel(part=MODEL, sql="", store=Store.INCREMENT, since="at")
    assert (grows.document["since"], grows.document["on_change"]) == ("at", "rebuild")
    keeps = RenderedModel(part=MODEL, sql="", store=Store.INCREMENT, since="at", keeps_rows=True)
    assert keeps.document["on_change"] == "keep"
    assert model.placed(NAMES) is model, "promotions place their own SQL"


def test_a_check_refuses_or_warns() -> None:
    check = PartId(Kind.CHECK, "few")
    refusing = RenderedCheck(part=check, sql="SELECT 1", refuses=True, message="too few")
    assert refusing.document == {"sql": "SELECT 1", "severity": "error", "message": "too few"}
    warning = RenderedCheck(part=check, sql="SELECT 1", refuses=False, message="")
    assert warning.document["severity"] == "warning"


def test_a_script_tells_only_what_is_special_about_it() -> None:
    assert script("0001_a").document == {
        "name": "0001_a",
        "file": "schemas/ops/migrations/0001_a.sql",
        "checksum": "sha256:c",
        "baseline": False,
        "when": "before",
        "sql": "SELECT 1",
    }
    special = script(
        *("0002_b",), undo="DROP", in_transaction=False, takes_up={"t": "d"}, when=When.AFTER
    )
    assert special.document["undo"] == "DROP"
    assert special.document["transaction"] is False
    assert special.document["takes_up"] == {"t": "d"}
    assert special.document["when"] == "after"
    assert special.undo_file == "schemas/ops/migrations/0002_b.undo.sql"


def test_the_scripts_of_a_schema_are_found_by_name() -> None:
    first, last = script("first"), script("last")
    schema = RenderedSchema(
        part=SCHEMA,
        managed=Managed.MIGRATIONS,
        migrations=(script("0001_a"), script("0002_b")),
        before=(first,),
        after=(last,),
    )
    assert schema.migration("0002_b").name == "0002_b"
    assert schema.script(When.BEFORE, "first") is first
    assert schema.script(When.AFTER, "last") is last
    assert schema.scripts == (first, last)
    with pytest.raises(KeyError):
        schema.migration("first")
    for when, name in ((When.BEFORE, "last"), (When.AFTER, "first")):
        with pytest.raises(KeyError):
            schema.script(when, name)
    assert [each["name"] for each in schema.document["migrations"]] == ["0001_a", "0002_b"]
    assert [each["name"] for each in schema.document["before"]] == ["first"]
    assert [each["name"] for each in schema.document["after"]] == ["last"]


def test_a_schema_is_what_manages_it() -> None:
    outside = RenderedSchema(
        part=SCHEMA, managed=Managed.OUTSIDE, tables=(("ops.t", (("id", "INTEGER"),)),)
    )
    assert outside.document == {
        "managed": "outside",
        "tables": [{"name": "ops.t", "columns": [["id", "INTEGER"]]}],
    }
    assert not outside.has_desired_structure
    desired = RenderedSchema(
        part=SCHEMA, managed=Managed.STRUCTURE, desired="CREATE", renames={"a": "b"}
    )
    assert desired.has_desired_structure
    assert (desired.document["wanted"], desired.document["renames"]) == ("CREATE", {"a": "b"})
    assert "migrations" not in desired.document


def test_parts_are_rendered_once_and_only_when_asked_for() -> None:
    asked: list[PartId] = []

    def render(part: PartId) -> Rendered:
        asked.append(part)
        return RenderedDocument(part=part, content={"name": part.name})

    parts = RenderedParts([PIPELINE, FLOW], render, lambda part: Digest(f"recipe of {part.name}"))
    assert len(parts) == 2
    assert list(parts) == [PIPELINE, FLOW]
    assert FLOW in parts
    assert MODEL not in parts
    with pytest.raises(KeyError):
        parts[MODEL]
    assert asked == []
    assert parts[FLOW] is parts[FLOW]
    assert asked == [FLOW]

    parts.recall(PIPELINE, "recipe of nightly", Digest("sha256:recalled"))
    assert parts.digest(PIPELINE) == "sha256:recalled"
    assert asked == [FLOW], "what is recalled need not be rendered"


@pytest.mark.parametrize("recipe", ["", "recipe of another"])
def test_a_digest_by_another_recipe_is_not_recalled(recipe: str) -> None:
    rendered = RenderedDocument(part=PIPELINE, content={})
    parts = RenderedParts([PIPELINE], lambda _: rendered, lambda part: Digest("recipe of nightly"))
    parts.recall(PIPELINE, recipe, Digest("sha256:other"))
    assert parts.digest(PIPELINE) == rendered.digest


def test_a_part_that_is_not_there_is_not_recalled() -> None:
    parts = RenderedParts([PIPELINE], lambda _: None, lambda part: Digest("r"))  # type: ignore[arg-type,return-value]
    parts.recall(FLOW, "r", Digest("sha256:other"))
    with pytest.raises(KeyError):
        parts.digest(FLOW)
