"""The archive of a bundle: a zip file, the same bytes whenever it is made, read with suspicion."""

from __future__ import annotations

import io
import re
import zipfile
import zlib
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from typing import BinaryIO

import msgspec

from inchworm.core.bundle.bundle import (
    MANIFEST,
    MAX_FILE_BYTES,
    MAX_FILES,
    MAX_MANIFEST_BYTES,
    MAX_TOTAL_BYTES,
    SEAL,
    Bundle,
    check_bundle,
    manifest_bytes,
    seal_bytes,
)
from inchworm.core.errors import BundleError
from inchworm.core.parts import digest_of

#: The earliest time that the zip format knows: the archive must not depend on when it was packed.
_PLAIN_PATH = re.compile(r"[^/\\\x00]+(?:/[^/\\\x00]+)*")
"""A relative path with forward slashes; its pieces may not be dots alone."""
_DOTS = frozenset({".", ".."})
_MOST_PACKED = 200
"""How many bytes one packed byte may become at most: text rarely becomes more than twenty."""
_ALWAYS_TAKEN = 1024 * 1024
"""Bytes of a file that are taken however tightly they are packed."""
_NO_TIME = (1980, 1, 1, 0, 0, 0)


def zip_bytes(bundle: Bundle) -> bytes:
    """The archive: the manifest and its seal first, then every file, in order."""
    buffer = io.BytesIO()
    with zipfile.ZipFile(buffer, "w", zipfile.ZIP_DEFLATED) as archive:
        manifest = manifest_bytes(bundle.manifest)
        own = {MANIFEST: manifest, SEAL: seal_bytes(manifest)}
        contents = {**own, **dict(sorted(bundle.files.items()))}
        for path, content in contents.items():
            entry = zipfile.ZipInfo(path, _NO_TIME)
            entry.compress_type = zipfile.ZIP_DEFLATED
            entry.external_attr = 0o644 << 16
            archive.writestr(entry, content)
    return buffer.getvalue()


def read_bundle(content: BinaryIO, name: str) -> Bundle:
    """Read a bundle, trusting nothing: counts, sizes, paths and digests are checked.

    What its manifest lists is held against the bundle's digest now, and each file against the
    manifest when it is read; :meth:`~inchworm.core.bundle.bundle.Bundle.verify` reads them all.

    Args:
        content: the archive; it is kept open as long as the bundle is used.
        name: of its file, for messages.

    Raises:
        BundleError: when it cannot be read or is not what it says.
    """
    with _readable(name):
        _check_directory(content, name)
        archive = zipfile.ZipFile(content)
        entries = {entry.filename: entry for entry in archive.infolist()}
        _check_entries(archive.infolist(), name)
        manifest_text = archive.read(entries.pop(MANIFEST))
        if archive.read(entries.pop(SEAL)) != seal_bytes(manifest_text):
            raise _unreadable(name, f"{MANIFEST} was altered after packing")
        manifest = msgspec.json.decode(manifest_text)
        sizes = {path: entry.file_size for path, entry in entries.items()}
        seal = digest_of(manifest_text)
        return check_bundle(manifest, _Packed(archive, entries, name), name, sizes, seal)


class _Packed(Mapping[str, bytes]):
    """The files in an archive, each unpacked when it is asked for."""

    def __init__(
        self, archive: zipfile.ZipFile, entries: Mapping[str, zipfile.ZipInfo], name: str
    ) -> None:
        self._archive = archive
        self._entries = entries
        self._name = name

    def __getitem__(self, path: str) -> bytes:
        entry = self._entries[path]
        with _readable(self._name):
            return self._archive.read(entry)

    def __iter__(self) -> Iterator[str]:
        return iter(self._entries)

    def __len__(self) -> int:
        return len(self._entries)


@contextmanager
def _readable(name: str) -> Iterator[None]:
    """Errors of the archive's library, as one that says that the archive is damaged."""
    try:
        yield
    except KeyError as error:
        raise BundleError(
            f"is not a bundle that can be read: there is no {error.args[0]} in it.",
            where=name,
            next="Take the bundle from where it was packed. If a former version packed it, remove "
            "it and pack its commit again: the same content has the same digest.",
        ) from error
    except (zipfile.BadZipFile, zlib.error, OSError, ValueError, NotImplementedError) as error:
        raise _unreadable(name, str(error)) from error
    except (EOFError, RuntimeError) as error:  # cut off, or encrypted
        raise _unreadable(name, str(error) or "it is cut off") from error


def _check_directory(content: BinaryIO, file: str) -> None:
    """Refuse an archive by the size of its directory, before the library reads all of that.

    The end of the directory tells its size (APPNOTE 4.3.16), of a large archive the record that
    stands before it (4.3.14).
    """
    size = content.seek(0, io.SEEK_END)
    content.seek(max(0, size - _LONGEST_END))
    end = content.read(_LONGEST_END)
    content.seek(0)
    at = end.rfind(b"PK\5\6")
    sizes = [int.from_bytes(end[at + 12 : at + 16], "little")] if at >= 0 else []
    large = end.rfind(b"PK\6\6")
    sizes += [int.from_bytes(end[large + 40 : large + 48], "little")] if large >= 0 else []
    known = [each for each in sizes if each != 0xFFFFFFFF]
    if not known or max(known) > _LARGEST_DIRECTORY:
        raise _unreadable(file, "its directory of files is missing, or too large")


_LONGEST_END = 65_535 + 22 + 20 + 56
"""Bytes of the end of a directory at most: a comment, the end, its locator and its large form."""

_LARGEST_DIRECTORY = 64 * 1024 * 1024
"""Bytes of a directory: 200,000 files with long paths."""


def _check_entries(entries: list[zipfile.ZipInfo], file: str) -> None:
    """Refuse what could fill the memory or escape from the folder, before unpacking anything."""
    if len(entries) > MAX_FILES:
        raise _unreadable(file, f"it has more than {MAX_FILES:,} files")
    if sum(entry.file_size for entry in entries) > MAX_TOTAL_BYTES:
        raise _unreadable(file, f"it holds more than {MAX_TOTAL_BYTES:,} bytes")
    seen: set[str] = set()
    for entry in entries:
        name = entry.filename
        if not _PLAIN_PATH.fullmatch(name) or not _DOTS.isdisjoint(name.split("/")):
            raise _unreadable(file, f"{name!r} is not a path inside a project")
        if name in seen:
            raise _unreadable(file, f"{name} is in it twice")
        most = MAX_MANIFEST_BYTES if name == MANIFEST else MAX_FILE_BYTES
        if entry.file_size > most:
            raise _unreadable(file, f"{name} is larger than {most:,} bytes")
        if entry.file_size > _ALWAYS_TAKEN + entry.compress_size * _MOST_PACKED:
            raise _unreadable(file, f"{name} is packed so tightly that it looks like a trap")
        if entry.compress_type not in {zipfile.ZIP_STORED, zipfile.ZIP_DEFLATED}:
            raise _unreadable(file, f"{name} is compressed in a way that bundles never are")
        seen.add(name)


def _unreadable(name: str, reason: str) -> BundleError:
    return BundleError(
        f"is not a bundle that can be read: {reason}.",
        where=name,
        next="Take the bundle from where it was packed, or pack the commit again.",
    )
