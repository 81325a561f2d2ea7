"""The machine that adapters run on, as far as they may look at it."""

from __future__ import annotations

import os
from collections.abc import Mapping
from pathlib import Path

from msgspec import Struct, field

from inchworm.core.seal import Sealer
from inchworm.core.trust import Trust


class Machine(Struct, frozen=True, kw_only=True):
    """This machine, as far as adapters may look at it.

    Attributes:
        root: the project's folder, where relative paths start.
        environ: the environment variables.
        login: who is logged in.
        trust: what the user allows the project.
        sealer: of what is remembered; by default one that nothing was sealed with.
    """

    root: Path
    environ: Mapping[str, str]
    login: str
    trust: Trust = Trust()
    sealer: Sealer = field(default_factory=lambda: Sealer(os.urandom(32)))

    @property
    def person(self) -> str:
        """Who is at work, as far as that can be told at once: others see it while they wait."""
        return self.environ.get("INCHWORM_USER") or self.login
