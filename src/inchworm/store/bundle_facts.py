"""Facts of the parts of bundles, so that a bundle is not analysed again for each draft.

They are taken from the source tree's as far as they are the same, and those of the bundle that was
drafted last are kept beside them. Facts hold for files by their digests, so it does not matter
whose they were. What reading a whole bundle came to is kept as well.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import suppress
from functools import cached_property
from typing import TYPE_CHECKING

from inchworm.core.identifiers import PartId
from inchworm.core.lineage.facts_cache import FactsCache
from inchworm.core.lineage.facts_text import read_outline
from inchworm.core.parts import Digest
from inchworm.store.analyses import Analyses
from inchworm.store.facts import FactsStore
from inchworm.store.remembered_values import Remembering

if TYPE_CHECKING:
    from inchworm.core.lineage.facts import Outline

FILE = ".inchworm/bundle_facts.sqlite"


class BundleFacts(FactsCache):
    """The facts of one bundle's parts, from what is remembered of it and of the source tree.

    Args:
        place: the project's folder, and what seals them.
        stamp: of everything but files that facts depend on.
        tree: what is remembered of the source tree; it is only read.
        bundle: the digest of the bundle; None where some parts are as in others.
    """

    def __init__(
        self, place: Remembering, stamp: str, tree: FactsStore, bundle: Digest | None = None
    ) -> None:
        self._own = FactsStore(place, FILE, stamp)
        self._tree = tree
        self._from: dict[PartId, tuple[FactsStore, Digest]] = {}
        """Whose facts are those of the bundle's part, and the digest of the part's files."""
        self._is_new = False
        """Whether something is known now that neither of them knew."""
        self._analyses = Analyses(place, stamp)
        self._bundle = bundle
        self._kept = None if bundle is None else self._analyses.get(bundle)
        self.keeps_analysis = bundle is not None
        self.analysis = self._kept

    @cached_property
    def order(self) -> Sequence[str]:  # type: ignore[override]  # fetched when it is asked for
        """The names of all models so that each came after those that it read."""
        return self._own.order or self._tree.order

    @cached_property
    def _kept_outlines(self) -> dict[PartId, Outline]:
        """The outlines of the analysis that was kept."""
        return {outline.part: outline for outline in self._kept.outlines} if self._kept else {}

    def __getitem__(self, part: PartId) -> str:
        if part not in self._from:
            return self._of_kept(part)
        store, digest = self._from[part]
        text = store[part]
        if store is self._tree and read_outline(text).digest != digest:
            raise KeyError(part)  # the tree has been read again since, with other files
        return text

    def _of_kept(self, part: PartId) -> str:
        """The facts of a part of the analysis that was kept, where they still are anywhere."""
        outline = self._kept_outlines[part]
        for store in (self._tree, self._own):
            with suppress(KeyError):
                text = store[part]
                if read_outline(text) == outline:
                    return text
        raise KeyError(part)

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
        if self._bundle is not None and self.analysis is not None and self._kept is None:
            self._analyses.put(self._bundle, self.analysis)
