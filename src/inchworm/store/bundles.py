"""The bundle store: archives that are never changed once they are there, at any address of fsspec.

What a store must guarantee: nobody ever sees half an archive, and of two packers that put the same
name at once, one wins and the other is told. How that is done depends on the place:

- in a folder, the archive is written beside its name and linked to it: a link fails where there is
  a file already, and a file that is linked is whole;
- where a place writes whole objects and can refuse to overwrite one, it is asked to;
- anywhere else a packer first lays down a claim, and goes on only if it then sees neither another
  claim nor an archive. Of two that overlap, the one that lays its claim down later sees the claim
  or the archive of the other, as long as the place lists what was written. The archive goes under
  a name of its own and is moved.
"""

from __future__ import annotations

import io
import os
import uuid
from pathlib import Path
from typing import TYPE_CHECKING, Any, Protocol

from msgspec import Struct

from inchworm.core.bundle.bundle import Bundle
from inchworm.core.errors import BundleError, ProjectError, UsageError, did_you_mean
from inchworm.safe_files import check_no_link
from inchworm.store.archives import read_bundle, zip_bytes

if TYPE_CHECKING:
    from fsspec import AbstractFileSystem

_REFUSES_TO_OVERWRITE = frozenset({"memory", "s3", "s3a", "gs", "gcs", "abfs", "az"})
"""Protocols of fsspec that write an object whole, and only if there is none, when asked to."""


_ARCHIVE = ".zip"
_WHEEL = ".whl"
_SIGNATURE = ".dsse.json"


class Place(Protocol):
    """Where archives are, each under the name of a file."""

    def names(self, ending: str = _ARCHIVE) -> list[str]:
        """The names of all files with an ending."""
        ...

    def read(self, name: str) -> bytes:
        """The bytes of an archive.

        Raises:
            FileNotFoundError: when it is not there.
        """
        ...

    def create(self, name: str, content: bytes) -> bool:
        """Put an archive there, whole, unless there is one of the name; whether it is ours."""
        ...

    def shown(self, name: str) -> str:
        """Where an archive is, for messages."""
        ...


class Folder(Struct, frozen=True):
    """A folder on this machine."""

    path: Path
    root: Path

    def names(self, ending: str = _ARCHIVE) -> list[str]:
        """The names of all files with an ending."""
        return [p.name for p in self.path.glob(f"*{ending}")] if self.path.is_dir() else []

    def read(self, name: str) -> bytes:
        """The bytes of an archive."""
        return (self.path / name).read_bytes()

    def create(self, name: str, content: bytes) -> bool:
        """Write the archive beside its name, and link it there."""
        check_no_link(self.root, self.path / name)
        self.path.mkdir(parents=True, exist_ok=True)
        partial = self.path / f".{name}.{uuid.uuid4().hex}"
        try:
            with partial.open("xb") as file:
                file.write(content)
                file.flush()
                os.fsync(file.fileno())
            try:
                (self.path / name).hardlink_to(partial)
            except FileExistsError:
                return False
        finally:
            partial.unlink(missing_ok=True)
        return True

    def shown(self, name: str) -> str:
        """The path, relative to the project where it is in there."""
        path = self.path / name
        return str(path.relative_to(self.root) if path.is_relative_to(self.root) else path)


class Remote(Struct, frozen=True):
    """A folder of any file system that fsspec knows."""

    files: AbstractFileSystem
    folder: str
    url: str

    def names(self, ending: str = _ARCHIVE) -> list[str]:
        """The names of all files with an ending."""
        return [name for name in self._listed() if name.endswith(ending)]

    def read(self, name: str) -> bytes:
        """The bytes of an archive."""
        content: bytes = self.files.cat_file(self._path(name))
        return content

    def create(self, name: str, content: bytes) -> bool:
        """Have the place refuse to overwrite, or claim the name first."""
        self.files.makedirs(self.folder, exist_ok=True)
        path = self._path(name)
        if _REFUSES_TO_OVERWRITE.intersection(_protocols(self.files)):
            try:
                self.files.pipe_file(path, content, mode="create")
            except FileExistsError:
                return False
            return True
        mine = f".{name}.claim-{uuid.uuid4().hex}"
        self.files.pipe_file(self._path(mine), b"")
        try:
            claims = [each for each in self._listed() if each.startswith(f".{name}.claim-")]
            if self.files.exists(path):
                return False
            if claims != [mine]:
                raise BundleError(
                    f"somebody else is putting {name} there.",
                    where=self.shown(name),
                    next="Pack again in a moment. If nobody is, delete what begins with "
                    f".{name}.claim- there.",
                )
            partial = self._path(f".{name}.{uuid.uuid4().hex}")
            self.files.pipe_file(partial, content)
            self.files.mv(partial, path)
        finally:
            self.files.rm_file(self._path(mine))
        return True

    def shown(self, name: str) -> str:
        """The address."""
        return f"{self.url.rstrip('/')}/{name}"

    def _listed(self) -> list[str]:
        self.files.invalidate_cache(self.folder)
        if not self.files.isdir(self.folder):
            return []
        return [str(p).rsplit("/", 1)[-1] for p in self.files.ls(self.folder, detail=False)]

    def _path(self, name: str) -> str:
        return f"{self.folder.rstrip('/')}/{name}"


