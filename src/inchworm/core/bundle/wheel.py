"""Wheels of libraries: what ``pip`` installs, in the binary distribution format 1.0 of Python.

The format is that of https://packaging.python.org/en/latest/specifications/binary-distribution-format/
and its metadata are core metadata 2.1. Equal libraries give equal bytes.
"""

from __future__ import annotations

import base64
import hashlib
import io
import re
import zipfile
from collections.abc import Iterable, Mapping

from packaging.utils import canonicalize_name
from packaging.version import InvalidVersion, Version

_TIME = (1980, 1, 1, 0, 0, 0)
"""The time of all files, so that the bytes depend on nothing but what is in them."""

_SNAPSHOT = re.compile(r"(?P<version>.*)-snapshot\.(?P<digest>\w+)")


def wheel_version(version: str) -> str:
    """A bundle's version as Python has versions; a snapshot is a local version.

    Args:
        version: such as ``1.4.0`` or ``1.4.0-snapshot.7b2bf5b9``.
    """
    match = _SNAPSHOT.fullmatch(version)
    public, local = (match["version"], f"snapshot.{match['digest']}") if match else (version, "")
    try:
        known = str(Version(public))
    except InvalidVersion:  # the name of a version that has no order in Python
        known = "0"
        local = ".".join([*re.findall("[A-Za-z0-9]+", public), *filter(None, [local])]).lower()
    return f"{known}+{local}" if local else known


def build_wheel(
    name: str,
    version: str,
    files: Mapping[str, bytes],
    requires: Iterable[str] = (),
    python: str = "",
) -> tuple[str, bytes]:
    """The wheel of one library.

    Args:
        name: of the library, by which it is imported.
        version: of the bundle.
        files: by their path in the wheel, ``riverlib/error.py``.
        requires: packages that it needs, as PEP 508 writes them.
        python: versions of Python that it needs, such as ``>=3.11``; empty for any.

    Returns:
        The name of its file, and the file.
    """
    known = wheel_version(version)
    stem = f"{canonicalize_name(name).replace('-', '_')}-{known}"
    folder = f"{stem}.dist-info"
    metadata = [
        "Metadata-Version: 2.1",
        f"Name: {name}",
        f"Version: {known}",
        *([f"Requires-Python: {python}"] if python else []),
        *(f"Requires-Dist: {each}" for each in requires),
    ]
    tags = ["Wheel-Version: 1.0", "Generator: inchworm", "Root-Is-Purelib: true", f"Tag: {_TAG}"]
    contents = {
        **files,
        f"{folder}/METADATA": _lines(metadata),
        f"{folder}/WHEEL": _lines(tags),
        f"{folder}/top_level.txt": _lines([name]),
    }
    record = [
        *(f"{path},sha256={_digest(content)},{len(content)}" for path, content in contents.items()),
        f"{folder}/RECORD,,",
    ]
    contents[f"{folder}/RECORD"] = _lines(record)
    archive = io.BytesIO()
    with zipfile.ZipFile(archive, "w", zipfile.ZIP_DEFLATED) as wheel:
        for path, content in contents.items():
            entry = zipfile.ZipInfo(path, _TIME)
            entry.compress_type = zipfile.ZIP_DEFLATED
            entry.external_attr = 0o644 << 16
            wheel.writestr(entry, content)
    return f"{stem}-{_TAG}.whl", archive.getvalue()


_TAG = "py3-none-any"


def _lines(lines: Iterable[str]) -> bytes:
    return ("\n".join(lines) + "\n").encode()


def _digest(content: bytes) -> str:
    return base64.urlsafe_b64encode(hashlib.sha256(content).digest()).decode().rstrip("=")
