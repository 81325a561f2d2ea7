"""The recipe of a rendered part: a digest of everything that it is rendered from."""

from __future__ import annotations

import re
from collections.abc import Mapping
from functools import cache
from importlib.util import find_spec
from pathlib import Path

from inchworm.core.identifiers import PartId, RelationName
from inchworm.core.lineage.facts import Assembly
from inchworm.core.parameters.values import Value
from inchworm.core.parts import Digest, digest_of
from inchworm.core.rendered import canonical

RENDERER_VERSION = 3
"""Raised whenever a part is rendered differently from the same files and values."""


@cache
def parser_version() -> str:
    """The version of the parser that renders SQL, told without importing it."""
    parser = find_spec("sqlglot")
    file = Path(parser.origin).with_name("_version.py") if parser and parser.origin else None
    text = file.read_text() if file is not None and file.exists() else ""
    match = re.search(r"^__version__ = version = ['\"]([^'\"]+)", text, re.MULTILINE)
    if match:
        return match.group(1)
    from importlib.metadata import version  # takes as long to import as all of ours

    return version("sqlglot")


def recipe_of(
    assembly: Assembly,
    part: PartId,
    values: Mapping[str, Value],
    tables: Mapping[str, RelationName] | None = None,
) -> Digest:
    """The digest of a part's files, its dialect, the values that it uses, and the renderer.

    Args:
        assembly: all parts.
        part: the one that is rendered.
        values: the environment's values.
        tables: by logical name, its tables that have another name in the environment.

    Raises:
        KeyError: with the name of a parameter that has no value.
    """
    used = {use.parameter for use in assembly.outlines[part].uses}
    pieces = [
        _renderer(assembly.dialect),
        b'"%s"' % assembly.parts[part].digest.encode(),  # as JSON, of thousands of parts
        canonical({name: [values[name].type.value, values[name].text] for name in used})
        if used
        else b"{}",  # of thousands of parts, most use none
    ]
    if tables:
        pieces.append(canonical(dict(tables)))
    return digest_of(b"[" + b",".join(pieces) + b"]")


@cache
def _renderer(dialect: str) -> bytes:
    return canonical([RENDERER_VERSION, parser_version(), dialect])
