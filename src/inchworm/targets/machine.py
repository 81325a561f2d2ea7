"""The machine that adapters run on, as far as they may look at it."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path


@dataclass(frozen=True, kw_only=True)
class Machine:
    """This machine, as far as adapters may look at it.

    Attributes:
        root: the project's folder, where relative paths start.
        environ: the environment variables.
        login: who is logged in.
    """

    root: Path
    environ: Mapping[str, str]
    login: str
