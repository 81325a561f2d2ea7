"""``inchworm.toml`` and the environment files."""

from __future__ import annotations

import re
from collections.abc import Mapping
from typing import Literal, Self
from zoneinfo import available_timezones

from pydantic import Field, field_validator, model_validator

from inchworm.core.checks import rules
from inchworm.core.checks.findings import Finding
from inchworm.core.entry.closed_hours import closed_time
from inchworm.core.entry.conditions import EntryConditions, measure_condition, ran_condition
from inchworm.core.environments.environment import (
    OWNER,
    DatabaseAddress,
    Environment,
    SecretStoreAddress,
    ServiceAddress,
)
from inchworm.core.environments.verification import Asked, Verification, key_in_body
from inchworm.core.errors import ProjectError, did_you_mean
from inchworm.core.identifiers import Kind
from inchworm.core.lineage.facts import Policies, Use
from inchworm.core.parameters.values import read_duration
from inchworm.core.toml import TomlDocument, TomlProblem, read_toml
from inchworm.kinds.settings import Report, Settings, parameter_uses, validate
from inchworm.project.declarations import Declarations, ProjectSettings, Storage
from inchworm.project.dialects import known_dialects

ENVIRONMENTS = "environments/"

_NAME = re.compile(r"^[a-z][a-z0-9_-]*$")
_REFERENCE = re.compile(r"(?!secret:)[a-z][a-z0-9_-]*:\S+")
"""Where a secret is kept that no secret store can keep."""
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
        if password is not None and not _REFERENCE.fullmatch(password):
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


class DatabaseSettings(Settings):
    """``[databases.main]`` of an environment file."""

    url: str
    password: str | None = None
    schema_pattern: str = "{schema}"
    threads: int | None = Field(None, ge=1, le=1024)
    bookkeeping: str = ""
    keep_replaced: bool = True
    undo_migrations: bool = False
    may_lose: tuple[str, ...] = ()

    @field_validator("schema_pattern")
    @classmethod
    def _has_schema(cls, pattern: str) -> str:
        if not re.fullmatch(r"[A-Za-z0-9_]*\{schema\}[A-Za-z0-9_]*", pattern.replace(OWNER, "")):
            raise ValueError("must be {schema} with letters, digits, _ and {owner} around it")
        return pattern

    @field_validator("bookkeeping")
    @classmethod
    def _is_plain(cls, schema: str) -> str:
        if schema and not re.fullmatch(r"[a-z_][a-z0-9_]*", schema.replace(OWNER, "_")):
            raise ValueError("must be lower-case letters, digits, _ and {owner}, no digit first")
        return schema

    @model_validator(mode="after")
    def _corners_have_their_own_bookkeeping(self) -> DatabaseSettings:
        if OWNER in self.schema_pattern and self.bookkeeping and OWNER not in self.bookkeeping:
            raise ValueError(
                "bookkeeping needs {owner}, as schema_pattern has it: a corner has its own"
            )
        return self

    @property
    def address(self) -> DatabaseAddress:
        """The address as the rest of the program has it."""
        of_corner = f"inchworm__{OWNER}" if OWNER in self.schema_pattern else "inchworm"
        given = self.model_dump(exclude={"bookkeeping"})
        return DatabaseAddress(**given, bookkeeping=self.bookkeeping or of_corner)


class Databases(Settings):
    """``[databases]`` of an environment file."""

    main: DatabaseSettings


class ServiceSettings(Settings):
    """``[workspace]`` and ``[gateway]`` of an environment file."""

    url: str
    token: str | None = None
    waits: str = "1m"

    @field_validator("waits")
    @classmethod
    def _is_duration(cls, waits: str) -> str:
        read_duration(waits)
        return waits

    @property
    def address(self) -> ServiceAddress:
        """The address as the rest of the program has it."""
        waits = read_duration(self.waits).total_seconds()
        return ServiceAddress(url=self.url, token=self.token, waits=waits)


class SecretStoreSettings(Settings):
    """``[secret_store]`` of an environment file."""

    url: str
    token: str

    @field_validator("token")
    @classmethod
    def _is_reference(cls, token: str) -> str:
        if not _REFERENCE.fullmatch(token):
            raise ValueError("must be a reference such as env:NAME or file:PATH")
        return token


