"""``inchworm.toml`` and the environment files."""

from __future__ import annotations

import re
from collections.abc import Mapping

from pydantic import Field, field_validator

from inchworm.core.checks import rules
from inchworm.core.checks.findings import Finding
from inchworm.core.entry.conditions import measure_condition, ran_condition
from inchworm.core.environments.environment import (
    OWNER,
    Environment,
    NotebookServerAddress,
    SecretStoreAddress,
)
from inchworm.core.errors import ProjectError, did_you_mean
from inchworm.core.identifiers import Kind
from inchworm.core.lineage.facts import Policies, Use
from inchworm.core.toml import TomlDocument, TomlProblem, read_toml
from inchworm.kinds.settings import Report, Settings, parameter_uses, validate
from inchworm.project.declarations import Declarations, ProjectSettings, Storage
from inchworm.project.dialects import known_dialects
from inchworm.project.environment_settings import (
    REFERENCE,
    EnvironmentSettings,
    SecretStoreSettings,
)

ENVIRONMENTS = "environments/"

_NAME = re.compile(r"^[a-z][a-z0-9_-]*$")
LEDGER_SCHEMES = frozenset({"postgresql", "postgres"})
"""Schemes of servers that can store a ledger."""
_VERSION = re.compile(r"^\d+\.\d+\.\d+$")


class StorageSettings(Settings):
    """Where the ledger and the bundles are kept; relative paths start at the project."""

    ledger: str = ".inchworm/ledger.sqlite"
    """The path of a file, or ``postgresql://user@host/database``."""
    ledger_schema: str = Field("inchworm_ledger", pattern="^[a-z_][a-z0-9_]*$")
    """Of a ledger in a server, the schema of its tables."""
    password: str | None = None
    """Of a ledger in a server, where the password is kept: ``env:NAME`` or ``file:PATH``."""
    bundles: str = ".inchworm/bundles"
    """A folder, or any URL of fsspec."""

    @field_validator("ledger")
    @classmethod
    def _can_be_stored(cls, ledger: str) -> str:
        scheme, separator, _ = ledger.partition("://")
        if separator and scheme not in LEDGER_SCHEMES:
            raise ValueError("must be the path of a file, or postgresql://user@host/database")
        return ledger

    @field_validator("password")
    @classmethod
    def _is_reference(cls, password: str | None) -> str | None:
        if password is not None and not REFERENCE.fullmatch(password):
            raise ValueError("must be a reference such as env:NAME or file:PATH")
        return password


class PolicySettings(Settings):
    """``[policies]``: the kinds of part of which something must be said."""

    about: tuple[Kind, ...] = ()
    owner: tuple[Kind, ...] = ()
    columns: tuple[Kind, ...] = ()


class ProjectFile(Settings):
    """``inchworm.toml``."""

    name: str
    version: str
    about: str = ""
    dialect: str = "duckdb"
    release_branch: str | None = None
    """The branch that releases come from: a tag elsewhere makes none."""
    storage: StorageSettings = StorageSettings()
    policies: PolicySettings = PolicySettings()

    @property
    def settings(self) -> ProjectSettings:
        """The settings as the rest of the program has them."""
        return ProjectSettings(
            name=self.name,
            version=self.version,
            about=self.about,
            dialect=self.dialect,
            release_branch=self.release_branch,
            storage=Storage(**self.storage.model_dump()),
            policies=Policies(
                about=frozenset(self.policies.about),
                owner=frozenset(self.policies.owner),
                columns=frozenset(self.policies.columns),
            ),
        )

    @field_validator("name")
    @classmethod
    def _plain_name(cls, name: str) -> str:
        if not _NAME.match(name):
            raise ValueError("must be lower-case letters, digits, _ and -, a letter first")
        return name

    @field_validator("version")
    @classmethod
    def _three_numbers(cls, version: str) -> str:
        if not _VERSION.match(version):
            raise ValueError("must be three numbers such as 1.4.0")
        return version

    @field_validator("dialect")
    @classmethod
    def _known_dialect(cls, dialect: str) -> str:
        if dialect not in known_dialects():
            raise ValueError(
                f"{dialect!r} is not known; {did_you_mean(dialect, known_dialects(), '')}"
            )
        return dialect


def validated_declarations(files: Mapping[str, bytes], project_file: str) -> Declarations:
    """What the project's file and the environment files declare.

    Args:
        files: all of them, by path.
        project_file: the path of the project's file.

    Raises:
        ProjectError: when the project's file is wrong.
    """
    findings: list[Finding] = []
    settings = read_project_settings(files[project_file], project_file)
    environments, uses = read_environments(dict(files), findings.append)
    return Declarations(
        settings=settings,
        environments=tuple(environments),
        uses=uses,
        findings=tuple(findings),
    )


def read_project_settings(content: bytes, file: str) -> ProjectSettings:
    """The settings of a project.

    Raises:
        ProjectError: with every fault of the file and its line.
    """
    try:
        document = read_toml(content)
    except TomlProblem as problem:
        where = f"{file}:{problem.line}" if problem.line else file
        raise ProjectError(problem.reason, where=where, next="Mend the line.") from problem
    faults: list[Finding] = []
    validated = validate(ProjectFile, document, None, file, faults.append)
    if validated is None:
        first, *rest = faults
        more = "".join(f"\n{fault.place}: {fault.message}" for fault in rest)
        raise ProjectError(first.message + more, where=first.place, next=first.remedy)
    return validated.settings


