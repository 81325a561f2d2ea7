"""The analysis of a version, kept as a whole, gives its parts back."""

from __future__ import annotations

from inchworm.core.identifiers import Kind, PartId
from inchworm.core.lineage.analysis import Analysis
from inchworm.core.lineage.facts import Facts, outline_of
from inchworm.core.parts import Contents, Part, SourceFile, digest_of


def test_parts_come_back_with_their_files() -> None:
    """And with the digests that they had, which are not worked out again."""
    contents = Contents({"models/m/a.sql": b"SELECT 1", "models/m/b.sql": b"SELECT 2"})
    ids = [PartId(Kind.MODEL, "m.a"), PartId(Kind.MODEL, "m.b")]
    parts = {
        id_: Part(id=id_, files=(SourceFile(path, contents),))
        for id_, path in zip(ids, contents, strict=True)
    }
    outlines = [
        outline_of(Facts(part=id_), file="", digest=part.digest, saw={}, tables={}, findings=())
        for id_, part in parts.items()
    ]
    analysis = Analysis.of(parts, iter(outlines), tuple(reversed(ids)), ())
    assert analysis.outlines == tuple(outlines)
    assert (analysis.order, analysis.findings) == (tuple(reversed(ids)), ())
    again = analysis.parts(contents)
    assert list(again) == ids
    for id_, part in again.items():
        assert (part.id, part.main.content, part.digest) == (
            id_,
            parts[id_].main.content,
            parts[id_].digest,
        )
    other = analysis.parts(Contents(dict.fromkeys(contents, b"SELECT 3")))
    assert other[ids[0]].digest == parts[ids[0]].digest != digest_of(b"SELECT 3")
