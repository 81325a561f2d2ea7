"""What environments were composed of when they were read last, for those that nobody changed since.

One file for each environment; the services are asked each time (decision 0021).
"""

from __future__ import annotations

from contextlib import suppress
from typing import NamedTuple

from inchworm import __version__
from inchworm.core.identifiers import PartId
from inchworm.core.ledger.entries import Head
from inchworm.core.parts import digest_of
from inchworm.core.promotion.composition import (
    Circumstances,
    CompletedPromotion,
    Composition,
    Interface,
    LivePart,
    Mixture,
    RanMigration,
    SetSchedule,
)
from inchworm.core.promotion.holds import Hold
from inchworm.core.running.api_versions import ApiVersion
from inchworm.core.running.pauses import Pause
from inchworm.core.structure.definitions import Definition, Difference
from inchworm.core.structure.shapes import ColumnShape, TableShape
from inchworm.core.structure.tables import Column, Table
from inchworm.store.remembered_values import Remembering, recall, remember

FOLDER = ".inchworm/compositions"
_FORMER = ".pickle"
"""The ending that the files of former versions have."""


class Remembered(NamedTuple):
    """A composition that was read before.

    Attributes:
        composition: what the database had; it has nothing of the services.
        is_for_draft: whether it has all that a draft needs.
    """

    composition: Composition
    is_for_draft: bool


class Compositions:
    """The compositions of a project's environments.

    Args:
        place: the project's folder, and what seals them.
    """

    def __init__(self, place: Remembering) -> None:
        self._place = place

    def get(self, environment: str, of: str) -> Remembered | None:
        """What an environment was composed of, if that was read of just this.

        Args:
            environment: its name.
            of: what was read, as text: the database with its state, and how it was reached.
        """
        return recall(self._place, self._file(environment), _of(of), Remembered)

    def put(self, environment: str, of: str, read: Remembered) -> None:
        """Remember what an environment is composed of, in the place of what it was before."""
        remember(self._place, self._file(environment), _of(of), read)
        with suppress(OSError):
            (self._place.root / self._file(environment)).with_suffix(_FORMER).unlink(
                missing_ok=True
            )

    @staticmethod
    def _file(environment: str) -> str:
        return f"{FOLDER}/{environment}.msgpack"


_FIELDS = (
    *(ApiVersion, Circumstances, Column, ColumnShape, CompletedPromotion, Composition),
    *(Definition, Difference, Head, Hold, Interface, LivePart, Mixture, PartId, Pause),
    *(RanMigration, Remembered, SetSchedule),
    *(Table, TableShape),
)
_LAYOUT = digest_of(repr([(each.__name__, [*each.__annotations__]) for each in _FIELDS]).encode())
"""Another one, once one of the classes gets another field."""


def _of(of: str) -> str:
    """What a composition holds for: what was read, and by which version of the program."""
    return f"{__version__} {_LAYOUT} {of}"
