"""Changes of a structure as a draft shows them and the ledger keeps them."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from enum import StrEnum
from typing import Any

from msgspec import Struct, convert, field, to_builtins
from msgspec.structs import asdict


class Effect(StrEnum):
    """The effect of a change on those who work with the table, and on its rows."""

    SAFE = "safe"
    SLOW = "slow"
    """It reads or writes every row, while others have to wait."""
    LOSES = "loses data"


class Demand(Struct, frozen=True, kw_only=True):
    """A condition for a change to work: ``query`` counts the rows that stand in its way."""

    query: str
    message: str = field(name="said")  # the ledger's name for it
    """What is wrong with those rows."""
    remedy: str = ""
    """What to do about those rows; empty where the rule's own remedy is all there is."""


class Change(Struct, frozen=True, kw_only=True):
    """One change of a structure.

    Attributes:
        what: ``add column``, ``make anew`` ...
        name: the physical name of what it concerns, or several of them, for people.
        statements: how it is done, in order.
        late: whether it waits until models that read what goes have been replaced.
        lost: tables (``ops.gauge``) and columns (``ops.gauge.river``) whose values go with it.
        demands: what must hold for it to work.
        rows: for each that is lost, how many rows have something there: ``about 2,000,000``.
        misfits: for columns that are lost, a query that counts the values which would not fit; if
            there are none, the column is not lost.
        if_fitting: the statements where nothing is lost, if they are others.
        several: the physical names, where there is more than one.
        reshapes: the table or view whose shape another relation's view must not hold on to while
            the change is made; empty where there is none.
    """

    what: str
    name: str
    statements: tuple[str, ...]
    effect: Effect = Effect.SAFE
    late: bool = False
    lost: tuple[str, ...] = ()
    demands: tuple[Demand, ...] = ()
    rows: tuple[str, ...] = ()
    misfits: tuple[tuple[str, str], ...] = ()
    if_fitting: tuple[str, ...] = ()
    several: tuple[str, ...] = ()
    reshapes: str = ""

    @property
    def empty(self) -> tuple[str, ...]:
        """What is lost although nothing was in it."""
        return tuple(n for n, rows in zip(self.lost, self.rows, strict=True) if rows == "0")

    @property
    def names(self) -> tuple[str, ...]:
        """The physical names of everything that it concerns."""
        return self.several or (self.name,)

    def to_json(self) -> dict[str, Any]:
        """The change as the ledger keeps it."""
        return asdict(self) | {"demands": to_builtins(list(self.demands))}

    @classmethod
    def from_json(cls, data: Mapping[str, Any]) -> Change:
        """A change as the ledger kept it."""
        return cls(
            **{
                **data,
                "effect": Effect(data["effect"]),
                "statements": tuple(data["statements"]),
                "lost": tuple(data["lost"]),
                "rows": tuple(data["rows"]),
                "several": tuple(data.get("several", ())),
                "misfits": tuple((name, query) for name, query in data.get("misfits", ())),
                "if_fitting": tuple(data.get("if_fitting", ())),
                "demands": convert(data["demands"], tuple[Demand, ...]),
            }
        )


def late_last(changes: Iterable[Change]) -> list[Change]:
    """Changes in their order, those that are ``late`` behind all others."""
    return sorted(changes, key=lambda change: change.late)


def in_the_way(changes: Iterable[Change]) -> list[str]:
    """The tables and views of which views of others must not hold on to the former shape."""
    return sorted({change.reshapes for change in changes if change.reshapes})


class Alterations(Struct, frozen=True, kw_only=True):
    """How much of a table a database can alter where it stands.

    Attributes:
        changes_columns: whether the type, the default and the requirement of a column can change.
        keys_and_indexes_pin_tables: whether a foreign key or an index keeps a table from being
            altered or dropped, and a default keeps its sequence.
        has_loose_types: whether a column takes values of any type, so that none is lost.
    """

    changes_columns: bool
    keys_and_indexes_pin_tables: bool
    has_loose_types: bool
