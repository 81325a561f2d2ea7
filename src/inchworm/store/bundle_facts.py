"""Facts of the parts of bundles, so that a bundle is not analysed again for each draft.

They are taken from the source tree's as far as they are the same, and those of the bundle that was
drafted last are kept beside them. Facts hold for files by their digests, so it does not matter
whose they were.
"""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING

from inchworm.core.identifiers import PartId
from inchworm.core.lineage.facts_cache import FactsCache
from inchworm.core.lineage.facts_text import read_outline
from inchworm.core.parts import Digest
from inchworm.store.facts import FactsStore

if TYPE_CHECKING:
    from inchworm.core.lineage.facts import Outline

FILE = ".inchworm/bundle_facts.sqlite"


class BundleFacts(FactsCache):
    """The facts of one bundle's parts, from what is remembered of it and of the source tree.

    Args:
        path: the file in which facts of bundles are kept.
        stamp: of everything but files that facts depend on.
        tree: what is remembered of the source tree; it is only read.
    """

    def __init__(self, path: Path, stamp: str, tree: FactsStore) -> None:
        self._own = FactsStore(path, stamp)
        self._tree = tree
        self._from: dict[PartId, tuple[FactsStore, Digest]] = {}
        """Whose facts are those of the bundle's part, and the digest of the part's files."""
        self._is_new = False
        """Whether something is known now that neither of them knew."""
        self.order = self._own.order or tree.order

    def __getitem__(self, part: PartId) -> str:
        store, digest = self._from[part]
        text = store[part]
        if store is self._tree and read_outline(text).digest != digest:
            raise KeyError(part)  # the tree has been read again since, with other files
        return text

    def __setitem__(self, part: PartId, text: str) -> None:
        self._own[part] = text
        self._from[part] = self._own, read_outline(text).digest
        self._is_new = True

    def __delitem__(self, part: PartId) -> None:
        del self._from[part]

    def __iter__(self) -> Iterator[PartId]:
        return iter(self._from)

    def __len__(self) -> int:
        return len(self._from)

    def outline(self, part: PartId) -> Outline | None:
        if part not in self._from:
            return None
        store, digest = self._from[part]
        return store.outline_of(part, digest)

    def outline_of(self, part: PartId, digest: Digest) -> Outline | None:
        for store in (self._tree, self._own):
            outline = store.outline_of(part, digest)
            if outline is not None:
                self._from[part] = store, digest
                return outline
        return None

    def keep(self) -> None:
        """Keep what was not known before."""
        if self._is_new:
            self._own.save({})
