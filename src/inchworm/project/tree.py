"""Finding a project and reading its files."""

from __future__ import annotations

import datetime as dt
from collections.abc import Iterator, Mapping
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING

from msgspec import Struct, field

from inchworm.core.checks.findings import Finding
from inchworm.core.checks.rules import suspect_finding
from inchworm.core.entry.conditions import NO_CONDITIONS, EntryConditions
from inchworm.core.environments.environment import Environment, in_route_order
from inchworm.core.errors import ProjectError, UsageError, did_you_mean
from inchworm.core.identifiers import Kind
from inchworm.core.lineage.facts_cache import FactsCache
from inchworm.core.parameters.literals import suspects_in
from inchworm.core.parameters.matrix import FILE as PARAMETERS
from inchworm.core.parameters.matrix import FOLDER as PARAMETERS_FOLDER
from inchworm.core.parameters.matrix import Matrix, evaluate
from inchworm.core.parameters.values import Value
from inchworm.core.parts import Contents, Digest, digest_of
from inchworm.core.seal import Sealer
from inchworm.kinds.registry import FOLDERS, SHARED_FOLDERS
from inchworm.project.declarations import Declarations, ProjectSettings, read_declarations
from inchworm.project.file_index import (
    FILES,
    PROJECT_FILE,
    TreeContents,
    check_folder,
    find_root,
    look,
    read_file,
)
from inchworm.project.git import GitState, read_state

if TYPE_CHECKING:
    from inchworm.kinds.project_reader import Reading

PART_FOLDERS = (*FOLDERS, *SHARED_FOLDERS, PARAMETERS, PARAMETERS_FOLDER)
"""Where everything is that makes up the project's parts and parameters."""


ENVIRONMENTS = "environments"

_ANY_DAY = dt.date(2000, 1, 1)
"""Stands for today where it does not matter."""


class Project(Struct, frozen=True, dict=True):
    """A project on disk."""

    root: Path
    declared: Declarations
    read_as: Mapping[str, Digest] = field(default_factory=dict)
    """The digest of each file from which the declarations were read, by path."""
    owner: str = ""
    """Whose corner an environment is that has corners, as it can stand in a schema's name."""
    user: str = ""
    """The same as it is."""

    @property
    def has_corners(self) -> bool:
        """Whether any environment has a corner for everybody."""
        return any(each.database.has_corners for each in self.declared.environments)

    @property
    def settings(self) -> ProjectSettings:
        """The settings in the project's file."""
        return self.declared.settings

    @cached_property
    def git(self) -> GitState:
        """The state of its repository."""
        return read_state(self.root, self.contents, self.settings.release_branch)

    @cached_property
    def environments(self) -> list[Environment]:
        """All environments, in the order of the route."""
        declared = in_route_order(self.declared.environments)
        if not self.owner:
            return declared
        return [each.in_corner(self.owner, self.user) for each in declared]

    def environment(self, name: str) -> Environment:
        """The environment of that name; case does not count.

        Raises:
            UsageError: when there is none; with the nearest name.
            ProjectError: when its file cannot be read.
        """
        for environment in self.environments:
            if environment.name.lower() == name.lower():
                return environment
        for finding in self.declared.findings:
            if finding.file == f"environments/{name}.toml":
                raise ProjectError(finding.message, where=finding.place, next=finding.remedy)
        names = [environment.name for environment in self.environments]
        listed = f"Environments: {', '.join(names)}." if names else "Add environments/NAME.toml."
        raise UsageError(f"There is no environment {name}.", next=did_you_mean(name, names, listed))

    def conditions_of(self, environment: Environment) -> EntryConditions:
        """Return the entry conditions as the environment's file has them now.

        What decides is never what is remembered.

        Raises:
            ProjectError: when the file is wrong.
        """
        return conditions_in(environment.file, read_file(self.root, environment.file))

    @cached_property
    def contents(self) -> Contents:
        """All files of the project."""
        return TreeContents(self.root, look(self.root, {}), {})

    def read(
        self, contents: Contents | None = None, known: FactsCache | None = None
    ) -> tuple[Reading, list[Finding]]:
        """The source tree, read; and what is wrong with the environment files.

        Args:
            contents: the files of the tree, where they have been looked at before.
            known: facts from an earlier reading; brought up to date.
        """
        from inchworm.core.checks.value_leaks import shared_logins, shared_targets
        from inchworm.kinds.project_reader import read_project
        from inchworm.project.people import people_findings
        from inchworm.project.schedules import schedule_findings
        from inchworm.project.verifications import verification_findings

        if contents is not None:
            self.__dict__["contents"] = contents
        reading = read_project(
            name=self.settings.name,
            version=self.settings.version,
            dialect=self.settings.dialect,
            files=self.contents.below(PART_FOLDERS),
            environments=[environment.name for environment in self.environments],
            environment_uses=self.declared.uses,
            policies=self.settings.policies,
            known=known,
        )
        schedules = {
            part.name: reading.assembly.outlines[part].schedule_names
            for part in reading.assembly.of_kind(Kind.PIPELINE)
        }
        values = self._values(reading.assembly.matrix)
        wrong = [
            *self.declared.findings,
            *schedule_findings(self.environments, schedules),
            *verification_findings(self.environments, reading.assembly),
            *shared_targets(self.environments, values, str(self.root.resolve())),
            *shared_logins(self.environments, values),
            *self._suspects(),
            *people_findings(self.root),
        ]
        return reading, wrong

    def _values(self, matrix: Matrix) -> dict[str, Mapping[str, Value]]:
        """The values of every environment; addresses do not depend on the day."""
        return {
            environment.name: evaluate(matrix, environment.name, _ANY_DAY).values
            for environment in self.environments
        }

    def _suspects(self) -> Iterator[Finding]:
        """Findings about texts that look like secrets in files that belong to no part."""
        for path in self.contents:
            if path in FILES or path.startswith(("environments/", f"{PARAMETERS_FOLDER}/")):
                for suspect in suspects_in(self.contents[path]):
                    yield suspect_finding(suspect, path)

    def path(self, relative: str) -> Path:
        """A path that the settings name; relative ones start at the project."""
        return self.root / relative


def conditions_in(file: str, content: bytes) -> EntryConditions:
    """Return the entry conditions in an environment's file.

    Raises:
        ProjectError: when the file is wrong.
    """
    if b"entry" not in content:
        return NO_CONDITIONS
    from inchworm.project.config import read_environments

    findings: list[Finding] = []
    declared, _ = read_environments({file: content}, findings.append)
    if not declared:
        raise ProjectError(findings[0].message, where=findings[0].place, next=findings[0].remedy)
    return declared[0].entry


def find_project(start: Path, sealer: Sealer) -> Project:
    """The project that a folder is in.

    Args:
        start: the folder.
        sealer: of what is remembered of its declarations.

    Raises:
        UsageError: when neither the folder nor one above it has an ``inchworm.toml``.
        ProjectError: when that file is wrong.
    """
    root = find_root(start)
    files = _declaring_files(root)
    declared = read_declarations(root, files, PROJECT_FILE, sealer)
    return Project(root, declared, {path: digest_of(files[path]) for path in files})


def _declaring_files(root: Path) -> dict[str, bytes]:
    """The project's file and all environment files, by path."""
    folder = root / ENVIRONMENTS
    check_folder(root, ENVIRONMENTS)
    environments = [
        f"{ENVIRONMENTS}/{path.name}"
        for path in sorted(folder.glob("*.toml"))
        if path.is_file() and not path.name.startswith(".")
    ]
    return {path: read_file(root, path) for path in (PROJECT_FILE, *environments)}
