"""Folders behind connections: on this machine, or anywhere that fsspec knows."""

from __future__ import annotations

import datetime as dt
import glob
import hashlib
from collections.abc import Mapping
from pathlib import Path
from typing import TYPE_CHECKING, Any, Self

from msgspec import Struct

from inchworm.core.errors import InchwormError, TargetError
from inchworm.core.running.copying import ListedFile
from inchworm.targets.machine import Machine
from inchworm.targets.secret import Secret

if TYPE_CHECKING:
    from fsspec import AbstractFileSystem

_PIECE = 1024 * 1024
"""Bytes that are read at a time."""

_STAMPS = ("ETag", "etag", "md5Hash", "md5", "mtime", "LastModified", "last_modified", "created")
"""What listings have that changes with a file's content, the surest first."""

_TIMES = ("mtime", "LastModified", "last_modified", "updated", "created")


class UnreadableFile(InchwormError):
    """A file that cannot be taken, though others may be."""


class FilePlace(Struct, frozen=True):
    """A folder, and the files below it."""

    files: AbstractFileSystem
    folder: str
    name: str
    """The address, as it stands in messages."""

    @classmethod
    def of(
        cls, connection: Mapping[str, Any], credentials: Mapping[str, Secret], machine: Machine
    ) -> Self:
        """The folder that a connection leads to.

        Args:
            connection: the rendered connection: a folder, relative to the project, or a URL.
            credentials: handed to the file system as options of these names.
            machine: where the project is.

        Raises:
            TargetError: when there is no such kind of address, or its package is missing.
        """
        from fsspec.core import url_to_fs

        address = str(connection["url"])
        url = address if "://" in address else str(machine.root / address)
        options = {name: secret.reveal() for name, secret in credentials.items()}
        try:
            files, folder = url_to_fs(url, **options)
        except (ValueError, ImportError, TypeError) as error:
            raise TargetError(
                f"files cannot be reached at {address}: {error}",
                next="Write a folder, or a URL of fsspec whose package is installed, with the "
                "credentials that it takes.",
            ) from error
        return cls(files, folder.rstrip("/"), address)

    def listing(self, pattern: str) -> list[ListedFile]:
        """The files that match a pattern, by path; ``**`` stands for any folders.

        Hidden ones are left out: so others, and we, name what is still being written.

        Raises:
            TargetError: when the folder cannot be listed.
        """
        try:
            self.files.invalidate_cache()
            if not self.files.isdir(self.folder):
                raise FileNotFoundError("there is no such folder")
            listed = self.files.glob(f"{glob.escape(self.folder)}/{pattern}", detail=True)
        except Exception as error:
            raise self._unreachable(error) from error
        return [
            self._listed(path, info)
            for path, info in sorted(listed.items())
            if info.get("type") == "file" and not path.rpartition("/")[2].startswith(".")
        ]

    def listed(self, path: str) -> ListedFile:
        """A file as it is listed now.

        Raises:
            UnreadableFile: when it is not there any more.
            TargetError: when the folder cannot be reached.
        """
        try:
            self.files.invalidate_cache()
            full = f"{self.folder}/{path}"
            return self._listed(full, self.files.info(full))
        except Exception as error:
            raise _of_file(error) or self._unreachable(error) from error

    def _listed(self, full: str, info: Mapping[str, Any]) -> ListedFile:
        size = int(info.get("size") or 0)
        written = next((info[key] for key in _TIMES if info.get(key)), None)
        stamps = [str(info[key]) for key in _STAMPS if info.get(key)]
        return ListedFile(
            path=full.removeprefix(f"{self.folder}/"),
            size=size,
            changed_at=_moment(written),
            stamp=f"{size} {' '.join(stamps)}".strip(),
        )

    def fetch(self, path: str, to: Path) -> str:
        """Copy a file to this machine; the SHA-256 of its content, in hexadecimal.

        Raises:
            UnreadableFile: when it is not there any more, or may not be read.
            TargetError: when the folder cannot be reached.
        """
        digest = hashlib.sha256()
        try:
            with self.files.open(f"{self.folder}/{path}", "rb") as source, to.open("wb") as copy:
                while piece := source.read(_PIECE):
                    digest.update(piece)
                    copy.write(piece)
        except Exception as error:
            raise _of_file(error) or self._unreachable(error) from error
        return digest.hexdigest()

    def digest(self, path: str) -> str | None:
        """The SHA-256 of a file's content, in hexadecimal; None when there is no such file.

        Raises:
            TargetError: when it cannot be read.
        """
        digest = hashlib.sha256()
        full = f"{self.folder}/{path}"
        try:
            self.files.invalidate_cache()
            if not self.files.exists(full):
                return None
            with self.files.open(full, "rb") as source:
                while piece := source.read(_PIECE):
                    digest.update(piece)
        except Exception as error:
            raise self._unreachable(error) from error
        return digest.hexdigest()

    def put(self, source: Path, path: str) -> None:
        """Write a file whole: under another name first, so that nobody sees half of it.

        Raises:
            TargetError: when it cannot be written.
        """
        full = f"{self.folder}/{path}"
        folder, _, name = full.rpartition("/")
        beside = f"{folder}/.{name}.partial"
        try:
            self.files.makedirs(folder, exist_ok=True)
            self.files.put_file(str(source), beside)
            self.files.mv(beside, full)
        except Exception as error:
            raise self._unreachable(error) from error

    def _unreachable(self, error: Exception) -> Exception:
        """An error of a file system, whose packages each have their own, in words."""
        if isinstance(error, TargetError):
            return error
        what = str(error) or type(error).__name__
        return TargetError(
            f"the files at {self.name} cannot be reached: {what}",
            next="Check the connection's address and credentials, and its rights there.",
        )


def _of_file(error: Exception) -> UnreadableFile | None:
    """What is wrong with one file; None where it may be the whole folder."""
    if isinstance(error, FileNotFoundError):
        return UnreadableFile("it is not there any more")
    if isinstance(error, PermissionError):
        return UnreadableFile("it may not be read")
    return None


def _moment(written: object) -> str:
    """When a file was written, ISO 8601, UTC; empty where its place does not say."""
    if isinstance(written, (int, float)):
        written = dt.datetime.fromtimestamp(written, dt.UTC)
    if isinstance(written, str):
        try:
            written = dt.datetime.fromisoformat(written)
        except ValueError:
            return ""
    if not isinstance(written, dt.datetime):
        return ""
    zoned = written if written.tzinfo else written.replace(tzinfo=dt.UTC)
    return zoned.astimezone(dt.UTC).isoformat(timespec="seconds")
