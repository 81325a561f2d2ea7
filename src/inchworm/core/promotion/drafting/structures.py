"""What a draft says of schemas that are managed by their structure."""

from __future__ import annotations

from collections.abc import Iterator

from inchworm.core.checks import rules
from inchworm.core.checks.environment_rules import is_table_gone
from inchworm.core.checks.findings import Finding, Severity
from inchworm.core.identifiers import Kind, PartId, RelationName, relation
from inchworm.core.promotion.drafting.request import Request
from inchworm.core.structure.definitions import Difference, Thing


def permitted(request: Request) -> Iterator[Finding]:
    """What is said of the changes: what loses data needs a permission, by name."""
    may_lose = set(request.environment.database.may_lose)
    for schema, planned in request.structures:
        yield from planned.findings
        for change in planned.changes:
            for name, rows in zip(change.lost, change.rows, strict=True):
                if name in change.empty:
                    continue
                logical = relation(schema.name, RelationName(name).table)
                table = ".".join(logical.split(".")[:2])
                allowed = not may_lose.isdisjoint({logical, table})
                yield rules.LOSES_DATA.finding(
                    f"{change.what} {change.name} loses {rows} values of {name}",
                    part=schema,
                    file=request.environment.file,
                    severity=Severity.NOTE if allowed else None,
                    remedy="It is listed under may_lose." if allowed else None,
                )


def made_again(request: Request) -> set[str]:
    """Tables that the promotion makes again, by key."""
    by_structure = {
        f"{Thing.TABLE.value} {change.name}"
        for _, planned in request.structures
        for change in planned.changes
        if change.what == "make table"
    }
    return by_structure | {d.key for those in put_back(request).values() for d in those}


def put_back(request: Request) -> dict[PartId, list[Difference]]:
    """Tables that are missing and asked to be made again, by the schema that accounts for them.

    A schema that is managed by its structure gets its tables again by that.
    """
    if not request.put_back:
        return {}
    by_structure = {schema for schema, planned in request.structures if planned.changes}
    missing: dict[PartId, list[Difference]] = {}
    for name, part in request.live.parts.items():
        if name.kind is not Kind.SCHEMA or name in by_structure:
            continue
        differing = request.live.differing(part, request.environment.database)
        tables = [difference for difference in differing if is_table_gone(difference)]
        if tables:
            missing[name] = tables
    return missing


def as_desired(request: Request) -> set[str]:
    """Changes made by hand, by key, that gave a schema the structure which it should have."""
    touched = [
        name
        for _, planned in request.structures
        for change in planned.changes
        for name in change.names
    ]
    schemas = {request.names.schema(schema.name) for schema, _ in request.structures}
    return {
        d.key
        for d in request.live.differences
        if d.schema in schemas
        and not any(name == d.name or name.startswith(f"{d.name}.") for name in touched)
    }
