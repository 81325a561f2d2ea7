"""What the commands share: the project, its ledger and bundles, the clock and the user."""

from __future__ import annotations

import datetime as dt
import getpass
import os
from dataclasses import dataclass
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING

from inchworm.cli.cached_project import Source
from inchworm.core.environments import Environment
from inchworm.core.parameters import evaluate, read_files
from inchworm.core.values import Value
from inchworm.project.git import user_name
from inchworm.project.tree import Project, find_project

if TYPE_CHECKING:
    from inchworm.core.findings import Finding
    from inchworm.kinds.project_reader import Reading
    from inchworm.store.bundles import BundleStore
    from inchworm.store.ledger import Ledger

LOCKS = ".inchworm/locks"


def now() -> str:
    """The time, ISO 8601, UTC, to the second."""
    return dt.datetime.now(dt.UTC).isoformat(timespec="seconds")


def shown_time(iso: str) -> str:
    """A time as people read it: ``2026-11-23 07:00``, always UTC."""
    return iso[:16].replace("T", " ")


@dataclass(frozen=True)
class App:
    """One run of the program in one project."""

    project: Project
    source: Source
    """The source tree, and what is remembered of it."""

    @classmethod
    def here(cls, source: Source | None = None) -> App:
        """The project that the present folder is in.

        Args:
            source: its source tree, where it has been looked at before.

        Raises:
            UsageError: when it is in none.
        """
        project = find_project(Path.cwd() if source is None else source.root)
        return cls(project, source or Source(project.root))

    @property
    def root(self) -> Path:
        """The project's folder."""
        return self.project.root

    @cached_property
    def user(self) -> str:
        """Who is at work: ``INCHWORM_USER``, else git's user name, else the login."""
        return os.environ.get("INCHWORM_USER") or user_name(self.root) or getpass.getuser()

    @cached_property
    def today(self) -> dt.date:
        """The day in UTC."""
        return dt.datetime.now(dt.UTC).date()

    @cached_property
    def ledger(self) -> Ledger:
        """The ledger that the project names."""
        from inchworm.store.ledger import Ledger

        path = self.project.path(self.project.settings.storage.ledger)
        return Ledger(path, now=now, by=self.user)

    @cached_property
    def bundles(self) -> BundleStore:
        """The bundle store that the project names."""
        from inchworm.store.bundles import BundleStore

        return BundleStore(self.project.path(self.project.settings.storage.bundles))

    def read(self) -> tuple[Reading, list[Finding]]:
        """The source tree, read; and what is wrong with the environment files."""
        return self.project.read(self.source.contents, self.source.memory)

    def remember(self, reading: Reading, **said: object) -> None:
        """Keep what was worked out, and what was ``said`` about the tree as it is."""
        assembly = reading.assembly
        project = {
            "name": assembly.name,
            "version": assembly.version,
            "dialect": assembly.dialect,
            "parts": len(assembly.parts),
        }
        self.source.keep(project=project, **said)

    def values(self, environment: Environment) -> dict[str, Value]:
        """An environment's values as the source tree has them, as far as they can be had."""
        matrix, _ = read_files(self.source.contents, [e.name for e in self.project.environments])
        return dict(evaluate(matrix, environment.name, self.today).values)
