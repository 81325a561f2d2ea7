"""Secrets: references resolved at the last moment, in a type that does not show what it holds."""

from __future__ import annotations

import os
import stat
from collections.abc import Mapping
from pathlib import Path
from typing import NoReturn

from inchworm.core.errors import TargetError


class Secret:
    """A secret's value. It refuses to be shown or pickled; :meth:`reveal` gives it up."""

    __slots__ = ("_value", "reference")

    def __init__(self, value: str, reference: str) -> None:
        self._value = value
        self.reference = reference

    def reveal(self) -> str:
        """The value itself, for the driver or client that needs it."""
        return self._value

    def __repr__(self) -> str:
        return f"Secret({self.reference})"

    def __str__(self) -> str:
        return f"<secret {self.reference}>"

    def __format__(self, spec: str) -> str:
        return str(self)

    def __reduce__(self) -> NoReturn:
        raise TypeError("a secret cannot be pickled")


def resolve(reference: str, root: Path, environ: Mapping[str, str] = os.environ) -> Secret:
    """The secret that ``env:NAME`` or ``file:PATH`` refers to.

    Args:
        reference: where the secret is kept.
        root: the folder that relative paths start at.
        environ: the environment variables.

    Raises:
        TargetError: when it is not there, or a file is readable by others.
    """
    kind, _, place = reference.partition(":")
    match kind:
        case "env":
            if not environ.get(place):
                raise TargetError(
                    f"the secret {reference} is not there: the variable {place} is not set.",
                    next=f"Set {place} in the environment that Inchworm runs in.",
                )
            return Secret(environ[place], reference)
        case "file":
            return Secret(_read_file(root / place, reference), reference)
    raise TargetError(
        f"the secret {reference} is of no known kind.", next="Known kinds: env:NAME, file:PATH."
    )


def _read_file(path: Path, reference: str) -> str:
    try:
        mode = path.stat().st_mode
        if mode & (stat.S_IRGRP | stat.S_IROTH):
            raise TargetError(
                f"the secret {reference} can be read by others.", next=f"chmod 600 {path.name}"
            )
        return path.read_text("utf-8").strip()
    except (OSError, UnicodeDecodeError) as error:
        reason = error.strerror if isinstance(error, OSError) else "it is not text"
        raise TargetError(
            f"the secret {reference} cannot be read: {reason}.",
            next="Put the secret into that file, readable by you alone.",
        ) from error
