"""Identifiers, each a small frozen type that one function makes and checks.

Names of relations and columns are texts that know their pieces, so that they can be keys of JSON
and of dictionaries; nobody else cuts a name at a dot. A name is logical (as the project says it) or
physical (as one environment's database has it); both are spelled ``schema.table``.
"""

from __future__ import annotations

import re
from enum import StrEnum
from typing import NamedTuple

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


class Kind(StrEnum):
    """The kinds of part, in the order in which a person thinks of data flowing through them."""

    SCHEMA = "schema"
    MODEL = "model"
    CHECK = "check"
    NOTEBOOK = "notebook"
    PIPELINE = "pipeline"
    CONNECTION = "connection"
    FLOW = "flow"
    LIBRARY = "library"
    CONSUMER = "consumer"

    __hash__ = str.__hash__  # that of an enum is slow, and parts are looked up all the time

    @property
    def is_service(self) -> bool:
        """Whether parts of the kind live in a workspace or gateway rather than in a database."""
        return self in _SERVICES

    @property
    def is_of_gateway(self) -> bool:
        """Whether parts of the kind live in the gateway."""
        return self in _GATEWAY


_GATEWAY = frozenset({Kind.CONNECTION, Kind.FLOW})
_SERVICES = _GATEWAY | {Kind.LIBRARY, Kind.NOTEBOOK, Kind.PIPELINE}


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
        kind, colon, name = text.partition(":")
        if not colon or kind not in Kind.__members__.values() or not name:
            kinds = ", ".join(k.value for k in Kind)
            raise UsageError(f"{text!r} is not a part.", next=f"Write kind:name; kinds: {kinds}.")
        return cls(Kind(kind), name)


class Whole(StrEnum):
    """What a step works on when it is not one part."""

    ENVIRONMENT = "environment"
    MODELS = "models"


Subject = PartId | Whole
"""What a step works on."""


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
