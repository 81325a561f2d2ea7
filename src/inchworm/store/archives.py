"""The archive of a bundle: a zip file, the same bytes whenever it is made, read with suspicion."""

from __future__ import annotations

import io
import json
import zipfile
import zlib
from pathlib import PurePosixPath
from typing import BinaryIO

from inchworm.core.bundle.bundle import (
    MANIFEST,
    MAX_FILE_BYTES,
    MAX_FILES,
    MAX_TOTAL_BYTES,
    Bundle,
    check_bundle,
    manifest_bytes,
)
from inchworm.core.errors import BundleError

#: The earliest time that the zip format knows: the archive must not depend on when it was packed.
_NO_TIME = (1980, 1, 1, 0, 0, 0)


def zip_bytes(bundle: Bundle) -> bytes:
    """The archive: the manifest first, then every file, in order."""
    buffer = io.BytesIO()
    with zipfile.ZipFile(buffer, "w", zipfile.ZIP_DEFLATED) as archive:
        contents = {MANIFEST: manifest_bytes(bundle.manifest), **dict(sorted(bundle.files.items()))}
        for path, content in contents.items():
            entry = zipfile.ZipInfo(path, _NO_TIME)
            entry.compress_type = zipfile.ZIP_DEFLATED
            entry.external_attr = 0o644 << 16
            archive.writestr(entry, content)
    return buffer.getvalue()


def read_bundle(content: BinaryIO, name: str) -> Bundle:
    """Read a bundle, trusting nothing: counts, sizes, paths and digests are checked.

    Args:
        content: the archive.
        name: of its file, for messages.

    Raises:
        BundleError: when it cannot be read or is not what it says.
    """
    try:
        with zipfile.ZipFile(content) as archive:
            _check_entries(archive.infolist(), name)
            contents = {entry.filename: archive.read(entry) for entry in archive.infolist()}
        manifest = json.loads(contents.pop(MANIFEST))
    except KeyError as error:
        raise _unreadable(name, f"there is no {MANIFEST} in it") from error
    except (zipfile.BadZipFile, zlib.error, OSError, ValueError, NotImplementedError) as error:
        raise _unreadable(name, str(error)) from error
    return check_bundle(manifest, contents, name)


def _check_entries(entries: list[zipfile.ZipInfo], file: str) -> None:
    """Refuse what could fill the memory or escape from the folder, before unpacking anything."""
    if len(entries) > MAX_FILES:
        raise _unreadable(file, f"it has more than {MAX_FILES:,} files")
    if sum(entry.file_size for entry in entries) > MAX_TOTAL_BYTES:
        raise _unreadable(file, f"it holds more than {MAX_TOTAL_BYTES:,} bytes")
    seen: set[str] = set()
    for entry in entries:
        name = entry.filename
        pure = PurePosixPath(name)
        if pure.is_absolute() or ".." in pure.parts or "\\" in name or name != str(pure):
            raise _unreadable(file, f"{name!r} is not a path inside a project")
        if name in seen:
            raise _unreadable(file, f"{name} is in it twice")
        if entry.file_size > MAX_FILE_BYTES:
            raise _unreadable(file, f"{name} is larger than {MAX_FILE_BYTES:,} bytes")
        seen.add(name)


def _unreadable(name: str, reason: str) -> BundleError:
    return BundleError(
        f"is not a bundle that can be read: {reason}.",
        where=name,
        next="Take the bundle from where it was packed, or pack the commit again.",
    )
