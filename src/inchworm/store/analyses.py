"""The analyses of bundles that were read last, each in a file that is named by its digest."""

from __future__ import annotations

from contextlib import suppress
from pathlib import Path

from inchworm.core.lineage.analysis import Analysis
from inchworm.core.parts import Digest
from inchworm.store.remembered_values import recall, remember

FOLDER = ".inchworm/analyses"
MOST = 6
"""The analyses that are remembered: those of the bundles that are on their way somewhere."""


class Analyses:
    """The analyses of a project's bundles.

    Args:
        root: the project's folder.
        stamp: of everything but the bundle's files that an analysis depends on.
    """

    def __init__(self, root: Path, stamp: str) -> None:
        self._folder = root / FOLDER
        self._stamp = stamp

    def get(self, bundle: Digest) -> Analysis | None:
        """The analysis of a bundle, if it is remembered."""
        return recall(self._file(bundle), f"{self._stamp} {bundle}", Analysis)

    def put(self, bundle: Digest, analysis: Analysis) -> None:
        """Remember the analysis of a bundle, and forget the oldest if there are too many."""
        remember(self._file(bundle), f"{self._stamp} {bundle}", analysis)
        with suppress(OSError):
            files = sorted(self._folder.glob("*.msgpack"), key=lambda file: file.stat().st_mtime)
            for file in files[:-MOST]:
                file.unlink()

    def _file(self, bundle: Digest) -> Path:
        return self._folder / f"{bundle.removeprefix('sha256:')[:16]}.msgpack"
