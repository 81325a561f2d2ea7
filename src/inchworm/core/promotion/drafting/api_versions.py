"""What a promotion makes of the API versions that flows answer to side by side."""

from __future__ import annotations

import json
from collections import defaultdict
from collections.abc import Container, Iterator, Mapping, Sequence

from msgspec.structs import replace

from inchworm.core.checks import rules
from inchworm.core.checks.findings import Finding, Severity
from inchworm.core.identifiers import Kind, PartId
from inchworm.core.promotion.drafting.request import Request
from inchworm.core.rendered import RenderedDocument
from inchworm.core.running.api_versions import ApiVersion, answered, version_of


def api_versions(request: Request, changed: Container[PartId]) -> Iterator[Finding]:
    """Findings about the versions of APIs that are answered no more, or that cannot go on.

    Args:
        request: what the draft is made from.
        changed: the parts that do not stay as they are; any other flow need not be rendered.
    """
    by_flow: dict[str, list[ApiVersion]] = defaultdict(list)
    for each in request.live.api_versions:
        by_flow[each.flow].append(each)
    for name, versions in by_flow.items():
        part = PartId(Kind.FLOW, name)
        yield from _of_flow(request, part, versions, is_changed=part in changed)


def _of_flow(
    request: Request, part: PartId, versions: Sequence[ApiVersion], *, is_changed: bool
) -> Iterator[Finding]:
    keep = request.environment.gateway.api_versions
    live = next((each.version for each in versions if each.is_live), "")
    becomes = live if part in request.assembly.parts else ""
    if becomes and is_changed:
        rendered = request.rendered[part]
        assert isinstance(rendered, RenderedDocument)
        becomes = version_of(rendered.content)
    before = answered(versions, live, keep)
    after = answered(_with(versions, becomes), becomes, keep)
    names = {each.version for each in after}
    for gone in (each for each in before if each.version not in names):
        beside = " and ".join(each.version for each in after)
        yield rules.API_VERSION_RETIRED.finding(
            f"API version {gone.version} is not answered any more"
            f"{f', but {beside}' if beside else ''}; {gone.usage}",
            part=part,
            severity=None if gone.requests else Severity.NOTE,
        )
    for former in after[1:]:
        missing = _missing(request, json.loads(former.document))
        if missing:
            yield rules.API_VERSION_BREAKS.finding(
                f"API version {former.version} is still answered, and writes {missing}", part=part
            )


def _with(versions: Sequence[ApiVersion], version: str) -> list[ApiVersion]:
    """The versions once a version is put; one that is new has the highest number."""
    if not version or any(each.version == version for each in versions):
        return list(versions)
    latest = max(versions, key=lambda each: each.number)
    return [*versions, replace(latest, version=version, number=latest.number + 1, requests=0)]


def _missing(request: Request, document: Mapping[str, object]) -> str:
    """What a former version writes and is not in the bundle, in words; empty where all is."""
    to, fields = document["to"], document["fields"]
    assert isinstance(to, dict)
    assert isinstance(fields, dict)
    name = str(to["table"]).lower()
    table = request.assembly.tables.get(name)
    if table is None:
        return f"{name}, which is not in this bundle"
    gone = [column for column in fields if column.lower() not in table.by_name]
    if table.open or not gone:
        return ""
    return f"{name}.{gone[0]}, which is not in this bundle"
