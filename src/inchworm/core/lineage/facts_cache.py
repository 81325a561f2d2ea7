"""Facts kept between two readings of a project, by part.

Whoever only wants to know whether anything changed imports this and nothing heavier.
"""

from __future__ import annotations

from abc import abstractmethod
from collections.abc import MutableMapping, Sequence
from typing import TYPE_CHECKING

from inchworm.core.identifiers import PartId
from inchworm.core.parts import Digest

if TYPE_CHECKING:
    from inchworm.core.lineage.analysis import Analysis
    from inchworm.core.lineage.facts import Outline

FACTS_VERSION = 18
"""Grows whenever the same files would give other facts than before, so that none are kept."""

UNREADABLE = (ValueError, KeyError, IndexError, TypeError)
"""The errors of reading a text that was not written here."""


class FactsCache(MutableMapping[PartId, str]):
    """Facts as text, by part, from an earlier reading.

    Attributes:
        order: the names of all models so that each came after those that it read.
        keeps_analysis: whether the analysis of all parts is kept as a whole, too: of files that
            never change.
        analysis: that of just the files that are read, where it is kept; the facts of a part are
            then those of its outline there, or none.
    """

    order: Sequence[str] = ()
    keeps_analysis: bool = False
    analysis: Analysis | None = None

    def keep(self) -> None:
        """Have what is new remembered beyond this process, where there is a place for it."""

    @abstractmethod
    def outline(self, part: PartId) -> Outline | None:
        """The outline of a part, if anything is known about it."""

    def outline_of(self, part: PartId, digest: Digest) -> Outline | None:
        """The outline of a part, if it was worked out from files of this digest."""
        outline = self.outline(part)
        return outline if outline is not None and outline.digest == digest else None
