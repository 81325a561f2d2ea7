"""Identifiers, each a small frozen type that one function makes and checks.

Names of relations and columns are texts that know their pieces, so that they can be keys of JSON
and of dictionaries; nobody else cuts a name at a dot. A name is logical (as the project says it) or
physical (as one environment's database has it); both are spelled ``schema.table``.
"""

from __future__ import annotations

import re
from enum import StrEnum
from typing import NamedTuple, Self

from inchworm.core.errors import UsageError


class RelationName(str):
    """``schema.table``, of a table or view; the schema is empty where there is none."""

    __slots__ = ()

    @property
    def schema(self) -> str:
        """The schema, up to the first dot."""
        return self.partition(".")[0] if "." in self else ""

    @property
    def table(self) -> str:
        """The name within the schema; it may have dots itself."""
        return self.partition(".")[2] if "." in self else str(self)

    def renamed(self, table: str) -> RelationName:
        """Another relation of the same schema."""
        return relation(self.schema, table)

    def column(self, name: str) -> ColumnName:
        """A column of the relation."""
        return ColumnName(f"{self}.{name}")


class ColumnName(str):
    """``schema.table.column``; what stands behind the last dot is the column."""

    __slots__ = ()

    @property
    def relation(self) -> RelationName:
        """The relation that it is a column of."""
        return RelationName(self.rpartition(".")[0])

    @property
    def column(self) -> str:
        """The column's own name."""
        return self.rpartition(".")[2]


def relation(schema: str, table: str) -> RelationName:
    """The relation of that name in a schema; an empty schema is left out."""
    return RelationName(f"{schema}.{table}" if schema else table)


def relation_named(text: str) -> RelationName:
    """A relation as somebody wrote its logical name: case does not count.

    Raises:
        UsageError: when the text is no ``schema.table``.
    """
    name = RelationName(text.strip().lower())
    if not name.schema or not name.table:
        raise UsageError(f"{text!r} is no table.", next="Write schema.table.")
    return name


class Home(StrEnum):
    """Where parts of a kind live in an environment."""

    DATABASE = "database"
    WORKSPACE = "workspace"
    GATEWAY = "gateway"
    NOWHERE = "nowhere"
    """They are only recorded."""


class Kind(StrEnum):
    """The kinds of part, in the order in which a person thinks of data flowing through them.

    Attributes:
        home: where parts of the kind live.
        delivered: their place in the order in which parts are delivered to services: what others
            need comes first; 0 of kinds that are not delivered.
        is_activated: whether they have to be switched on after they were delivered.
        reaches_outside: whether they carry data to somebody outside.
        is_service: whether they live in a workspace or gateway rather than in a database.
    """

    home: Home
    delivered: int
    is_activated: bool
    reaches_outside: bool
    is_service: bool

    def __new__(
        cls,
        value: str,
        home: Home,
        delivered: int = 0,
        is_activated: bool = False,
        reaches_outside: bool = False,
    ) -> Self:
        """A kind with its traits."""
        kind = str.__new__(cls, value)
        kind._value_ = value
        kind.home = home
        kind.delivered = delivered
        kind.is_activated = is_activated
        kind.reaches_outside = reaches_outside
        kind.is_service = home is Home.WORKSPACE or home is Home.GATEWAY
        return kind

    SCHEMA = "schema", Home.DATABASE
    MODEL = "model", Home.DATABASE
    CHECK = "check", Home.DATABASE
    NOTEBOOK = "notebook", Home.WORKSPACE, 4
    PIPELINE = "pipeline", Home.WORKSPACE, 5
    CONNECTION = "connection", Home.GATEWAY, 1
    FLOW = "flow", Home.GATEWAY, 3, True, True
    LIBRARY = "library", Home.WORKSPACE, 2
    CONSUMER = "consumer", Home.NOWHERE, 0, False, True

    __hash__ = str.__hash__  # that of an enum is slow, and parts are looked up all the time

    @classmethod
    def of(cls, value: str) -> Kind | None:
        """The kind of that name; None when there is none."""
        return _BY_NAME.get(value)

    @classmethod
    def named(cls, value: str) -> Kind:
        """The kind of that name.

        Raises:
            KeyError: when there is none.
        """
        return _BY_NAME[value]


_BY_NAME = {kind.value: kind for kind in Kind}


class PartId(NamedTuple):
    """``kind:name``, e.g. ``model:hydro.hourly_level``."""

    kind: Kind
    name: str

    def __str__(self) -> str:
        return f"{self.kind._value_}:{self.name}"

    @property
    def relation(self) -> RelationName:
        """The logical name of the relation that a model is."""
        return RelationName(self.name.lower())

    @classmethod
    def parse(cls, text: str) -> PartId:
        """Read ``kind:name``.

        Raises:
            UsageError: when the text has no kind, or one that does not exist.
        """
        word, _, name = text.partition(":")
        kind = Kind.of(word)
        if kind is None or not name:
            kinds = ", ".join(k.value for k in Kind)
            raise UsageError(f"{text!r} is not a part.", next=f"Write kind:name; kinds: {kinds}.")
        return cls(kind, name)


class Whole(StrEnum):
    """The subject of a step that does not work on one part."""

    ENVIRONMENT = "environment"
    MODELS = "models"


Subject = PartId | Whole
"""The subject of a step."""


def subject_named(text: str) -> Subject:
    """The subject of a step as the ledger keeps it.

    Raises:
        UsageError: when the text is neither a part nor one of the whole things.
    """
    return Whole(text) if text in Whole.__members__.values() else PartId.parse(text)


_PROMOTION = re.compile(r"[Pp]([1-9]\d{0,8})")


class PromotionId(NamedTuple):
    """A promotion: its number, and the ledger that counted it."""

    ledger: str
    number: int

    def __str__(self) -> str:
        return f"P{self.number}"

    @property
    def key(self) -> str:
        """The promotion's name in a database, where promotions of several ledgers meet."""
        return f"{self.ledger}:{self}"


def promotion_number(text: str) -> int | None:
    """The number of a promotion as somebody wrote its name, ``P12`` or ``p12``; None of others."""
    match = _PROMOTION.fullmatch(text.strip())
    return int(match.group(1)) if match else None


def promotion_key(text: str) -> PromotionId | None:
    """A promotion by its name in a database; None when the text is no such name."""
    ledger, _, name = text.rpartition(":")
    number = promotion_number(name)
    return PromotionId(ledger, number) if ledger and number is not None else None
