"""Places outside the database that a project declares: files, other servers, other databases.

A query reaches them through functions, and by three-part names. Lineage begins at a declared place.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from fnmatch import fnmatchcase

from msgspec import Struct, field

FILE = "sources.toml"
"""Where a project declares them."""


class Declared(Struct, frozen=True, kw_only=True):
    """The places outside that a project declares.

    Attributes:
        reads: patterns of files and addresses by name; parameters stand as ``${name}``.
        own: names under which queries may call the environment's own database.
        others: names of other databases that queries may read.
    """

    reads: Mapping[str, str] = field(default_factory=dict)
    own: frozenset[str] = frozenset()
    others: frozenset[str] = frozenset()

    def name_of(self, place: str) -> str | None:
        """The name under which a place is declared."""
        if ".." in place.replace("\\", "/").split("/"):
            return None
        for name, pattern in self.reads.items():
            if fnmatchcase(place, pattern):
                return name
        return None


NOTHING_DECLARED = Declared()
Declaring = Callable[[], Declared]
"""Gives what is declared, when it is asked for: few queries need it."""
