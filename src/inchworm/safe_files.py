"""Files that are written where a stranger may have laid links.

A repository may hold a link in the place of any file or folder, which leads to the shell settings
of whoever works in it. So nothing is written through a link: each folder on the way is opened by
itself (``O_NOFOLLOW``) and used by its descriptor, a file is written under a fresh name in it
(``O_EXCL``) and renamed into place. Modes are set here, whatever the umask is.
"""

from __future__ import annotations

import errno
import os
import stat
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

from inchworm.core.errors import ProjectError, UsageError

PRIVATE = 0o600
SHARED = 0o644
_FOLDER = os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW | os.O_CLOEXEC
_FRESH = os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW | os.O_CLOEXEC
_NOT_OF_DISKS = ("dev", "proc")
_LINK = {errno.ELOOP, errno.EMLINK, errno.ENOTDIR}


def link_in(root: Path, path: str) -> str | None:
    """Return the first part of a path below a folder that is a symbolic link; None without one."""
    place = root
    for name in Path(path).parts:
        place = place / name
        if place.is_symlink():
            return str(place.relative_to(root))
    return None


def check_no_link(root: Path, path: Path) -> None:
    """Refuse a file below a folder that is reached through a symbolic link.

    A path that is not below the folder is the user's own choice, and is not looked at.

    Raises:
        ProjectError: with the link.
    """
    with suppress(ValueError):
        link = link_in(root, str(path.relative_to(root)))
        if link is not None:
            raise _is_link(link)


def write_below(root: Path, path: str, content: bytes, *, mode: int | None = None) -> None:
    """Write a file below a folder, whole or not at all; folders on the way are made.

    Args:
        root: the folder, which may itself be reached through links.
        path: the file, relative to it.
        content: the bytes.
        mode: the file's permissions; by default those of the file that is there, else 644.

    Raises:
        ProjectError: when the file, or a folder on the way, is a symbolic link.
        OSError: when it cannot be written.
    """
    *folders, name = Path(path).parts
    if ".." in folders or name == "..":
        raise ProjectError("leads out of the project.", where=path, next="Write a path inside it.")
    with _opened(root, folders, path) as folder:
        _write(folder, name, content, path, mode)


def write_output(file: Path, content: bytes) -> None:
    """Write a file that the user has named, but through no link.

    Raises:
        ProjectError: when it is a symbolic link, or a folder on the way from the working folder is.
        OSError: when it cannot be written.
    """
    if file.is_absolute() and file.parts[1] in _NOT_OF_DISKS:
        file.write_bytes(content)  # a pipe or a device, such as /dev/stdout
    elif not file.is_absolute() and ".." not in file.parts:
        write_below(Path.cwd(), str(file), content)
    else:
        write_below(file.parent, file.name, content)


def read_private(file: Path) -> bytes:
    """Return a file of the user's own folder.

    Raises:
        FileNotFoundError: when it does not exist.
        ProjectError: when it is a link, or others may write in it.
    """
    try:
        descriptor = os.open(file, os.O_RDONLY | os.O_NOFOLLOW | os.O_CLOEXEC)
    except OSError as error:
        if error.errno in _LINK:
            raise _is_link(str(file)) from error
        raise
    with os.fdopen(descriptor, "rb") as opened:
        if os.fstat(descriptor).st_mode & (stat.S_IWGRP | stat.S_IWOTH):
            raise ProjectError(
                "Others may write in this file, so it cannot be believed.",
                where=str(file),
                next=f"chmod 600 {file}",
            )
        return opened.read()


def write_private(file: Path, content: bytes) -> None:
    """Write a file that its owner alone can read, whole or not at all; its folder exists."""
    write_below(file.parent, file.name, content, mode=PRIVATE)


def make_private_folder(root: Path, path: str) -> None:
    """Make a folder below another one that nobody but its owner can look into.

    Raises:
        ProjectError: when it, or a folder on the way, is a symbolic link.
        OSError: when it cannot be made.
    """
    with _opened(root, Path(path).parts, path, mode=0o700) as folder:
        if os.fstat(folder).st_mode & 0o077:
            os.fchmod(folder, 0o700)


@contextmanager
def _opened(
    root: Path, folders: tuple[str, ...] | list[str], path: str, mode: int = 0o755
) -> Iterator[int]:
    """The descriptor of a folder, each on the way opened by itself, and made if it is missing."""
    folder = os.open(root, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
    try:
        for name in folders:
            try:
                below = os.open(name, _FOLDER, dir_fd=folder)
            except FileNotFoundError:
                with suppress(FileExistsError):
                    os.mkdir(name, mode, dir_fd=folder)
                below = os.open(name, _FOLDER, dir_fd=folder)
            except OSError as error:
                if error.errno in _LINK:
                    raise _is_link(link_in(root, path) or path) from error
                raise
            os.close(folder)
            folder = below
        yield folder
    finally:
        os.close(folder)


def _write(folder: int, name: str, content: bytes, path: str, mode: int | None) -> None:
    before = None
    with suppress(FileNotFoundError):
        before = os.stat(name, dir_fd=folder, follow_symlinks=False)
    if before is not None and stat.S_ISLNK(before.st_mode):
        raise _is_link(path)
    fresh = f".{name[:100]}.{os.urandom(16).hex()}"
    descriptor = os.open(fresh, _FRESH, PRIVATE, dir_fd=folder)
    try:
        with os.fdopen(descriptor, "wb") as file:
            present_mode = stat.S_IMODE(before.st_mode) if before is not None else SHARED
            os.fchmod(descriptor, present_mode if mode is None else mode)
            file.write(content)
        os.rename(fresh, name, src_dir_fd=folder, dst_dir_fd=folder)
    except BaseException:
        with suppress(FileNotFoundError):
            os.unlink(fresh, dir_fd=folder)
        raise


def _is_link(path: str) -> ProjectError:
    return ProjectError(
        "is a symbolic link. Nothing is written through one.",
        where=path,
        next="Replace the link with a file or folder of its own, or name the path that it leads to "
        "in place of this one.",
    )


def file_to_keep(path: str | Path) -> Path:
    """A file that a notebook keeps.

    Raises:
        UsageError: when it does not exist.
    """
    file = Path(path)
    if not file.is_file():
        raise UsageError(f"There is no file {file} to keep.", next="Write it before env.keep.")
    return file
