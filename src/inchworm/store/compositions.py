"""What environments were composed of when they were read last, for those that nobody changed since.

One file for each environment. It is a convenience: what is missing, damaged, or was written by
another version of the program is read anew from the environment, and nothing is said about it.

Thousands of parts are read twenty times as fast as from a database by Python's own pickle. A pickle
names the classes that its objects are of; only the frozen classes of values are taken that a
composition is made of, so that a file that somebody else has written can run nothing.
"""

from __future__ import annotations

import datetime as dt
import io
import pickle
import tempfile
import zlib
from contextlib import suppress
from pathlib import Path
from typing import Any, NamedTuple

from inchworm import __version__
from inchworm.core.identifiers import Kind, PartId, RelationName
from inchworm.core.ledger.entries import Head
from inchworm.core.parts import digest_of
from inchworm.core.promotion.choosing import Hold
from inchworm.core.promotion.composition import (
    CompletedPromotion,
    Composition,
    Interface,
    LivePart,
    Mixture,
    RanMigration,
    SetSchedule,
)
from inchworm.core.running.api_versions import ApiVersion
from inchworm.core.structure.definitions import Definition, Difference, Thing
from inchworm.core.structure.shapes import ColumnShape, TableShape
from inchworm.core.structure.tables import Column, ColumnsByName, Table

FOLDER = ".inchworm/compositions"
_OWNER_ONLY = 0o600


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
        root: the project's folder.
    """

    def __init__(self, root: Path) -> None:
        self._folder = root / FOLDER

    def get(self, environment: str, of: str) -> Remembered | None:
        """What an environment was composed of, if that was read of just this.

        Args:
            environment: its name.
            of: what was read, as text: the database with its state, and how it was reached.
        """
        try:
            header, _, content = self._file(environment).read_bytes().partition(b"\n")
        except OSError:
            return None
        if header != _header(of, content):
            return None
        try:
            read = _Values(io.BytesIO(content)).load()
        except (pickle.UnpicklingError, AttributeError, TypeError, ValueError, EOFError):
            return None
        return read if isinstance(read, Remembered) else None

    def put(self, environment: str, of: str, read: Remembered) -> None:
        """Remember what an environment is composed of, in the place of what it was before.

        That it cannot be remembered is no fault that anybody has to hear of.
        """
        content = pickle.dumps(read, pickle.HIGHEST_PROTOCOL)
        with suppress(OSError):
            self._folder.mkdir(parents=True, exist_ok=True)
            with tempfile.TemporaryDirectory(dir=self._folder) as folder:
                whole = Path(folder, "whole")
                whole.write_bytes(_header(of, content) + b"\n" + content)
                whole.chmod(_OWNER_ONLY)
                whole.replace(self._file(environment))

    def _file(self, environment: str) -> Path:
        return self._folder / f"{environment}.pickle"


_FIELDS = (
    *(ApiVersion, Column, ColumnShape, CompletedPromotion, Composition, Definition, Difference),
    *(Head, Hold, Interface, LivePart, Mixture, PartId, RanMigration, Remembered, SetSchedule),
    *(Table, TableShape),
)
_TAKEN = {
    (each.__module__, each.__qualname__): each
    for each in (*_FIELDS, ColumnsByName, Kind, RelationName, Thing, dt.date)
}
"""The classes of all values that a composition has."""

_LAYOUT = digest_of(repr([(each.__name__, [*each.__annotations__]) for each in _FIELDS]).encode())
"""Another one, once one of the classes gets another field."""


def _header(of: str, content: bytes) -> bytes:
    return digest_of(f"{__version__} {_LAYOUT} {of} {zlib.crc32(content)}".encode()).encode()


class _Values(pickle.Unpickler):
    """Reads values of compositions, and of no other class."""

    def find_class(self, module: str, name: str) -> Any:
        """One of the classes of a composition.

        Raises:
            UnpicklingError: when it is another one.
        """
        try:
            return _TAKEN[module, name]
        except KeyError as error:
            raise pickle.UnpicklingError(f"{module}.{name} is none of a composition") from error
