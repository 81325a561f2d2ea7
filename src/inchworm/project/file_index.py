"""Which files a project has, and which of them are not what they were."""

from __future__ import annotations

import hashlib
import os
import time
from collections.abc import Iterable, Iterator, Mapping
from pathlib import Path

from inchworm.core.errors import ProjectError, UsageError
from inchworm.core.parts import Contents, Digest, Seen, digest_of
from inchworm.kinds.registry import FOLDERS

LOOKED_AT = (*FOLDERS, "apis", "environments", "parameters")
"""The folders of a project."""

FILES = ("inchworm.toml", "parameters.toml", "sources.toml", "waivers.toml", "people.toml")

_SKIPPED = {"__pycache__", ".ipynb_checkpoints"}
_JUST_NOW = 50_000_000
"""Nanoseconds: a file that changed this shortly before we looked may change again unnoticed, since
file systems count time in steps."""
_UNCERTAIN = -1
_SMALL = 64_000
"""Bytes up to which a file's content is kept after it was read."""


PROJECT_FILE = FILES[0]


def find_root(start: Path) -> Path:
    """The folder of the project that a folder is in.

    Raises:
        UsageError: when neither the folder nor one above it has an ``inchworm.toml``.
    """
    for folder in (start.resolve(), *start.resolve().parents):
        if (folder / PROJECT_FILE).is_file():
            return folder
    raise UsageError(
        f"There is no {PROJECT_FILE} in {start.resolve()} or above it.",
        next="Go into a project, or start one: inchworm new DIR.",
    )


def look(
    root: Path,
    before: Mapping[str, Seen],
    read: dict[str, bytes] | None = None,
    *,
    files: Iterable[str] = FILES,
    folders: Iterable[str] = LOOKED_AT,
) -> dict[str, Seen]:
    """Every file of a project, by path; those that look as they did before are not read.

    Args:
        root: the project's folder.
        before: what the files looked like earlier.
        read: takes up the contents of small files that had to be read.
        files: the files that are looked at in the project's folder itself.
        folders: the folders in it that are looked at.

    Raises:
        ProjectError: when a file cannot be read.
    """
    now = time.time_ns()
    seen: dict[str, Seen] = {}
    for path, state in _states(root, files, folders):
        known = before.get(path)
        looks = (state.st_size, state.st_mtime_ns, state.st_ctime_ns, state.st_ino)
        if known is not None and known[:4] == looks:
            seen[path] = known
            continue
        content = read_file(root, path)
        digest = digest_of(content)
        if read is not None and len(content) <= _SMALL:
            read[path] = content
        if max(state.st_mtime_ns, state.st_ctime_ns) > now - _JUST_NOW:
            looks = (_UNCERTAIN, *looks[1:])
        seen[path] = Seen(*looks, digest)
    return seen


def fingerprint(files: Mapping[str, Seen]) -> str:
    """One short text for all files and their contents."""
    lines = [f"{path} {files[path].digest}" for path in sorted(files)]
    return hashlib.sha256("\n".join(lines).encode()).hexdigest()


def read_file(root: Path, path: str) -> bytes:
    """A file of a project.

    Raises:
        ProjectError: when it cannot be read.
    """
    if (root / path).is_symlink():
        _check_link(root, path)
    try:
        return (root / path).read_bytes()
    except OSError as error:
        raise ProjectError(
            f"cannot be read: {error.strerror}",
            where=path,
            next="Make the file readable, or remove it.",
        ) from error


class TreeContents(Contents):
    """The files of a project on disk, read when they are asked for."""

    def __init__(self, root: Path, files: Mapping[str, Seen], read: dict[str, bytes]) -> None:
        super().__init__({})
        self._root = root
        self._files = files
        self._read = read

    def __getitem__(self, path: str) -> bytes:
        if path in self._read:
            return self._read[path]
        content = read_file(self._root, path) if path in self._files else None
        if content is None:
            raise KeyError(path)
        if digest_of(content) != self._files[path].digest:
            raise ProjectError(
                "changed while it was read.", where=path, next="Run the command again."
            )
        return content

    def __iter__(self) -> Iterator[str]:
        return iter(self._files)

    def __len__(self) -> int:
        return len(self._files)

    def __contains__(self, path: object) -> bool:
        return path in self._files

    def digest(self, path: str) -> Digest:
        return self._files[path].digest


def _states(
    root: Path, files: Iterable[str], folders: Iterable[str]
) -> Iterator[tuple[str, os.stat_result]]:
    for name in files:
        if (root / name).is_symlink():
            _check_link(root, name)
        try:
            yield name, (root / name).stat()
        except FileNotFoundError:
            continue
    for folder in folders:
        yield from _below(root, folder)


def _check_link(root: Path, path: str) -> None:
    """Whether a link leads to a file that anybody sees in the project.

    Raises:
        ProjectError: when it leads out of the project, or to what is hidden in it.
    """
    target = (root / path).resolve()
    inside = target.is_relative_to(root.resolve())
    if inside and not any(p.startswith(".") for p in target.relative_to(root.resolve()).parts):
        return
    where = "to a hidden file" if inside else "out of the project"
    raise ProjectError(
        f"is a link that leads {where}, and would be packed with what it leads to.",
        where=path,
        next="Put a copy of the file there, or remove the link.",
    )


def is_looked_at(path: str) -> bool:
    """Return True if a path would belong to the project, if a file were there."""
    *folders, name = path.split("/")
    if not folders:
        return name in FILES
    hidden = any(part.startswith(".") or part in _SKIPPED for part in (*folders, name))
    return folders[0] in LOOKED_AT and not hidden and not name.endswith((".pyc", "~"))


def check_folder(root: Path, folder: str) -> None:
    """Refuse a folder of the project that is a link: what it leads to belongs to somebody else.

    Raises:
        ProjectError: when it is one.
    """
    if (root / folder).is_symlink():
        raise ProjectError(
            "is a link to a folder, and would be packed with all that it leads to.",
            where=folder,
            next="Put the files into a folder of the project, or remove the link.",
        )


def _below(root: Path, folder: str) -> Iterator[tuple[str, os.stat_result]]:
    if "/" not in folder:
        check_folder(root, folder)
    try:
        entries = sorted(os.scandir(root / folder), key=lambda entry: entry.name)
    except (FileNotFoundError, NotADirectoryError):
        return
    for entry in entries:
        if entry.name.startswith(".") or entry.name in _SKIPPED:
            continue
        path = f"{folder}/{entry.name}"
        if entry.is_dir():
            if not entry.is_symlink():  # which may lead around in a circle
                yield from _below(root, path)
            elif not (root / path).resolve().is_relative_to(root.resolve()):
                check_folder(root, path)
        elif not entry.name.endswith((".pyc", "~")):
            if entry.is_symlink():
                _check_link(root, path)
            try:
                yield path, entry.stat()
            except FileNotFoundError:  # a link to nothing
                raise ProjectError(
                    "cannot be read: it leads to no file",
                    where=path,
                    next="Make the file readable, or remove it.",
                ) from None
