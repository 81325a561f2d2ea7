"""The machine that adapters run on, as far as they may look at it."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path

from msgspec import Struct


class Machine(Struct, frozen=True, kw_only=True):
    """This machine, as far as adapters may look at it.

    Attributes:
        root: the project's folder, where relative paths start.
        environ: the environment variables.
        login: who is logged in.
    """

    root: Path
    environ: Mapping[str, str]
    login: str