def read_environments(
    files: dict[str, bytes], report: Report
) -> tuple[list[Environment], tuple[Use, ...]]:
    """All environments that can be read, and the parameters that their files use."""
    environments: list[Environment] = []
    uses: list[Use] = []
    lines: dict[str, TomlDocument] = {}
    for path in sorted(files):
        if not path.startswith(ENVIRONMENTS) or not path.endswith(".toml"):
            continue
        name = path.removeprefix(ENVIRONMENTS).removesuffix(".toml")
        try:
            document = read_toml(files[path])
        except TomlProblem as problem:
            report(rules.UNREADABLE.finding(problem.reason, file=path, line=problem.line))
            continue
        settings = validate(EnvironmentSettings, document, None, path, report)
        if settings is not None:
            environments.append(_environment(name, path, settings))
            lines[name] = document
            uses.extend(parameter_uses(document, path))
    environments = [
        e for e in environments if _has_a_name_of_its_own(e, environments, lines[e.name], report)
    ]
    _report_route(environments, lines, report)
    return environments, tuple(uses)


def _has_a_name_of_its_own(
    environment: Environment, others: list[Environment], document: TomlDocument, report: Report
) -> bool:
    """Whether an environment does not claim to have been one that there is."""
    other = next((e for e in others if e.name.lower() == environment.formerly.lower()), None)
    if other is not None:
        report(
            rules.MALFORMED.finding(
                f"says that it was formerly {other.name}, which is an environment of its own",
                file=environment.file,
                line=document.line_of(("formerly",)),
                remedy="Take formerly away, and correct the address of its database.",
            )
        )
    return other is None


def _environment(name: str, path: str, settings: EnvironmentSettings) -> Environment:
    database = settings.databases.main
    schedules: dict[str, str] = dict(settings.schedules)
    default = schedules.pop("default", "off")
    return Environment(
        name=name,
        formerly=settings.formerly,
        about=settings.about,
        after=settings.after,
        protected=settings.protected,
        snapshots=settings.snapshots,
        overrides=settings.overrides,
        shared=settings.shared,
        database=database.address,
        workspace=settings.workspace.address,
        gateway=settings.gateway.address,
        notebooks=settings.notebooks.address if settings.notebooks else None,
        secret_store=SecretStoreAddress(**settings.secret_store.model_dump())
        if settings.secret_store
        else None,
        default_schedule=default,
        schedules=schedules,
        entry=settings.entry.conditions,
        verifications=settings.verifications,
        file=path,
    )


def _secret_store(settings: SecretStoreSettings | None) -> SecretStoreAddress | None:
    return SecretStoreAddress(**settings.model_dump()) if settings is not None else None


def _report_route(
    environments: list[Environment], documents: dict[str, TomlDocument], report: Report
) -> None:
    """Environments named under ``after`` must exist, and the route must not run in a circle."""
    by_name = {environment.name: environment for environment in environments}
    for environment in environments:
        line = documents[environment.name].line_of(("after",))
        for before in environment.after:
            if before not in by_name:
                report(
                    rules.MALFORMED.finding(
                        f"comes after {before}, which is no environment",
                        file=environment.file,
                        line=line,
                        remedy=did_you_mean(before, by_name, "Correct the name."),
                    )
                )
        _report_entry(environment, by_name, documents[environment.name], report)
        _report_corner(environment, documents[environment.name], report)
        if environment.name in _all_before(environment, by_name):
            report(
                rules.MALFORMED.finding(
                    f"{environment.name} comes after itself", file=environment.file, line=line
                )
            )


def _report_corner(environment: Environment, document: TomlDocument, report: Report) -> None:
    """Where everybody has a corner of the database, they need services of their own, too."""
    for name, service in environment.services.items():
        has_own = OWNER in service.url or name in environment.shared
        if isinstance(service, NotebookServerAddress):
            has_own = has_own or not service.folder or OWNER in service.folder
        if environment.database.has_corners and not has_own:
            report(
                rules.MALFORMED.finding(
                    f"[{name}] url is the same for everybody, and the database has corners",
                    file=environment.file,
                    line=document.line_of((name, "url")),
                    remedy="Write {owner} into it, such as sim:dev-{owner}; or, where all of you "
                    f'put things there on purpose: shared = ["{name}"].',
                )
            )


def _report_entry(
    environment: Environment,
    by_name: Mapping[str, Environment],
    document: TomlDocument,
    report: Report,
) -> None:
    """Environments that entry conditions name must exist."""
    entry = environment.entry
    named = {
        "passed_in": entry.passed_in,
        "measures": [measure_condition(text).environment for text in entry.measures],
        "ran": [ran_condition(text)[1] for text in entry.ran],
    }
    for key, names in named.items():
        for name in names:
            if name not in by_name:
                report(
                    rules.MALFORMED.finding(
                        f"[entry] {key} names {name}, which is no environment",
                        file=environment.file,
                        line=document.line_of(("entry", key)),
                        remedy=did_you_mean(name, by_name, "Correct the name."),
                    )
                )


def _all_before(environment: Environment, by_name: dict[str, Environment]) -> set[str]:
    seen: set[str] = set()
    waiting = list(environment.after)
    while waiting:
        name = waiting.pop()
        if name not in seen and name in by_name:
            seen.add(name)
            waiting.extend(by_name[name].after)
    return seen
