"""Relations that stand beside the live ones: why they do, and how they are named."""

from __future__ import annotations

import hashlib
from collections.abc import Collection
from enum import StrEnum

from msgspec import Struct

from inchworm.core.identifiers import RelationName
from inchworm.core.parts import Digest

_NOT_RECORDED = Digest("")


class Purpose(StrEnum):
    """Why a relation of ours stands beside the live ones."""

    RESERVED = "reserved"
    """Nothing is there yet: a model is going to be built under this name."""
    STAGING = "staging"
    """A model is built in it, before it goes live."""
    REPLACED = "replaced"
    """It was live until a promotion replaced or removed it."""
    SCRATCH = "scratch"
    """A schema in which a promotion tries what it is going to do."""


class Aside(Struct, frozen=True, kw_only=True):
    """A relation beside the live ones, as the bookkeeping records it.

    Attributes:
        name: its physical name.
        of: the physical name of the relation that it stands beside.
        promotion: the key of the promotion that made it.
        digest: of a replaced table, the digest of the rendered model that it was; empty where that
            was not recorded.
    """

    name: RelationName
    purpose: Purpose
    of: RelationName
    promotion: str
    digest: Digest = _NOT_RECORDED


STAGING = "__beside"
"""Ends the name of a staging table, unless something else has that name."""

REPLACED = "__kept"
"""Ends the name of a replaced table, unless something else has that name."""

_LONGEST_NAME = 63
"""Bytes that a table's name may have in every database that we know; PostgreSQL cuts off more."""


def aside(name: RelationName, suffix: str, taken: Collection[str] = ()) -> RelationName:
    """The name of a table beside ``schema.table``, short enough for every database.

    Args:
        name: the table's physical name.
        suffix: what the name ends with.
        taken: physical names that belong to others; then the suffix gets a number.
    """
    candidate = _aside(name, suffix)
    number = 2
    while candidate in taken:
        candidate = _aside(name, f"{suffix}{number}")
        number += 1
    return candidate


def _aside(name: RelationName, suffix: str) -> RelationName:
    table = name.table
    if len((table + suffix).encode()) > _LONGEST_NAME:
        mark = hashlib.sha256(table.encode()).hexdigest()[:8]
        room = _LONGEST_NAME - len(suffix) - len(mark) - 1
        table = f"{table.encode()[:room].decode(errors='ignore')}_{mark}"
    return name.renamed(table + suffix)
