"""A bundle in which some parts are as in other bundles, or left out."""

from __future__ import annotations

from collections.abc import Iterator, Mapping

from inchworm.core.bundle.bundle import Bundle
from inchworm.core.identifiers import PartId
from inchworm.core.parts import Contents, Digest
from inchworm.kinds.registry import part_of


class MixedContents(Contents):
    """The files of a bundle, but for those of some parts.

    Args:
        bundle: the bundle.
        others: the bundle that each of those parts is from; None of one that is left out.
    """

    def __init__(self, bundle: Bundle, others: Mapping[PartId, Bundle | None]) -> None:
        self._where: dict[str, Contents] = {}
        for path in bundle.files:
            if part_of(path) not in others:
                self._where[path] = bundle.files
        by_bundle: dict[str, tuple[Bundle, set[PartId]]] = {}
        for part, other in others.items():
            if other is not None:
                by_bundle.setdefault(other.digest, (other, set()))[1].add(part)
        for other, parts in by_bundle.values():
            for path in other.files:
                if part_of(path) in parts:
                    self._where[path] = other.files

    def __getitem__(self, path: str) -> bytes:
        return self._where[path][path]

    def __iter__(self) -> Iterator[str]:
        return iter(sorted(self._where))

    def __len__(self) -> int:
        return len(self._where)

    def digest(self, path: str) -> Digest:
        return self._where[path].digest(path)
