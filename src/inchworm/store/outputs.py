"""Files that steps of runs left, such as executed notebooks; they are kept beside the bundles."""

from __future__ import annotations

from pathlib import Path

from msgspec import Struct

from inchworm.core.errors import BundleError, UsageError
from inchworm.store.bundles import Place, place_at


class Outputs(Struct, frozen=True):
    """The files of runs."""

    place: Place

    @classmethod
    def at(cls, bundles: str, root: Path) -> Outputs:
        """The files beside a bundle store.

        Args:
            bundles: the address of the bundle store.
            root: the project's folder.

        Raises:
            ProjectError: when there is no such kind of address, or its package is missing.
        """
        return cls(place_at(f"{bundles.rstrip('/')}/runs", root))

    def keep(self, name: str, content: bytes) -> str:
        """Keep a file, under a name that nothing has yet; returns that name.

        Raises:
            BundleError: when it cannot be written.
        """
        stem, dot, ending = name.rpartition(".")
        number = 1
        candidate = name
        try:
            while not self.place.create(candidate, content):
                number += 1
                candidate = f"{stem}-{number}{dot}{ending}"
        except OSError as error:
            raise BundleError(
                f"{self.place.shown(name)} cannot be written: {error.strerror or error}.",
                next="Have whoever runs things write beside the bundles.",
            ) from error
        return candidate

    def read(self, name: str) -> bytes:
        """The content of a file.

        Raises:
            UsageError: when it is not there any more.
        """
        try:
            return self.place.read(name)
        except FileNotFoundError as error:
            raise UsageError(
                f"{self.place.shown(name)} is not there.",
                next="It is kept beside the bundles: use the bundle store of whoever ran it.",
            ) from error
