"""What changed between two versions, how much it weighs, and whom it affects."""

from __future__ import annotations

from typing import Any

import pytest

from inchworm.core.bundle.api_changes import api_changes
from inchworm.core.bundle.compare import Weight, compare, next_version, weight_of
from inchworm.core.lineage.facts import Assembly
from inchworm.kinds.project_reader import read_project

BASE = {
    "models/hydro/raw.sql": "SELECT 1 AS gauge, CAST(2 AS DOUBLE) AS level",
    "models/hydro/daily.sql": "SELECT gauge, level AS top FROM hydro.raw",
    "models/report/out.sql": "SELECT * FROM hydro.daily",
    "checks/none.sql": "SELECT gauge FROM hydro.raw WHERE gauge > 5",
    "consumers/desk.toml": 'contact = "desk"\n[reads]\n"hydro.raw" = ["gauge"]\n',
    "parameters.toml": '[days]\ntype = "integer"\nevery = 3\n',
}


def assembly(**changed: str | None) -> Assembly:
    """The base with some files changed, added or, where they are None, left out."""
    files = {**BASE, **{name.replace("__", "/"): text for name, text in changed.items()}}
    contents = {path: text.encode() for path, text in files.items() if text is not None}
    return read_project(name="x", version="1.0.0", dialect="duckdb", files=contents).assembly


def changes(before: Assembly, after: Assembly) -> list[str]:
    """Each change in one line: weight, part, what, item, detail, and whom it affects."""
    lines = []
    for each in compare(before, after):
        words = (each.weight.value, str(each.part or "-"), each.what, each.item, each.detail)
        affected = f"-> {', '.join(each.affected)}" if each.affected else ""
        lines.append(" ".join(filter(None, (*words, affected))))
    return lines


def test_schedules_come_go_and_change() -> None:
    def pipeline(**schedules: str) -> dict[str, str]:
        tables = "".join(f'[schedules.{n}]\ncron = "{c}"\n' for n, c in schedules.items())
        return {"pipelines__p.toml": f'[[steps]]\nname = "s"\nbuild = ["hydro.raw"]\n{tables}'}

    before = assembly(**pipeline(night="0 2 * * *", noon="0 12 * * *"))
    after = assembly(**pipeline(night="0 3 * * *", week="0 0 * * 1"))
    said = [line for line in changes(before, after) if " schedule " in line]
    assert said == [
        "minor pipeline:p changed schedule night 0 2 * * * UTC is 0 3 * * * UTC now",
        "minor pipeline:p gone schedule noon 0 12 * * * UTC",
        "minor pipeline:p added schedule week 0 0 * * 1 UTC",
    ]


DAILY = "models__hydro__daily.sql"
RAW = "models__hydro__raw.sql"


@pytest.mark.parametrize(
    ("changed", "said"),
    [
        ({}, []),
        (
            {DAILY: "SELECT gauge FROM hydro.raw"},
            [
                "major model:hydro.daily gone hydro.daily.top -> model:report.out",
                "major model:report.out gone report.out.top",
            ],
        ),
        (
            {DAILY: "SELECT gauge, level AS top, 1 AS more FROM hydro.raw"},
            [
                "minor model:hydro.daily added hydro.daily.more",
                "minor model:report.out added report.out.more",
            ],
        ),
        (
            {RAW: "SELECT 1 AS gauge, CAST(2 AS INTEGER) AS level"},
            [
                "major model:hydro.daily retyped hydro.daily.top DOUBLE is INT now"
                " -> model:report.out",
                "major model:hydro.raw retyped hydro.raw.level DOUBLE is INT now"
                " -> model:hydro.daily, model:report.out",
                "major model:report.out retyped report.out.top DOUBLE is INT now",
            ],
        ),
        (
            {DAILY: "SELECT gauge, level AS top FROM hydro.raw WHERE level > 0"},
            [
                "patch model:hydro.daily changed -> model:report.out, report.out.gauge,"
                " report.out.top"
            ],
        ),
        ({"models__report__out.sql": None}, ["major model:report.out gone"]),
        (
            {DAILY: None, "models__report__out.sql": None},
            [
                "major model:hydro.daily gone -> model:report.out",
                "major model:report.out gone",
            ],
        ),
        ({"models__report__new.sql": "SELECT 1 AS n"}, ["minor model:report.new added"]),
        ({"checks__none.sql": None}, ["major check:none gone"]),
        ({"consumers__desk.toml": None}, ["minor consumer:desk gone"]),
        (
            {"models__report__out.sql": "/*---\nstore = 'table'\n---*/\nSELECT * FROM hydro.daily"},
            ["minor model:report.out changed is a table now"],
        ),
        (
            {"parameters.toml": '[days]\ntype = "integer"\nevery = 4\n'},
            ["patch - changed days every: 3 is 4 now"],
        ),
        (
            {"parameters.toml": '[days]\ntype = "integer"\nprod = 4\n'},
            [
                "patch - changed days every: 3 is nothing now",
                "patch - changed days prod: nothing is 4 now",
            ],
        ),
        (
            {
                "parameters.toml": '[days]\ntype = "text"\nevery = "3"\n'
                '[more]\ntype = "text"\nevery = "x"\n'
            },
            [
                "patch - retyped days integer is text now",
                "patch - changed days every: 3 is 3 now",
                "patch - added more",
            ],
        ),
        ({"parameters.toml": None}, ["patch - gone days"]),
    ],
)
def test_what_changed(changed: dict[str, str | None], said: list[str]) -> None:
    assert changes(assembly(), assembly(**changed)) == said