def _protocols(files: AbstractFileSystem) -> tuple[str, ...]:
    protocol: Any = files.protocol
    return (protocol,) if isinstance(protocol, str) else tuple(protocol)


def place_at(address: str, root: Path) -> Place:
    """The place at an address: a folder, relative to ``root``, or any URL that fsspec knows.

    Raises:
        ProjectError: when there is no such kind of address, or its package is missing.
    """
    scheme, separator, _ = address.partition("://")
    if not separator or scheme in {"file", "local"}:
        path = Path(address.partition("://")[2] or address)
        return Folder(path if path.is_absolute() else root / path, root)
    from fsspec.core import url_to_fs

    try:
        files, folder = url_to_fs(address)
    except (ValueError, ImportError) as error:
        raise ProjectError(
            f"bundles cannot be stored at {scheme}://...: {error}",
            where="inchworm.toml",
            next="Write [storage] bundles = a folder, or a URL of fsspec whose package is "
            "installed.",
        ) from error
    return Remote(files, folder, address)


class BundleStore(Struct, frozen=True):
    """The bundles of a project."""

    place: Place

    @classmethod
    def at(cls, address: str, root: Path) -> BundleStore:
        """The store at an address.

        Args:
            address: a folder, relative to the project, or any URL that fsspec knows.
            root: the project's folder.

        Raises:
            ProjectError: when there is no such kind of address, or its package is missing.
        """
        return cls(place_at(address, root))

    def put_wheel(self, name: str, content: bytes) -> str:
        """Keep the wheel of a library beside the bundles, where there is none of that name.

        Returns:
            Where it is, for messages.

        Raises:
            BundleError: when there is one of that name with other content.
        """
        known = name in self.place.names(_WHEEL)
        if (known or not self.place.create(name, content)) and self.place.read(name) != content:
            raise BundleError(
                f"{self.place.shown(name)} exists with other content.",
                next="Remove that file if nobody needs it, and pack again.",
            )
        return self.place.shown(name)

    def put(self, bundle: Bundle) -> tuple[str, Bundle]:
        """Keep a bundle; keeping the same content again changes nothing.

        Returns:
            Where it is, for messages; and the bundle that is there, which may be packed from
            another commit with the same content.

        Raises:
            BundleError: when the version is there with other content.
        """
        file = f"{bundle.name}.zip"
        known = file in self.place.names()
        if known or not self.place.create(file, zip_bytes(bundle)):
            try:
                other = self._read(file)
            except BundleError as error:
                raise BundleError(
                    f"{self.place.shown(file)} is there, and is not this bundle: {error.what}",
                    next="Remove that file if nobody needs it, and pack again.",
                ) from error
            if other.digest != bundle.digest:
                raise BundleError(
                    f"{bundle.name} exists with other content ({other.digest[:19]}, packed from "
                    f"commit {(other.commit or 'none')[:7]}).",
                    where=file,
                    next="A bundle never changes: raise the version in inchworm.toml, and tag it.",
                )
            return self.place.shown(file), other
        return self.place.shown(file), bundle

    def signatures(self, bundle: str) -> list[bytes]:
        """The signatures beside a bundle, each a DSSE envelope as JSON."""
        names = [n for n in self.place.names(_SIGNATURE) if n.startswith(f"{bundle}.")]
        own = [n for n in names if n.removeprefix(f"{bundle}.").count(".") == _SIGNATURE.count(".")]
        return [self.place.read(name) for name in sorted(own)]

    def keep_signature(self, bundle: str, key: str, content: bytes) -> None:
        """Keep a signature beside a bundle, one for each key; the first one stays.

        Args:
            bundle: its name.
            key: a short text that stands for the key.
            content: a DSSE envelope as JSON.
        """
        name = f"{bundle}.{key}{_SIGNATURE}"
        if name not in self.place.names(_SIGNATURE):
            self.place.create(name, content)

    def names(self) -> list[str]:
        """The names of all bundles in the store."""
        listed = (name.removesuffix(".zip") for name in self.place.names())
        return sorted(name for name in listed if not name.startswith("."))

    def get(self, name: str) -> Bundle:
        """The bundle of that name, or in a file at that path, checked; case does not count.

        Raises:
            UsageError: when there is none.
            BundleError: when it is not what it says.
        """
        given = Path(name)
        if given.suffix == ".zip" and given.is_file():
            return read_bundle(io.BytesIO(given.read_bytes()), given.name)
        folded_name = given.name.removesuffix(".zip").lower()
        known = self.names()
        for candidate in known:
            if candidate.lower() == folded_name:
                return self._read(f"{candidate}.zip")
        otherwise = "See inchworm bundles." if known else "Pack one: inchworm pack."
        raise UsageError(
            f"There is no bundle {name}.", next=did_you_mean(given.name, known, otherwise)
        )

    def _read(self, file: str) -> Bundle:
        bundle = read_bundle(io.BytesIO(self.place.read(file)), file)
        if bundle.name != file.removesuffix(_ARCHIVE):
            raise BundleError(
                f"holds {bundle.name}, and not what its name says.",
                where=self.place.shown(file),
                next="Find out who renamed it. Take the bundle from where it was packed, or pack "
                "its commit again.",
            )
        return bundle