class EntrySettings(Settings):
    """``[entry]`` of an environment file."""

    approvals: int = Field(0, ge=0, le=100)
    by: tuple[str, ...] = ()
    by_author: bool = False
    signed: bool = False
    bundle_signed: bool | tuple[str, ...] = False
    passed_in: tuple[str, ...] = ()
    rested: str | None = None
    no_warnings: bool = False
    closed: tuple[str, ...] = ()
    timezone: str = "UTC"
    measures: tuple[str, ...] = ()
    ran: tuple[str, ...] = ()
    ask: tuple[str, ...] = ()
    ask_timeout: str = "1m"
    exception: tuple[str, ...] = ()

    @field_validator("rested", "ask_timeout")
    @classmethod
    def _is_duration(cls, duration: str | None) -> str | None:
        if duration is not None:
            read_duration(duration)
        return duration

    @field_validator("closed")
    @classmethod
    def _are_times(cls, closed: tuple[str, ...]) -> tuple[str, ...]:
        for each in closed:
            closed_time(each)
        return closed

    @field_validator("measures")
    @classmethod
    def _are_measures(cls, measures: tuple[str, ...]) -> tuple[str, ...]:
        for each in measures:
            measure_condition(each)
        return measures

    @field_validator("ran")
    @classmethod
    def _are_runs(cls, ran: tuple[str, ...]) -> tuple[str, ...]:
        for each in ran:
            ran_condition(each)
        return ran

    @field_validator("timezone")
    @classmethod
    def _is_zone(cls, timezone: str) -> str:
        if timezone not in available_timezones():
            near = did_you_mean(timezone, available_timezones(), "")
            raise ValueError(f"{timezone!r} is no time zone; {near}")
        return timezone

    @property
    def conditions(self) -> EntryConditions:
        """The conditions as the rest of the program has them."""
        given = self.model_dump(exclude={"rested", "ask_timeout", "bundle_signed"})
        rested = read_duration(self.rested).total_seconds() if self.rested else 0.0
        return EntryConditions(
            **given,
            bundle_signed=bool(self.bundle_signed),
            bundle_by=self.bundle_signed if isinstance(self.bundle_signed, tuple) else (),
            rested=rested,
            ask_seconds=read_duration(self.ask_timeout).total_seconds(),
        )


class VerifySettings(Settings):
    """One ``[[verify]]`` of an environment file."""

    name: str = Field(pattern=r"^\S.*$")
    query: str | None = None
    http: str | None = None
    value: str | None = None
    answer: str = ""
    status: int = Field(200, ge=100, le=599)
    token: str | None = None
    waits: str | None = None

    @field_validator("waits")
    @classmethod
    def _is_duration(cls, waits: str | None) -> str | None:
        if waits is not None:
            read_duration(waits)
        return waits

    @model_validator(mode="after")
    def _asks_one(self) -> Self:
        asked = [name for name in Asked if getattr(self, name.value) is not None]
        if len(asked) != 1:
            raise ValueError("must say one of query, http and value")
        if asked[0] is Asked.HTTP and self.answer:
            key_in_body(self.answer)
        if asked[0] is Asked.VALUE and not self.answer:
            raise ValueError('must say what is expected of the value: answer = "contains test"')
        return self

    @property
    def verification(self) -> Verification:
        """The verification as the rest of the program has it."""
        asked = next(name for name in Asked if getattr(self, name.value) is not None)
        answer = self.answer or ("> 0" if asked is Asked.QUERY else "")
        return Verification(
            name=self.name,
            asked=asked,
            question=getattr(self, asked.value),
            answer=answer,
            status=self.status,
            token=self.token,
            waits=read_duration(self.waits).total_seconds() if self.waits else 0.0,
        )


class EnvironmentSettings(Settings):
    """An environment file."""

    about: str = ""
    formerly: str = ""
    after: tuple[str, ...] = ()
    protected: bool = False
    snapshots: bool = False
    overrides: bool = False
    shared: tuple[Literal["database", "workspace", "gateway"], ...] = ()
    databases: Databases
    workspace: ServiceSettings
    gateway: ServiceSettings
    secret_store: SecretStoreSettings | None = None
    schedules: dict[str, Literal["on", "off"]] = {}
    entry: EntrySettings = EntrySettings()
    verify: tuple[VerifySettings, ...] = ()

    @field_validator("verify")
    @classmethod
    def _have_own_names(cls, verify: tuple[VerifySettings, ...]) -> tuple[VerifySettings, ...]:
        names = [each.name for each in verify]
        twice = next((name for name in names if names.count(name) > 1), None)
        if twice is not None:
            raise ValueError(f"has two of the name {twice!r}")
        return verify


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
        secret_store=SecretStoreAddress(**settings.secret_store.model_dump())
        if settings.secret_store
        else None,
        default_schedule=default,
        schedules=schedules,
        entry=settings.entry.conditions,
        verifications=tuple(each.verification for each in settings.verify),
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
    services = {"workspace": environment.workspace, "gateway": environment.gateway}
    for name, service in services.items():
        has_own = OWNER in service.url or name in environment.shared
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
