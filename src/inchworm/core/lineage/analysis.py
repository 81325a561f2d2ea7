"""The analysis of a version whose files never change: what a bundle's parts are, as a whole.

Facts of single parts are kept by part, and hold for as long as what they looked up does. To find
that out for thousands of parts takes longer than everything else that a draft of a few changes
does. A bundle has the same files for ever, so the outcome for all of them is kept once more.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import NamedTuple

from msgspec import Struct

from inchworm.core.checks.findings import Finding
from inchworm.core.identifiers import PartId
from inchworm.core.lineage.facts import Outline
from inchworm.core.parts import Contents, Digest, Part, SourceFile


class PartFiles(NamedTuple):
    """The files of a part by their paths, and the digest over them."""

    part: PartId
    paths: tuple[str, ...]
    digest: Digest


class Analysis(Struct, frozen=True, kw_only=True):
    """The parts of a version and their outlines.

    Attributes:
        files: the files of each part.
        order: models so that each comes after those that it reads.
        findings: what is wrong with the parts by themselves.
    """

    files: tuple[PartFiles, ...]
    outlines: tuple[Outline, ...]
    order: tuple[PartId, ...]
    findings: tuple[Finding, ...]

    @classmethod
    def of(
        cls,
        parts: Mapping[PartId, Part],
        outlines: Iterable[Outline],
        order: tuple[PartId, ...],
        findings: tuple[Finding, ...],
    ) -> Analysis:
        """The analysis of parts that were just read."""
        return cls(
            files=tuple(
                PartFiles(id_, tuple(file.path for file in part.files), part.digest)
                for id_, part in parts.items()
            ),
            outlines=tuple(outlines),
            order=order,
            findings=findings,
        )

    def parts(self, contents: Contents) -> dict[PartId, Part]:
        """The parts, with the files that they have in ``contents``."""
        return {
            id_: Part.of(id_, tuple([SourceFile(path, contents) for path in paths]), digest)
            for id_, paths, digest in self.files
        }
