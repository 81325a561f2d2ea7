"""Statements that make what a schema has, as a database tells them; and how two sets differ."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from enum import StrEnum
from graphlib import CycleError, TopologicalSorter

from msgspec import Struct

from inchworm.core.identifiers import RelationName
from inchworm.core.parts import digest_of
from inchworm.core.sql.problems import SqlProblem
from inchworm.core.structure.shapes import TableShape


class Thing(StrEnum):
    """The kinds of object that a definition makes, in the order in which they are made."""

    TYPE = "type"
    SEQUENCE = "sequence"
    TABLE = "table"
    BELONGING = "belonging"
    """That a sequence belongs to a column, and goes with it."""
    INDEX = "index"
    CONSTRAINT = "constraint"
    """Of a table that is there: a foreign key may need a unique index."""
    ROUTINE = "routine"
    VIEW = "view"
    TRIGGER = "trigger"
    POLICY = "policy"
    PUBLICATION = "publication"
    """That changes of a table's rows are sent to others; asked for by itself, and not watched."""
    OPTIONS = "options"
    OWNER = "owner"
    RIGHTS = "rights"
    COMMENT = "comment"

    @property
    def is_surrounding(self) -> bool:
        """Whether it is no structure: it is watched, and nothing else is worked out from it."""
        return self in _SURROUNDINGS

    @property
    def is_relation(self) -> bool:
        """Whether it is a table or view."""
        return self is Thing.TABLE or self is Thing.VIEW


_SURROUNDINGS = frozenset(
    {
        Thing.ROUTINE,
        Thing.TRIGGER,
        Thing.POLICY,
        Thing.OPTIONS,
        Thing.OWNER,
        Thing.RIGHTS,
    }
)


HANGING = frozenset({Thing.BELONGING, Thing.CONSTRAINT, Thing.INDEX, Thing.COMMENT, Thing.RIGHTS})
"""What belongs to the first relation that it needs: its name alone does not tell which that is."""
"""Things that hang on the relation that they need first."""


class Definition(Struct, frozen=True, kw_only=True):
    """One statement, complete and without a semicolon.

    Attributes:
        thing: what it makes.
        name: of what it makes, with its schema.
        sql: the statement in the database's dialect, every name with its schema.
        needs: names that must be there before, where the database tells; None where it does not.
        is_of_schema: whether a schema part accounts for it, rather than a model.
        shape: of a table, its columns and constraints, where the database tells them apart.
    """

    thing: Thing
    name: str
    sql: str
    needs: tuple[str, ...] | None = ()
    is_of_schema: bool = False
    shape: TableShape | None = None

    @property
    def schema(self) -> str:
        """The schema of what it makes."""
        return RelationName(self.name).schema

    @property
    def key(self) -> str:
        """By which it is known again: ``table ops.gauge``."""
        return f"{self.thing._value_} {self.name}"

    @property
    def short(self) -> str:
        """What it is, to somebody who knows the relation: ``index by_day``, ``rights to maps``."""
        if self.thing is Thing.RIGHTS:
            return f"{self.thing.value} to {self.name.rpartition(' to ')[2]}"
        if self.thing is Thing.OPTIONS:
            return self.thing.value
        return f"{self.thing.value} {self.name.rpartition('.')[2]}"

    @property
    def relation(self) -> str:
        """The table or view that it is, or that it belongs to; of anything else, its own name."""
        if self.thing.is_relation:
            return self.name
        if self.thing in HANGING and self.needs:
            return self.needs[0]
        return relation_of(self.thing, self.name)


def relation_of(thing: Thing, name: str) -> str:
    """The relation that a thing belongs to, as far as its name tells."""
    if thing in {Thing.TRIGGER, Thing.POLICY, Thing.PUBLICATION}:
        return name.rpartition(".")[0]
    if thing is Thing.RIGHTS:
        return name.rpartition(" to ")[0]
    return name


_RANK = {thing: i for i, thing in enumerate(Thing)}


def in_working_order(definitions: Iterable[Definition], dialect: str) -> list[Definition]:
    """Each after what it needs; else by kind and name, so that the order is always the same.

    What needs each other in a circle stays in that order, too. Needs that the database did not tell
    are read from the statements, which are in its dialect.
    """
    by_name: dict[str, list[Definition]] = {}
    everything = sorted(definitions, key=lambda d: (_RANK[d.thing], d.name, d.sql))
    for definition in everything:
        if definition.thing not in HANGING:
            by_name.setdefault(definition.name, []).append(definition)
    at = {id(definition): i for i, definition in enumerate(everything)}
    needs = {
        i: {
            at[id(other)]
            for name in _needs(definition, dialect)
            for other in by_name.get(name, ())
            if other is not definition and _RANK[other.thing] <= _RANK[definition.thing]
        }
        for i, definition in enumerate(everything)
    }
    ordered: list[Definition] = []
    for thing in Thing:
        own = {i for i, definition in enumerate(everything) if definition.thing is thing}
        ordered += [everything[i] for i in _sorted({i: needs[i] & own for i in sorted(own)})]
    return ordered


