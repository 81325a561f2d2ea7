"""Values that are remembered in files of their own, each said to hold for just one thing.

Such a file is a convenience: what is missing, damaged, of something else, or was not sealed with
the user's key is None, and nothing is said about it. It is MessagePack, which is read as values of
one type and of those that it is made of, and as nothing else.
"""

from __future__ import annotations

from contextlib import suppress
from pathlib import Path
from typing import TypeVar

import msgspec
from msgspec import Struct

from inchworm.core.errors import ProjectError
from inchworm.core.seal import Sealer
from inchworm.safe_files import PRIVATE, write_below

T = TypeVar("T")


class Remembering(Struct, frozen=True):
    """The files below a project's folder in which values are remembered.

    Attributes:
        root: the project's folder.
        sealer: makes and compares seals.
    """

    root: Path
    sealer: Sealer


def recall(place: Remembering, file: str, of: str, type_: type[T]) -> T | None:
    """Return the value in a file, if it is of just this and sealed by the user.

    Args:
        place: where the file is.
        file: the file, relative to the project.
        of: what the value holds for, as text.
        type_: the type of the value.
    """
    with suppress(OSError, msgspec.DecodeError):
        header, _, content = (place.root / file).read_bytes().partition(b"\n")
        if header == place.sealer.seal(of, content).encode():
            return msgspec.msgpack.decode(content, type=type_)
    return None


def remember(place: Remembering, file: str, of: str, value: object) -> None:
    """Remember a value, in the place of what its file has.

    Nobody ever reads half a value. A failure is not reported: it can be worked out again.

    Args:
        place: where the file is.
        file: the file, relative to the project; its folder is made if it does not exist.
        of: what the value holds for, as text.
        value: a value of types that msgspec reads and writes, and of texts that know their pieces.
    """
    content = msgspec.msgpack.encode(value, enc_hook=str)
    sealed = place.sealer.seal(of, content).encode() + b"\n" + content
    with suppress(OSError, ProjectError):
        write_below(place.root, file, sealed, mode=PRIVATE)
