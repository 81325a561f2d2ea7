"""The version, wherever it stands in a source tree."""

from __future__ import annotations

import re
from pathlib import Path

from inchworm.project.file_index import PROJECT_FILE
from inchworm.safe_files import write_below

_IN_TOML = re.compile(r'^(version\s*=\s*")[^"]*(")', re.MULTILINE)
_IN_OPENAPI = re.compile(r"^(info:\s*\n(?:[ \t]+.*\n)*?[ \t]+version:[ \t]*)[^\s#]+", re.MULTILINE)


def write_version(root: Path, version: str) -> list[str]:
    """Write a version into ``inchworm.toml`` and the OpenAPI documents; returns the files changed.

    Only the version's own characters change: comments and layout stay.
    """
    changed: list[str] = []
    documents = sorted((root / "apis").glob("*.y*ml"))
    for path, pattern, new in [
        (root / PROJECT_FILE, _IN_TOML, rf"\g<1>{version}\g<2>"),
        *((document, _IN_OPENAPI, rf"\g<1>{version}") for document in documents),
    ]:
        text = path.read_bytes().decode("utf-8")  # line ends as they are
        replaced = pattern.sub(new, text, count=1)
        if replaced != text:
            name = path.relative_to(root).as_posix()
            write_below(root, name, replaced.encode("utf-8"))
            changed.append(name)
    return changed
