"""The bundle store: a folder of zip files that are never changed once they are there."""

from __future__ import annotations

import io
import json
import os
import zipfile
import zlib
from dataclasses import dataclass
from pathlib import Path, PurePosixPath

from inchworm.core.bundle import (
    MANIFEST,
    MAX_FILE_BYTES,
    MAX_FILES,
    MAX_TOTAL_BYTES,
    Bundle,
    check_bundle,
    manifest_bytes,
)
from inchworm.core.errors import BundleError, UsageError, did_you_mean

#: The earliest time that the zip format knows: the archive must not depend on when it was packed.
_NO_TIME = (1980, 1, 1, 0, 0, 0)


@dataclass(frozen=True)
class BundleStore:
    """Bundles in a folder."""

    folder: Path

    def put(self, bundle: Bundle) -> Path:
        """Keep a bundle; keeping the same content again changes nothing.

        Raises:
            BundleError: when the version is there with other content.
        """
        path = self.folder / f"{bundle.name}.zip"
        if path.exists():
            there = read_bundle(path)
            if there.digest != bundle.digest:
                raise BundleError(
                    f"{bundle.name} exists with other content ({there.digest[:19]}, packed from "
                    f"commit {(there.commit or 'none')[:7]}).",
                    where=path.name,
                    next="A bundle never changes: raise the version in inchworm.toml, and tag it.",
                )
            return path
        self.folder.mkdir(parents=True, exist_ok=True)
        partial = path.with_name(f".{path.name}.{os.getpid()}")
        with partial.open("wb") as file:
            file.write(zip_bytes(bundle))
            file.flush()
            os.fsync(file.fileno())
        partial.replace(path)
        return path

    def names(self) -> list[str]:
        """The names of all bundles in the store."""
        if not self.folder.is_dir():
            return []
        return sorted(p.stem for p in self.folder.glob("*.zip") if not p.name.startswith("."))

    def find(self, name: str) -> Path:
        """The file of a bundle, by its name or by a path; case does not count.

        Raises:
            UsageError: when there is none.
        """
        given = Path(name)
        if given.suffix == ".zip" and given.is_file():
            return given
        wanted = given.name.removesuffix(".zip").lower()
        known = self.names()
        for candidate in known:
            if candidate.lower() == wanted:
                return self.folder / f"{candidate}.zip"
        otherwise = "See inchworm bundles." if known else "Pack one: inchworm pack."
        raise UsageError(
            f"There is no bundle {name}.", next=did_you_mean(given.name, known, otherwise)
        )

    def get(self, name: str) -> Bundle:
        """The bundle of that name, checked.

        Raises:
            UsageError: when there is none.
            BundleError: when it is not what it says.
        """
        return read_bundle(self.find(name))


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


def read_bundle(path: Path) -> Bundle:
    """Read a bundle, trusting nothing: counts, sizes, paths and digests are checked.

    Raises:
        BundleError: when it cannot be read or is not what it says.
    """
    try:
        with zipfile.ZipFile(path) as archive:
            _check_entries(archive.infolist(), path)
            contents = {entry.filename: archive.read(entry) for entry in archive.infolist()}
        manifest = json.loads(contents.pop(MANIFEST))
    except KeyError as error:
        raise _unreadable(path, f"there is no {MANIFEST} in it") from error
    except (zipfile.BadZipFile, zlib.error, OSError, ValueError, NotImplementedError) as error:
        raise _unreadable(path, str(error)) from error
    return check_bundle(manifest, contents, path.name)


def _check_entries(entries: list[zipfile.ZipInfo], path: Path) -> None:
    """Refuse what could fill the memory or escape from the folder, before unpacking anything."""
    if len(entries) > MAX_FILES:
        raise _unreadable(path, f"it has more than {MAX_FILES:,} files")
    if sum(entry.file_size for entry in entries) > MAX_TOTAL_BYTES:
        raise _unreadable(path, f"it holds more than {MAX_TOTAL_BYTES:,} bytes")
    seen: set[str] = set()
    for entry in entries:
        name = entry.filename
        pure = PurePosixPath(name)
        if pure.is_absolute() or ".." in pure.parts or "\\" in name or name != str(pure):
            raise _unreadable(path, f"{name!r} is not a path inside a project")
        if name in seen:
            raise _unreadable(path, f"{name} is in it twice")
        if entry.file_size > MAX_FILE_BYTES:
            raise _unreadable(path, f"{name} is larger than {MAX_FILE_BYTES:,} bytes")
        seen.add(name)


def _unreadable(path: Path, reason: str) -> BundleError:
    return BundleError(
        f"is not a bundle that can be read: {reason}.",
        where=path.name,
        next="Take the bundle from where it was packed, or pack the commit again.",
    )
