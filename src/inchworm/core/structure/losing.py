"""What a script takes away of what is live."""

from __future__ import annotations

from enum import Enum

from msgspec import Struct

from inchworm.core.identifiers import RelationName


class Way(Enum):
    """How values go."""

    DROPS = "drops"
    EMPTIES = "empties"
    DELETES = "deletes rows of"
    NARROWS = "changes the type of"


class Loss(Struct, frozen=True, kw_only=True):
    """Something with values that a script takes away.

    Attributes:
        table: the name that the table has before all scripts, ``schema.table``.
        column: that of the column; empty where whole rows go.
        counting: a query in the scripts' dialect that counts the values or rows, where not all go.
        is_of_scripts: whether an earlier script writes to the table, so that what is in it when
            this one runs may be of that.
    """

    way: Way
    table: RelationName
    column: str = ""
    counting: str = ""
    line: int | None = None
    is_of_scripts: bool = False

    @property
    def is_conditional(self) -> bool:
        """True if only some of the rows or values go."""
        return bool(self.counting)

    @property
    def name(self) -> str:
        """The table or column, as ``may_lose`` names it."""
        return f"{self.table}.{self.column}" if self.column else self.table
