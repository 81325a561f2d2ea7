"""Rules about rights in an environment's database, and about what others have on our relations."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping

from inchworm.core.checks import rules
from inchworm.core.checks.findings import Finding
from inchworm.core.environments.rights import Rights
from inchworm.core.identifiers import PartId, RelationName


def check_rights(
    rights: Rights, replaced: Mapping[RelationName, PartId], schemas: Mapping[str, PartId], who: str
) -> Iterator[Finding]:
    """Rights that the promotion would find missing halfway, or that are more than it needs.

    Args:
        rights: of whoever promotes.
        replaced: the part of each relation that is replaced or removed, by physical name.
        schemas: a part that makes something in each schema, by physical name.
        who: whoever promotes, and where.
    """
    if rights.is_superuser:
        yield rules.SUPERUSER.finding(f"{who} is a superuser")
    if not rights.makes_schemas and (replaced or schemas):
        yield rules.MISSING_RIGHT.finding(
            f"{who} may make no schemas, in which the bundle's SQL is tried first",
            remedy="Have this run there, by the owner: GRANT CREATE ON DATABASE, with its name, TO "
            "that role.",
        )
    for schema in sorted(rights.closed_schemas & schemas.keys()):
        message = f"{who} may make nothing in the schema {schema}"
        yield rules.MISSING_RIGHT.finding(
            message,
            part=schemas[schema],
            remedy=f"Have this run there, by the owner: GRANT USAGE, CREATE ON SCHEMA {schema} TO "
            "that role.",
        )
    for owned in rights.owned:
        if owned.upon in replaced and not owned.is_ours:
            reads = "" if owned.name == owned.upon else f", reads {owned.upon}"
            message = f"the {owned.kind} {owned.name} belongs to {owned.owner}{reads}"
            yield rules.MISSING_RIGHT.finding(
                f"{message} and would have to be changed or made again",
                part=replaced[owned.upon],
                remedy=f"Have it made ours, or have us made a member of {owned.owner}: "
                f"GRANT {owned.owner} TO that role.",
            )


def carried_along(
    rights: Rights,
    attached: Mapping[str, Collection[str]],
    replaced: Mapping[RelationName, PartId],
) -> Iterator[Finding]:
    """What stays on a relation although another one takes its place.

    Args:
        rights: with the views that read relations.
        attached: what each relation has, in words, by physical name.
        replaced: the part of each relation that is replaced, by physical name.
    """
    own = {owned.upon for owned in rights.owned}
    views: dict[RelationName, list[str]] = {}
    for owned in rights.owned:
        if owned.name not in own:
            views.setdefault(owned.upon, []).append(f"view {owned.name} of {owned.owner}")
    for name, part in replaced.items():
        listed = views.get(name, [])
        listed += attached.get(name, ())
        if listed:
            yield rules.CARRIES_ALONG.finding(f"{', '.join(listed)}, on {name}", part=part)
