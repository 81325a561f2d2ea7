"""Values that are remembered in files of their own, each said to hold for just one thing.

Such a file is a convenience: what is missing, damaged, of something else, or was written by another
version of the program is None, and nothing is said about it. It is MessagePack, which is read as
values of one type and of those that it is made of, and as nothing else.
"""

from __future__ import annotations

import tempfile
import zlib
from contextlib import suppress
from pathlib import Path
from typing import TypeVar

import msgspec

from inchworm.core.parts import digest_of

T = TypeVar("T")

_OWNER_ONLY = 0o600


def recall(file: Path, of: str, type_: type[T]) -> T | None:
    """The value in a file, if it is of just this.

    Args:
        file: the file.
        of: what the value holds for, as text.
        type_: the type of the value.
    """
    with suppress(OSError, msgspec.DecodeError):
        header, _, content = file.read_bytes().partition(b"\n")
        if header == header_of(of, content):
            return msgspec.msgpack.decode(content, type=type_)
    return None


def remember(file: Path, of: str, value: object) -> None:
    """Remember a value, in the place of what its file has.

    It is written beside it first, so that nobody reads half a value. That it cannot be remembered
    is no fault that anybody has to hear of.

    Args:
        file: the file; its folder is made if it is not there.
        of: what the value holds for, as text.
        value: a value of types that msgspec reads and writes, and of texts that know their pieces.
    """
    content = msgspec.msgpack.encode(value, enc_hook=str)
    with suppress(OSError):
        file.parent.mkdir(parents=True, exist_ok=True)
        with tempfile.TemporaryDirectory(dir=file.parent) as folder:
            whole = Path(folder, "whole")
            whole.write_bytes(header_of(of, content) + b"\n" + content)
            whole.chmod(_OWNER_ONLY)
            whole.replace(file)


def header_of(of: str, content: bytes) -> bytes:
    """The first line of a file: another one for anything else, and for any other content."""
    return digest_of(f"{of} {zlib.crc32(content)}".encode()).encode()
