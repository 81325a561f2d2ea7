"""Parts: the deliverable things of a project, and the files that they are made of."""

from __future__ import annotations

import hashlib
from dataclasses import dataclass
from enum import StrEnum
from functools import cached_property
from typing import NewType

from inchworm.core.errors import UsageError

Digest = NewType("Digest", str)
"""``sha256:`` and 64 hexadecimal digits; made by :func:`digest_of` only."""


def digest_of(content: bytes) -> Digest:
    """The digest of some bytes."""
    return Digest("sha256:" + hashlib.sha256(content).hexdigest())


class Kind(StrEnum):
    """The kinds of part, in the order in which a person thinks of data flowing through them."""

    SCHEMA = "schema"
    MODEL = "model"
    CHECK = "check"
    NOTEBOOK = "notebook"
    PIPELINE = "pipeline"
    CONNECTION = "connection"
    FLOW = "flow"
    LIBRARY = "library"
    CONSUMER = "consumer"


@dataclass(frozen=True, order=True)
class PartId:
    """``kind:name``, e.g. ``model:hydro.hourly_level``."""

    kind: Kind
    name: str

    def __str__(self) -> str:
        return f"{self.kind.value}:{self.name}"

    @classmethod
    def parse(cls, text: str) -> PartId:
        """Read ``kind:name``.

        Raises:
            UsageError: when the text has no kind, or one that does not exist.
        """
        kind, colon, name = text.partition(":")
        if not colon or kind not in Kind.__members__.values() or not name:
            kinds = ", ".join(k.value for k in Kind)
            raise UsageError(f"{text!r} is not a part.", next=f"Write kind:name; kinds: {kinds}.")
        return cls(Kind(kind), name)


@dataclass(frozen=True, kw_only=True)
class SourceFile:
    """A file of a part: its path relative to the project, with forward slashes, and its bytes."""

    path: str
    content: bytes

    @cached_property
    def digest(self) -> Digest:
        """Digest of the bytes."""
        return digest_of(self.content)


@dataclass(frozen=True, kw_only=True)
class Part:
    """One deliverable thing with all its files, sorted by path."""

    id: PartId
    files: tuple[SourceFile, ...]

    @cached_property
    def digest(self) -> Digest:
        """Digest over the paths and contents of all files."""
        lines = "\n".join(f"{file.digest} {file.path}" for file in self.files)
        return digest_of(lines.encode())

    @property
    def main(self) -> SourceFile:
        """The file that a message about the whole part points at."""
        return self.files[0]
