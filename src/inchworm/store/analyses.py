"""The analyses of bundles that were read last, each as a whole.

One file for each bundle, named by its digest. It is a convenience: what is missing, damaged, or was
written by another version of the program is worked out again, and nothing is said about it.
"""

from __future__ import annotations

import tempfile
import zlib
from contextlib import suppress
from pathlib import Path

import msgspec

from inchworm.core.lineage.analysis import Analysis
from inchworm.core.parts import Digest, digest_of

FOLDER = ".inchworm/analyses"
MOST = 6
"""The analyses that are kept: those of the bundles that are on their way somewhere."""


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
        """The analysis of a bundle, if it is kept."""
        try:
            header, _, content = self._file(bundle).read_bytes().partition(b"\n")
            if header == self._header(bundle, content):
                return msgspec.msgpack.decode(content, type=Analysis)
        except (OSError, msgspec.DecodeError):
            pass
        return None

    def put(self, bundle: Digest, analysis: Analysis) -> None:
        """Keep the analysis of a bundle, and let go of the oldest if there are too many.

        That it cannot be kept is no fault that anybody has to hear of.
        """
        content = msgspec.msgpack.encode(analysis, enc_hook=str)  # names know their pieces
        with suppress(OSError):
            self._folder.mkdir(parents=True, exist_ok=True)
            with tempfile.TemporaryDirectory(dir=self._folder) as folder:
                whole = Path(folder, "whole")
                whole.write_bytes(self._header(bundle, content) + b"\n" + content)
                whole.replace(self._file(bundle))
            kept = sorted(self._folder.glob("*.msgpack"), key=lambda file: file.stat().st_mtime)
            for file in kept[:-MOST]:
                file.unlink()

    def _file(self, bundle: Digest) -> Path:
        return self._folder / f"{bundle.removeprefix('sha256:')[:16]}.msgpack"

    def _header(self, bundle: Digest, content: bytes) -> bytes:
        return digest_of(f"{self._stamp} {bundle} {zlib.crc32(content)}".encode()).encode()