def _needs(definition: Definition, dialect: str) -> Iterable[str]:
    from inchworm.core.sql.columns import tables_in  # the parser: only where it is needed
    from inchworm.core.sql.parse import parse_statements

    if definition.needs is not None:
        return definition.needs
    try:
        (tree,) = parse_statements(definition.sql, dialect)
    except (SqlProblem, ValueError):
        return ()
    schema = definition.schema
    return [n if "." in n else f"{schema}.{n}" for n in tables_in(tree, dialect)]


def _sorted(needs: Mapping[int, set[int]]) -> Iterator[int]:
    left = {i: set(others) for i, others in needs.items()}
    while True:
        try:
            yield from TopologicalSorter(left).static_order()
            return
        except CycleError as error:
            circle = error.args[1]
            left[circle[1]].discard(circle[0])


class Difference(Struct, frozen=True, kw_only=True):
    """Something that is not what it was.

    Attributes:
        key: ``table ops.gauge``.
        name: ``ops.gauge``.
        what: ``missing``, ``changed`` or ``unknown`` (there, but not put there).
        thing: the kind of thing that it is.
        was, now: the statements.
        is_of_schema: whether a schema part accounts for it, rather than a model.
        relation: the table or view that it is, or that it belongs to.
    """

    key: str
    name: str
    what: str
    thing: Thing = Thing.TABLE
    was: str = ""
    now: str = ""
    is_of_schema: bool = False
    relation: str = ""

    @property
    def schema(self) -> str:
        """The schema in which it is."""
        return RelationName(self.name).schema

    @property
    def word(self) -> str:
        """How it differs, as a sentence says it: ``missing``, ``changed`` or ``new``."""
        return "new" if self.what == "unknown" else self.what

    @property
    def mark(self) -> str:
        """By which the very same difference is known again: what differs, and a digest of it."""
        return f"{self.what} {self.key} {digest_of(self.now.encode())}"


def is_surrounding(thing: Definition | Difference) -> bool:
    """Whether it belongs to the surroundings of structures: all that models have but themselves."""
    return thing.thing.is_surrounding or (not thing.is_of_schema and not thing.thing.is_relation)


def differences(before: Sequence[Definition], after: Sequence[Definition]) -> list[Difference]:
    """The objects that are missing, changed or new, by name.

    What surrounds a table or view that is itself missing or new says nothing more.
    """
    old = {(definition.thing, definition.name): definition for definition in before}
    new = {(definition.thing, definition.name): definition for definition in after}
    pairs = [(old.get(key), new.get(key)) for key in {**old, **new}]
    differing = [(w, n) for w, n in pairs if w is None or n is None or w.sql != n.sql]
    if not differing:  # of thousands of objects, mostly nobody has touched one
        return []
    implied = _relations(before) ^ _relations(after)
    changed: list[Difference] = []
    for was, now in differing:
        known = was or now
        assert known is not None  # it has a name on one side at least
        if known.thing.is_surrounding and known.relation in implied:
            continue
        changed.append(
            Difference(
                key=known.key,
                name=known.name,
                what="unknown" if was is None else "missing" if now is None else "changed",
                thing=known.thing,
                was=was.sql if was else "",
                now=now.sql if now else "",
                is_of_schema=known.is_of_schema,
                relation=(now or known).relation,
            )
        )
    return sorted(changed, key=lambda difference: difference.key)


def _relations(definitions: Iterable[Definition]) -> set[str]:
    return {definition.name for definition in definitions if definition.thing.is_relation}


def script_of(definitions: Iterable[Definition], dialect: str, target: str) -> str:
    """The statements as one script, readable and always the same.

    Args:
        definitions: what it makes.
        dialect: the dialect that they are in.
        target: the dialect of the script. A statement that cannot be told in it stays as it is.
    """
    return "".join(
        f"{_told(d, dialect, target)};\n\n" for d in in_working_order(definitions, dialect)
    )


def _told(definition: Definition, dialect: str, target: str) -> str:
    sql = definition.sql
    laid_out = "\n" in sql or definition.thing not in {Thing.TABLE, Thing.VIEW}
    if dialect == target and laid_out:
        return sql
    from inchworm.core.sql.parse import parse_statements

    try:
        (tree,) = parse_statements(sql, dialect)
        text: str = tree.sql(dialect=target, pretty=True)
        (again,) = parse_statements(text, target)
        same = dialect != target or again == tree
    except (SqlProblem, ValueError):
        return sql
    return text if same else sql
