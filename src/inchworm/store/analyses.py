"""The analyses of bundles that were read last, each in a file that is named by its digest."""

from __future__ import annotations

from contextlib import suppress

from inchworm.core.lineage.analysis import Analysis
from inchworm.core.parts import Digest
from inchworm.store.remembered_values import Remembering, recall, remember

FOLDER = ".inchworm/analyses"
MOST = 6
"""The analyses that are remembered: those of the bundles that are on their way somewhere."""


class Analyses:
    """The analyses of a project's bundles.

    Args:
        place: the project's folder, and what seals them.
        stamp: of everything but the bundle's files that an analysis depends on.
    """

    def __init__(self, place: Remembering, stamp: str) -> None:
        self._place = place
        self._stamp = stamp

    def get(self, bundle: Digest) -> Analysis | None:
        """The analysis of a bundle, if it is remembered."""
        return recall(self._place, self._file(bundle), f"{self._stamp} {bundle}", Analysis)

    def put(self, bundle: Digest, analysis: Analysis) -> None:
        """Remember the analysis of a bundle, and forget the oldest if there are too many."""
        remember(self._place, self._file(bundle), f"{self._stamp} {bundle}", analysis)
        with suppress(OSError):
            files = sorted(
                (self._place.root / FOLDER).glob("*.msgpack"), key=lambda file: file.stat().st_mtime
            )
            for file in files[:-MOST]:
                file.unlink()

    @staticmethod
    def _file(bundle: Digest) -> str:
        return f"{FOLDER}/{bundle.removeprefix('sha256:')[:16]}.msgpack"
