"""Finding a project and reading its files."""

from __future__ import annotations

import os
from dataclasses import dataclass
from functools import cached_property
from pathlib import Path

from inchworm.core.environments import Environment, in_route_order
from inchworm.core.errors import ProjectError, UsageError, did_you_mean
from inchworm.core.facts import Use
from inchworm.core.findings import Finding
from inchworm.core.parameters import FILE as PARAMETERS
from inchworm.core.parts import Kind
from inchworm.kinds.reading import FOLDERS, SHARED_FOLDERS, Reading, read_project
from inchworm.project.config import (
    PROJECT_FILE,
    ProjectSettings,
    read_environments,
    read_project_settings,
    schedule_findings,
)
from inchworm.project.git import GitState, read_state

_SKIPPED = {"__pycache__", ".ipynb_checkpoints"}


@dataclass(frozen=True)
class Project:
    """A project on disk."""

    root: Path
    settings: ProjectSettings

    @cached_property
    def git(self) -> GitState:
        """The state of its repository."""
        return read_state(self.root)

    @cached_property
    def _environments(self) -> tuple[list[Environment], tuple[Use, ...], list[Finding]]:
        findings: list[Finding] = []
        found, uses = read_environments(_files(self.root, ("environments",)), findings.append)
        return in_route_order(found), uses, findings

    @property
    def environments(self) -> list[Environment]:
        """All environments, in the order of the route."""
        return self._environments[0]

    def environment(self, name: str) -> Environment:
        """The environment of that name; case does not count.

        Raises:
            UsageError: when there is none; with the nearest name.
            ProjectError: when its file cannot be read.
        """
        for environment in self.environments:
            if environment.name.lower() == name.lower():
                return environment
        for finding in self._environments[2]:
            if finding.file == f"environments/{name}.toml":
                raise ProjectError(finding.message, where=finding.place, next=finding.remedy)
        names = [environment.name for environment in self.environments]
        listed = f"Environments: {', '.join(names)}." if names else "Add environments/NAME.toml."
        raise UsageError(f"There is no environment {name}.", next=did_you_mean(name, names, listed))

    def files(self) -> dict[str, bytes]:
        """The contents of everything that makes up the project's parts and parameters."""
        found = _files(self.root, (*FOLDERS, *SHARED_FOLDERS))
        parameters = self.root / PARAMETERS
        if parameters.is_file():
            found[PARAMETERS] = parameters.read_bytes()
        return found

    def read(self) -> tuple[Reading, list[Finding]]:
        """The source tree, read; and what is wrong with the environment files."""
        reading = read_project(
            name=self.settings.name,
            version=self.settings.version,
            dialect=self.settings.dialect,
            files=self.files(),
            environments=[environment.name for environment in self.environments],
            environment_uses=self._environments[1],
        )
        schedules = {
            part.name: reading.assembly.facts[part].schedules
            for part in reading.assembly.of_kind(Kind.PIPELINE)
            if part in reading.assembly.facts
        }
        wrong = [*self._environments[2], *schedule_findings(self.environments, schedules)]
        return reading, wrong

    def path(self, relative: str) -> Path:
        """A path that the settings name; relative ones start at the project."""
        return self.root / relative


def find_project(start: Path) -> Project:
    """The project that a folder is in.

    Raises:
        UsageError: when neither the folder nor one above it has an ``inchworm.toml``.
        ProjectError: when that file is wrong.
    """
    for folder in (start.resolve(), *start.resolve().parents):
        file = folder / PROJECT_FILE
        if file.is_file():
            return Project(folder, read_project_settings(file.read_bytes(), PROJECT_FILE))
    raise UsageError(
        f"There is no {PROJECT_FILE} in {start.resolve()} or above it.",
        next="Go into a project, or start one: inchworm new DIR.",
    )


def _files(root: Path, folders: tuple[str, ...]) -> dict[str, bytes]:
    found: dict[str, bytes] = {}
    for folder in folders:
        for at, below, names in os.walk(root / folder):
            below[:] = sorted(d for d in below if d not in _SKIPPED and not d.startswith("."))
            for name in sorted(names):
                if name.startswith(".") or name.endswith((".pyc", "~")):
                    continue
                path = Path(at) / name
                try:
                    found[path.relative_to(root).as_posix()] = path.read_bytes()
                except OSError as error:
                    raise ProjectError(
                        f"cannot be read: {error.strerror}",
                        where=path.relative_to(root).as_posix(),
                        next="Make the file readable, or remove it.",
                    ) from error
    return found
