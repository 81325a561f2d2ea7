"""Changes made by hand to what surrounds a structure, as statements that make them elsewhere."""

from __future__ import annotations

from collections.abc import Iterable

from msgspec.structs import replace

from inchworm.core.identifiers import RelationName
from inchworm.core.sql.spelling import spelled
from inchworm.core.structure.changes import Change
from inchworm.core.structure.definitions import Definition, Difference, Thing, relation_of


def changes_of(differences: Iterable[Difference], dialect: str) -> list[Change]:
    """How to make the same changes elsewhere, in the database's own dialect and names.

    Rights and owners are those of one environment's roles: there is no statement for them.

    Args:
        differences: what was changed.
        dialect: the database's.
    """
    return [
        Change(
            what=f"take over {difference.thing.value}",
            name=difference.name,
            statements=tuple(_statements(difference, dialect)),
        )
        for difference in differences
        if difference.thing.is_surrounding and not is_of_roles(difference)
    ]


def handed_on_to(name: RelationName, definition: Definition, dialect: str) -> Definition:
    """What belongs to a relation, as it is when that has another name.

    Args:
        name: the relation's new name.
        definition: what belongs to it under its former name, in the database's own spelling.
        dialect: the database's.
    """
    from inchworm.core.sql.parse import tokens_of  # the parser: only where it is needed

    former = RelationName(definition.relation)
    own = RelationName(definition.name)
    is_within = own.startswith(former)
    tokens = tokens_of(definition.sql, dialect)
    pieces: list[str] = []
    at = 0
    for schema, dot, table in zip(tokens, tokens[1:], tokens[2:], strict=False):
        if (schema.text, dot.text, table.text) == (former.schema, ".", former.table):
            pieces += [definition.sql[at : schema.start], _spelled(name)]
            at = table.end + 1
    return replace(
        definition,
        name=name + own.removeprefix(former) if is_within else name.renamed(own.table),
        sql="".join([*pieces, definition.sql[at:]]),
        needs=(name,),
    )


def is_of_roles(difference: Difference) -> bool:
    """Whether it is about the roles of one environment."""
    return difference.thing in {Thing.OWNER, Thing.RIGHTS}


def _statements(difference: Difference, dialect: str) -> Iterable[str]:
    if difference.what != "unknown":
        yield from _removal(difference, dialect)
    if difference.thing in {Thing.OPTIONS, Thing.POLICY}:
        yield from filter(None, difference.now.split(";\n"))
    elif difference.now:
        yield difference.now


def _spelled(relation: RelationName) -> str:
    return ".".join(map(spelled, filter(None, (relation.schema, relation.table))))


def _removal(difference: Difference, dialect: str) -> Iterable[str]:
    relation = RelationName(relation_of(difference.thing, difference.name))
    on = _spelled(relation)
    own = difference.name.removeprefix(f"{relation}.")
    match difference.thing:
        case Thing.TRIGGER if dialect == "sqlite":
            yield f"DROP TRIGGER IF EXISTS {spelled(relation.schema)}.{spelled(own)}"
        case Thing.TRIGGER | Thing.POLICY:
            yield f"DROP {difference.thing.value.upper()} IF EXISTS {spelled(own)} ON {on}"
        case Thing.OPTIONS:
            yield f"ALTER TABLE {on} DISABLE ROW LEVEL SECURITY"
            yield f"ALTER TABLE {on} NO FORCE ROW LEVEL SECURITY"
        case Thing.ROUTINE if dialect == "duckdb":
            yield f"DROP MACRO IF EXISTS {difference.name}"
        case Thing.ROUTINE if difference.what == "missing":
            yield f"DROP ROUTINE IF EXISTS {difference.name}"
        case _:
            return  # its statement replaces what is there
