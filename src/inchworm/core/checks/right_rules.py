"""Rules about rights in an environment's database, and about what others have on our relations."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping

from msgspec import Struct

from inchworm.core.checks import rules
from inchworm.core.checks.findings import Finding
from inchworm.core.environments.rights import Rights
from inchworm.core.identifiers import PartId, RelationName
from inchworm.core.structure.definitions import Definition, Thing


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


class Ending(Struct, frozen=True, kw_only=True):
    """How a relation ends, so that no other of its kind and name takes its place.

    Attributes:
        how: in words, such as ``which becomes a view``.
        name_stays: whether views that read it can read what then has the name.
        rights_stay: whether its rights go to a successor.
    """

    how: str
    name_stays: bool = False
    rights_stay: bool = True

    def stops(self, thing: Thing) -> bool:
        """Whether something that the relation has stops the promotion."""
        return thing in _SENDING or (self.rights_stay and thing is Thing.POLICY)

    def spares(self, thing: Thing) -> bool:
        """Whether something that the relation has is given to its successor."""
        return self.rights_stay and thing is Thing.RIGHTS


_SENDING = frozenset({Thing.TRIGGER, Thing.PUBLICATION})
"""Things by which others hear of changes in a relation."""


def carried_along(
    rights: Rights,
    attached: Mapping[str, Collection[Definition]],
    replaced: Mapping[RelationName, PartId],
    endings: Mapping[RelationName, Ending],
    altered: Collection[RelationName],
) -> Iterator[Finding]:
    """What stays on a relation although another one takes its place, and what cannot.

    Args:
        rights: with the views that read relations.
        attached: what each relation has, by physical name.
        replaced: the part of each relation that is replaced or removed, by physical name.
        endings: those of them whose kind or name ends.
        altered: relations that migrations alter or drop before.
    """
    own = {owned.upon for owned in rights.owned}
    views: dict[RelationName, list[str]] = {}
    for owned in rights.owned:
        if owned.name not in own and owned.name not in altered:
            views.setdefault(owned.upon, []).append(f"view {owned.name} of {owned.owner}")
    for name, part in replaced.items():
        ending = endings.get(name)
        things, along = attached.get(name, ()), views.get(name, [])
        if ending is None:
            along += [each.short for each in things]
        else:
            stopping = [] if ending.name_stays else along
            stopping += [each.short for each in things if ending.stops(each.thing)]
            if stopping:
                message = f"{', '.join(stopping)}, on {name}, {ending.how}"
                yield rules.CANNOT_CARRY_ALONG.finding(message, part=part)
            along = along if ending.name_stays else []
            along = [*along, *(each.short for each in things if ending.spares(each.thing))]
        if along:
            yield rules.CARRIES_ALONG.finding(f"{', '.join(along)}, on {name}", part=part)
