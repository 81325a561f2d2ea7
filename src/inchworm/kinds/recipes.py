"""The recipe of a rendered part: a digest of everything that it is rendered from."""

from __future__ import annotations

from collections.abc import Mapping

from sqlglot._version import __version__ as _parser

from inchworm.core.identifiers import PartId
from inchworm.core.lineage.facts import Assembly
from inchworm.core.parameters.values import Value
from inchworm.core.parts import Digest, digest_of
from inchworm.core.rendered import canonical

RENDERER_VERSION = 1
"""Raised whenever a part is rendered differently from the same files and values."""


def recipe_of(assembly: Assembly, part: PartId, values: Mapping[str, Value]) -> Digest:
    """The digest of a part's files, its dialect, the values that it uses, and the renderer.

    Raises:
        KeyError: with the name of a parameter that has no value.
    """
    used = {use.parameter for use in assembly.outlines[part].uses}
    pieces = [
        [RENDERER_VERSION, _parser, assembly.dialect],
        assembly.parts[part].digest,
        {name: [values[name].type.value, values[name].text] for name in used},
    ]
    return digest_of(canonical(pieces))
