"""What a draft says of the API versions that a flow answers to side by side."""

from __future__ import annotations

import json

from msgspec.structs import replace

from inchworm.core.checks.findings import Severity
from inchworm.core.identifiers import Kind, PartId
from inchworm.core.promotion.drafting.api_versions import api_versions
from inchworm.core.running.api_versions import ApiVersion
from tests.core.test_drafting import EMPTY, ENVIRONMENT, request

FLOW = PartId(Kind.FLOW, "readings")


def files(version: str) -> dict[str, str]:
    """A project whose flow takes in the level of a gauge, by this version of its API."""
    operation = {
        "operationId": "postReading",
        "requestBody": {
            "content": {
                "application/json": {
                    "schema": {"type": "object", "properties": {"level": {"type": "integer"}}}
                }
            }
        },
        "responses": {"202": {"description": "taken"}},
    }
    api = {
        "openapi": "3.0.3",
        "info": {"title": "Readings", "version": f"{version}.0.0"},
        "paths": {"/": {"post": operation}},
    }
    return {
        "schemas/ops/schema.toml": 'managed = "migrations"\n',
        "schemas/ops/migrations/0001_a.sql": "CREATE TABLE ops.reading (level INTEGER);",
        "apis/readings.json": json.dumps(api),
        "flows/readings.toml": 'direction = "in"\n[from]\napi = "apis/readings.json"\n'
        'operation = "postReading"\n[to]\ntable = "ops.reading"\n[fields]\nlevel = "level"\n',
    }


def put(version: str, *, number: int, is_live: bool = False, column: str = "level") -> ApiVersion:
    document = {"to": {"table": "OPS.reading"}, "fields": {column: "level"}}
    return ApiVersion(
        flow="readings",
        version=version,
        number=number,
        document=json.dumps(document),
        put_at="2026-11-01T00:00:00+00:00",
        is_live=is_live,
    )


def said(
    *versions: ApiVersion, becomes: str | None = "3", keep: int = 2, changed: bool = True
) -> list[tuple[str, Severity, str]]:
    """What the draft of a bundle says, with this version of the API; None for one without it."""
    gateway = replace(ENVIRONMENT.gateway, api_versions=keep)
    live = replace(EMPTY, api_versions=versions)
    made = request(files(becomes) if becomes else {}, live)
    made = replace(made, environment=replace(ENVIRONMENT, gateway=gateway))
    found = list(api_versions(made, {FLOW} if changed else set()))
    assert {each.part for each in found} <= {str(FLOW)}
    return [(each.rule, each.severity, each.message) for each in found]


LIVE_2 = put("2", number=2, is_live=True)
RETIRED, BREAKS = "flow/api-version-retired", "flow/api-version-breaks"


def test_the_live_version_goes_on_as_a_former_one() -> None:
    assert said(LIVE_2) == []
    assert said(LIVE_2, becomes="2", keep=1) == [], "it is the same version"
    assert said() == []


def test_the_oldest_is_retired() -> None:
    oldest = put("1", number=1)
    text = "API version 1 is not answered any more, but 3 and 2; no request has come to it"
    assert said(oldest, LIVE_2) == [(RETIRED, Severity.NOTE, text)]
    used = replace(oldest, requests=2, requested_at="2026-11-26T09:30:00+01:00")
    (rule, severity, message), *_ = said(used, LIVE_2)
    assert (rule, severity) == (RETIRED, Severity.WARNING)
    assert message.endswith("; 2 requests have come to it, the last 2026-11-26 08:30 UTC")
    assert said(oldest, LIVE_2, keep=3) == []


def test_with_one_version_at_a_time_the_former_goes() -> None:
    ((rule, _, message),) = said(LIVE_2, keep=1)
    assert (rule, message.partition(";")[0]) == (
        *(RETIRED,),
        "API version 2 is not answered any more, but 3",
    )


def test_a_flow_that_goes_takes_all_its_versions_along() -> None:
    found = said(put("1", number=1), LIVE_2, becomes=None, changed=False)
    assert [message.partition(";")[0] for _, _, message in found] == [
        "API version 2 is not answered any more",
        "API version 1 is not answered any more",
    ]


def test_a_flow_that_stays_as_it_is_is_not_read() -> None:
    assert said(LIVE_2, becomes="3", keep=1, changed=False) == []


def test_a_former_version_needs_what_it_writes() -> None:
    former = put("2", number=2, is_live=True, column="note")
    assert said(former) == [
        (
            *(BREAKS, Severity.ERROR),
            "API version 2 is still answered, and writes ops.reading.note, which is not in this "
            "bundle",
        )
    ]
    assert said(put("2", number=2, is_live=True, column="LEVEL")) == [], "case does not count"
    gone = replace(former, document=json.dumps({"to": {"table": "ops.other"}, "fields": {}}))
    ((_, _, message),) = said(gone)
    assert message.endswith("and writes ops.other, which is not in this bundle")
