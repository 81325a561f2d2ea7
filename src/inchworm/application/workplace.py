"""The workplace of somebody who uses the program: a project, and all that goes with it."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable
from contextlib import AbstractContextManager, suppress
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING

from msgspec import Struct
from msgspec.structs import replace

from inchworm.application.source_tree import SourceTree
from inchworm.core.environments.environment import owner_name
from inchworm.core.parameters.matrix import evaluate, read_files
from inchworm.project.git import user_name
from inchworm.project.tree import Project, find_project
from inchworm.safe_files import make_private_folder
from inchworm.targets.machine import Machine

if TYPE_CHECKING:
    from inchworm.core.bundle.bundle import Bundle
    from inchworm.core.checks.findings import Finding
    from inchworm.core.environments.environment import Environment
    from inchworm.core.parameters.values import Value
    from inchworm.engine.open_environment import OpenEnvironment
    from inchworm.kinds.project_reader import Reading
    from inchworm.store.bundle_facts import BundleFacts
    from inchworm.store.bundles import BundleStore
    from inchworm.store.ledger import Ledger
    from inchworm.store.outputs import Outputs
    from inchworm.targets.secret import Secret

KEPT = ".inchworm"
"""The folder of everything that the program keeps beside a project."""
LOCKS = f"{KEPT}/locks"
_USER = "INCHWORM_USER"


class Workplace(Struct, frozen=True, dict=True):
    """A project, and whoever works on it.

    Attributes:
        project: the project.
        tree: its source tree, and what is remembered of it.
        machine: where that is.
        clock: the present time, with a time zone.
        process: the number of the process, for messages to others.
    """

    project: Project
    tree: SourceTree
    machine: Machine
    clock: Callable[[], dt.datetime]
    process: int = 0

    @classmethod
    def around(
        cls,
        tree: SourceTree,
        machine: Machine,
        clock: Callable[[], dt.datetime],
        process: int = 0,
    ) -> Workplace:
        """The workplace of a source tree.

        Raises:
            ProjectError: when its ``inchworm.toml`` is wrong.
        """
        project = find_project(tree.root, tree.sealer)
        if project.has_corners:
            user = _user_of(machine, project.root)
            project = replace(project, owner=owner_name(user), user=user)
        _keep_private(project.root / KEPT)
        return cls(project, tree, machine, clock, process)

    @property
    def root(self) -> Path:
        """The project's folder."""
        return self.project.root

    @property
    def process_name(self) -> str:
        """The process, as others know it: for as long as it lives, its runs are at work."""
        from inchworm.targets.processes import named

        return named(self.process) if self.process else ""

    @cached_property
    def user(self) -> str:
        """Who is at work: ``INCHWORM_USER``, else git's user name, else the login."""
        return _user_of(self.machine, self.root)

    def now(self) -> str:
        """The time, ISO 8601, UTC, to the second."""
        return self.clock().astimezone(dt.UTC).isoformat(timespec="seconds")

    @cached_property
    def today(self) -> dt.date:
        """The day in UTC."""
        return self.clock().astimezone(dt.UTC).date()

    @cached_property
    def ledger(self) -> Ledger:
        """The ledger that the project names.

        Raises:
            ProjectError: when no ledger can be where it says.
        """
        from inchworm.store.ledger import Ledger
        from inchworm.store.ledgers.registry import open_ledger_storage
        from inchworm.targets.processes import is_gone

        storage = self.project.settings.storage
        self.machine.trust.demand(f"open the ledger {storage.ledger}")
        self.machine.trust.check_place(storage.ledger)
        opened = open_ledger_storage(
            storage.ledger, self.root, storage.ledger_schema, self._ledger_password
        )
        return Ledger(opened, now=self.now, by=self.user, is_gone=is_gone)

    def _ledger_password(self) -> Secret | None:
        from inchworm.targets.secrets import Secrets

        reference = self.project.settings.storage.password
        return (
            None
            if reference is None
            else Secrets(self.machine).resolve(reference, self.project.settings.storage.ledger)
        )

    @cached_property
    def bundles(self) -> BundleStore:
        """The bundle store that the project names.

        Raises:
            ProjectError: when no bundles can be where it says.
        """
        from inchworm.store.bundles import BundleStore

        address = self.project.settings.storage.bundles
        self.machine.trust.demand(f"use the bundle store {address}")
        self.machine.trust.check_place(address)
        return BundleStore.at(address, self.root)

    @cached_property
    def outputs(self) -> Outputs:
        """The files that steps of runs left."""
        from inchworm.store.outputs import Outputs

        address = self.project.settings.storage.bundles
        self.machine.trust.demand(f"use the bundle store {address}")
        self.machine.trust.check_place(address)
        return Outputs.at(address, self.root)

    def bundle_facts(self, bundle: Bundle, *, is_whole: bool = True) -> BundleFacts | None:
        """The facts of a bundle's parts; None where it is in another dialect.

        Args:
            bundle: the bundle.
            is_whole: whether all parts are as in the bundle.
        """
        from inchworm.store.bundle_facts import BundleFacts

        if bundle.dialect != self.project.settings.dialect:
            return None
        of = bundle.digest if is_whole else None
        return BundleFacts(self.tree.place, self.tree.stamp, self.tree.memory, of)

    def read(self) -> tuple[Reading, list[Finding]]:
        """The source tree, read; and the findings about the environment files."""
        return self.project.read(self.tree.contents, self.tree.memory)

    def read_remembered(self) -> Reading:
        """The source tree, read, and remembered for the next time."""
        reading, _ = self.read()
        self.remember(reading)
        return reading

    def remember(self, reading: Reading, **results: object) -> None:
        """Keep the facts of the tree as it is, and ``results`` that hold for just these files."""
        assembly = reading.assembly
        project = {
            "name": assembly.name,
            "version": assembly.version,
            "dialect": assembly.dialect,
            "parts": len(assembly.parts),
        }
        self.tree.keep(self.project.read_as, project=project, **results)

    def values(self, environment: Environment) -> dict[str, Value]:
        """An environment's values as the source tree has them, as far as they can be had."""
        matrix, _ = read_files(self.tree.parameters, [e.name for e in self.project.environments])
        return dict(evaluate(matrix, environment.name, self.today).values)

    def opened(
        self, environment: Environment, *, read_only: bool = True
    ) -> AbstractContextManager[OpenEnvironment]:
        """An environment, open to look at it, or to change it.

        Raises:
            TargetError: when something of it cannot be reached.
            EnvironmentMoved: when another process holds the database.
        """
        from inchworm.engine.connections import open_environment

        name, values = self.project.settings.name, self.values(environment)
        return open_environment(environment, name, self.machine, values, read_only=read_only)


def _keep_private(folder: Path) -> None:
    """Let nobody but its owner look into a folder; where it cannot be made nothing is kept.

    Raises:
        ProjectError: when it is a link.
    """
    with suppress(OSError):
        make_private_folder(folder.parent, folder.name)


def _user_of(machine: Machine, root: Path) -> str:
    return machine.environ.get(_USER) or user_name(root) or machine.login