PROMISING = (
    "/*---\nstore = 'table'\nkey = ['gauge']\n[columns.gauge]\nrequired = true\n"
    "[columns.top]\nclass = 'personal'\nbetween = [0, 9]\n---*/\n"
    "SELECT gauge, level AS top FROM hydro.raw"
)


@pytest.mark.parametrize(
    ("promise", "said"),
    [
        ("between = [0, 9]\n", ["top between 0, 9 is not checked any more"]),
        ("required = true\n", ["gauge required is not checked any more"]),
        ("class = 'personal'\n", ["hydro.daily.top was personal"]),
        (
            "key = ['gauge']\n",
            [
                "hydro.daily was unique by gauge",
                "unique by gauge is not checked any more",
            ],
        ),
    ],
)
def test_what_is_promised_no_longer_is_a_break(promise: str, said: list[str]) -> None:
    before, after = (
        assembly(**{DAILY: text}) for text in (PROMISING, PROMISING.replace(promise, ""))
    )
    assert changes(before, after) == [
        f"major model:hydro.daily loosened {each} -> model:report.out" for each in said
    ]
    back = changes(after, before)
    assert [line.split()[:3] for line in back] == [["patch", "model:hydro.daily", "changed"]]


def test_tables_of_schemas() -> None:
    """Whoever reads them relies on what is required there."""
    name = "schemas__ops__tables.sql"
    settings = {"schemas__ops__schema.toml": 'managed = "outside"'}
    reader = {"models__report__seen.sql": "SELECT id FROM ops.seen"}
    made = "CREATE TABLE ops.seen (id INTEGER NOT NULL, day DATE);"
    before = assembly(**settings, **reader, **{name: made})
    loose = assembly(**settings, **reader, **{name: made.replace(" NOT NULL", "")})
    assert changes(before, loose) == [
        "major schema:ops loosened ops.seen.id was required -> model:report.seen"
    ]
    other = assembly(**settings, **reader, **{name: made.replace("ops.seen", "ops.other")})
    assert changes(before, other)[:2] == [
        "minor schema:ops added ops.other",
        "major schema:ops gone ops.seen -> model:report.seen",
    ]


def test_the_heaviest_change_counts() -> None:
    before = assembly()
    both = compare(
        before, assembly(**{DAILY: "SELECT 1 AS gauge, 2 AS new", "parameters.toml": None})
    )
    assert weight_of(both) is Weight.MAJOR
    assert weight_of([]) is Weight.NONE
    assert weight_of([each for each in both if each.part is None]) is Weight.PATCH


@pytest.mark.parametrize(
    ("weight", "version"),
    [
        (Weight.MAJOR, "2.0.0"),
        (Weight.MINOR, "1.5.0"),
        (Weight.PATCH, "1.4.3"),
        (Weight.NONE, "1.4.2"),
    ],
)
def test_the_next_version(weight: Weight, version: str) -> None:
    assert next_version("1.4.2", weight) == version


# ---- APIs ----------------------------------------------------------------------------------------


def api(
    request: dict[str, Any] | None = None, answer: dict[str, Any] | None = None
) -> dict[str, Any]:
    """An API of one operation, ``POST /n``, with these schemas."""
    operation: dict[str, Any] = {"responses": {"500": {}}}
    if request is not None:
        operation["requestBody"] = {"content": {"application/json": {"schema": request}}}
    if answer is not None:
        content = {"text/plain": {}, "application/problem+json": {"schema": answer}}
        operation["responses"]["201"] = {"content": content}
    return {"paths": {"/n": {"post": operation, "summary": "no operation"}}}


