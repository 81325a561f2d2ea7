"""Starting a project that passes check and can be promoted at once."""

from __future__ import annotations

import re
from pathlib import Path

from msgspec import Struct

from inchworm.core.errors import UsageError, did_you_mean
from inchworm.project.dialects import known_dialects
from inchworm.project.starter import write_starter
from inchworm.targets.databases.registry import starter_of


class StartedProject(Struct, frozen=True, kw_only=True):
    """A new project.

    Attributes:
        files: the paths that were written, relative to its folder.
        preparation: commands that have to be run before the first promotion.
    """

    files: list[str]
    preparation: tuple[str, ...]


def suggested_name(folder: Path) -> str:
    """A project's name after its folder; empty where that has no letter."""
    return re.sub(r"[^a-z0-9_-]+", "_", folder.name.lower()).strip("_-0123456789")


def start_project(folder: Path, name: str, dialect: str) -> StartedProject:
    """Write a new project.

    Args:
        folder: where to; what is there stays, and must have no name that the project needs.
        name: the project's name.
        dialect: the SQL dialect of its models.

    Raises:
        UsageError: when one of them cannot be.
    """
    if not re.fullmatch(r"[a-z][a-z0-9_-]*", name):
        raise UsageError(
            f"{name!r} cannot be a project's name.",
            next="Use lower-case letters, digits, _ and -, a letter first: --name NAME.",
        )
    if dialect not in known_dialects():
        near = did_you_mean(dialect, known_dialects(), f"Known: {', '.join(known_dialects())}.")
        raise UsageError(f"There is no SQL dialect {dialect}.", next=near)
    starter = starter_of(dialect, name)
    files = write_starter(folder, name, dialect, starter.about, starter.url)
    return StartedProject(files=files, preparation=starter.preparation)
