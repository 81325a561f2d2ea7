"""Parts: the deliverable things of a project, and the files that they are made of."""

from __future__ import annotations

import hashlib
from collections.abc import Iterator, Mapping
from functools import cached_property
from typing import NamedTuple, NewType

from msgspec import Struct

from inchworm.core.identifiers import PartId

Digest = NewType("Digest", str)
"""``sha256:`` and 64 hexadecimal digits; made by :func:`digest_of` only."""


def digest_of(content: bytes) -> Digest:
    """The digest of some bytes."""
    return Digest("sha256:" + hashlib.sha256(content).hexdigest())


LIBRARY_TESTS = "library/tests/"
"""The folder of the tests of libraries: no part, and in no bundle."""


LIBRARY_PROJECT = "pyproject.toml"
"""The file in a library's folder that says what it needs."""


class Seen(NamedTuple):
    """What a file looked like when it was read.

    Attributes:
        size: bytes.
        changed: time of the last change of its content, in nanoseconds.
        status: time of the last change of its state, in nanoseconds.
        node: its inode.
        digest: of its content.
    """

    size: int
    changed: int
    status: int
    node: int
    digest: Digest


class Contents(Mapping[str, bytes]):
    """Files by path, relative to the project, with forward slashes; held in memory.

    A subclass may know digests without having the files at hand, and fetch those asked for.
    """

    def __init__(self, held: Mapping[str, bytes]) -> None:
        self._held = held
        self._digests: dict[str, Digest] = {}

    def __getitem__(self, path: str) -> bytes:
        return self._held[path]

    def __iter__(self) -> Iterator[str]:
        return iter(self._held)

    def __len__(self) -> int:
        return len(self._held)

    def digest(self, path: str) -> Digest:
        """The digest of one file."""
        digest = self._digests.get(path)
        if digest is None:
            digest = self._digests[path] = digest_of(self[path])
        return digest

    def below(self, folders: tuple[str, ...]) -> Contents:
        """The files of some folders, by the same paths."""
        return _Below(self, [p for p in self if p.partition("/")[0] in folders])


class _Below(Contents):
    def __init__(self, whole: Contents, paths: list[str]) -> None:
        super().__init__(whole)
        self._paths = dict.fromkeys(paths)
        self._whole = whole

    def __getitem__(self, path: str) -> bytes:
        if path not in self._paths:
            raise KeyError(path)
        return self._whole[path]

    def __iter__(self) -> Iterator[str]:
        return iter(self._paths)

    def __len__(self) -> int:
        return len(self._paths)

    def digest(self, path: str) -> Digest:
        return self._whole.digest(path)


class SourceFile(Struct, frozen=True):
    """A file of a part."""

    path: str
    contents: Contents

    @property
    def content(self) -> bytes:
        """The bytes."""
        return self.contents[self.path]

    @property
    def digest(self) -> Digest:
        """Digest of the bytes."""
        return self.contents.digest(self.path)


class Part(Struct, frozen=True, kw_only=True, dict=True):
    """One deliverable thing with all its files, its own first, sorted by path."""

    id: PartId
    files: tuple[SourceFile, ...]

    @classmethod
    def of(cls, id_: PartId, files: tuple[SourceFile, ...], digest: Digest) -> Part:
        """A part of which the digest over its files is known."""
        part = cls(id=id_, files=files)
        part.__dict__["digest"] = digest
        return part

    @cached_property
    def digest(self) -> Digest:
        """Digest over the paths and contents of all files."""
        lines = "\n".join(f"{file.digest} {file.path}" for file in self.files)
        return digest_of(lines.encode())

    @property
    def main(self) -> SourceFile:
        """The file that a message about the whole part points at."""
        return self.files[0]