def fields(*required: str, **types: Any) -> dict[str, Any]:
    properties = {n: t if isinstance(t, dict) else {"type": t} for n, t in types.items()}
    return {"type": "object", "properties": properties, "required": list(required)}


A = fields("a", a="string", b="integer")


@pytest.mark.parametrize(
    ("before", "after", "said"),
    [
        (api(A), api(A), []),
        (api(A), {}, ["gone POST /n !"]),
        ({}, api(A), ["added POST /n"]),
        (api(A), api(fields("a", a="string")), ["gone POST /n b of the request !"]),
        (
            api(fields(a="string")),
            api(fields(a="string", b="x")),
            ["added POST /n b to the request"],
        ),
        (
            api(fields(a="string")),
            api(fields(a={"type": ["integer", "null"], "format": "int64"})),
            ["retyped POST /n a string is integer or null (int64) now !"],
        ),
        (
            api(fields(a="string")),
            api(fields("a", a="string")),
            ["required POST /n a of the request is required now !"],
        ),
        (api(fields("a", a="string")), api(fields(a="string")), []),
        (api(None, A), api(None, fields("a", a="string")), ["gone POST /n b of the answer !"]),
        (
            api(None, fields("a", a="string")),
            api(None, fields(a="string")),
            ["loosened POST /n a of the answer was always there !"],
        ),
        (api(None, fields(a="string")), api(None, fields("a", a="string")), []),
        (
            api({"allOf": [A, fields("c", c="string")]}),
            api(fields("a", "c", a="string", b="integer", c="string")),
            [],
        ),
        (api({"type": "array", "items": A}), api(A), []),
        (api(fields(a={})), api(fields(a="object")), []),
        (api(5), api(None), []),  # type: ignore[arg-type]
    ],
)  # fmt: skip
def test_what_changed_in_an_api(
    before: dict[str, Any], after: dict[str, Any], said: list[str]
) -> None:
    lines = [
        " ".join(filter(None, (c.what, c.item, c.detail, "!" if c.breaks else "")))
        for c in api_changes(before, after)
    ]
    assert lines == said


def test_references_into_the_document_are_followed() -> None:
    parts = {"x/y": A, "round": {"$ref": "#/parts/round"}, "text": {"type": "string"}}
    named = api({"$ref": "#/parts/x~1y"}) | {"parts": parts}
    assert list(api_changes(named, api(A))) == []
    lost = api({"$ref": "#/parts/round"}) | {"parts": parts}
    assert [c.item for c in api_changes(api(A), lost)] == ["POST /n a", "POST /n b"]
    outside = api({"$ref": "other.json#/x"})
    assert [c.what for c in api_changes(outside, api(A))] == ["added", "added", "required"]
    inner = api(fields("a", a={"$ref": "#/parts/text"}, b="integer")) | {"parts": parts}
    assert list(api_changes(inner, api(A))) == []


def test_an_answer_has_what_all_successes_have_together() -> None:
    two = api(None, A)
    two["paths"]["/n"]["post"]["responses"]["200"] = {
        "content": {"application/json": {"schema": fields("c", c="string")}}
    }
    said = [(c.what, c.item) for c in api_changes(api(None, A), two)]
    assert said == [("added", "POST /n c"), ("loosened", "POST /n a")]


def test_fields_of_a_flow_come_and_go() -> None:
    """With what its API takes; whoever sends by a field that has gone is affected."""
    flow = {
        "flows__post.toml": 'direction = "out"\n[from]\ntable = "report.out"\n[to]\n'
        'connection = "board"\napi = "apis/board.yaml"\noperation = "post"\n'
        '[fields]\ngauge = "gauge"\n',
        "connections__board.toml": 'kind = "http"\nurl = "http://board.example"\n',
        "apis__board.yaml": "openapi: 3.0.3\ninfo: {title: b, version: '1'}\n"
        "paths: {/: {post: {operationId: post, responses: {'200': {description: ok}}}}}\n",
    }
    before = assembly(**flow)
    more = {**flow, "flows__post.toml": flow["flows__post.toml"] + 'top = "top"\n'}
    after = assembly(**more)
    assert changes(before, after) == ["minor flow:post added field top"]
    assert changes(after, before) == ["major flow:post gone field top"]
