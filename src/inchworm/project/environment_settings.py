"""The settings of an environment's file: its places, what it demands, what has to hold there."""

from __future__ import annotations

import re
from typing import Annotated, Literal
from zoneinfo import available_timezones

from msgspec.structs import replace
from pydantic import Field, field_validator, model_validator

from inchworm.core.entry.closed_hours import closed_time
from inchworm.core.entry.conditions import EntryConditions, measure_condition, ran_condition
from inchworm.core.entry.people import GROUP
from inchworm.core.environments.environment import (
    OWNER,
    DatabaseAddress,
    NotebookServerAddress,
    ServiceAddress,
)
from inchworm.core.errors import did_you_mean
from inchworm.core.parameters.values import read_duration
from inchworm.kinds.settings import Settings
from inchworm.kinds.verify_settings import Verifying

REFERENCE = re.compile(r"(?!secret:)[a-z][a-z0-9_-]*:\S+")
"""Where a secret is kept that no secret store can keep."""


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
    """``[workspace]`` of an environment file."""

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


class GatewaySettings(ServiceSettings):
    """``[gateway]`` of an environment file."""

    api_versions: Annotated[int, Field(ge=1, le=20)] = 1

    @property
    def address(self) -> ServiceAddress:
        """The address as the rest of the program has it."""
        return replace(super().address, api_versions=self.api_versions)


class NotebookServerSettings(Settings):
    """``[notebooks]`` of an environment file."""

    url: str
    token: str | None = None
    folder: str = ""
    kernel: str = "python3"

    @field_validator("url")
    @classmethod
    def _is_of_a_server(cls, url: str) -> str:
        if not re.match(r"\$\{|jupyter\+https?://.", url):
            raise ValueError(
                "must be jupyter+https:// and the address of a Jupyter Server (jupyter+http:// "
                "where nobody else can listen: values and rows go there)"
            )
        return url

    @field_validator("folder")
    @classmethod
    def _is_folder(cls, folder: str) -> str:
        if folder and not all(re.fullmatch(_OF_FOLDERS, each) for each in folder.split("/")):
            raise ValueError(
                "must be names with / between them, none before the first, and none hidden, such "
                'as "forecasts/test"'
            )
        return folder

    @property
    def address(self) -> NotebookServerAddress:
        """The address as the rest of the program has it."""
        return NotebookServerAddress(**self.model_dump())


_OF_FOLDERS = r"[^./\\\x00-\x1f][^/\\\x00-\x1f]*"
"""What a folder of a notebook server may be called."""


class SecretStoreSettings(Settings):
    """``[secret_store]`` of an environment file."""

    url: str
    token: str

    @field_validator("token")
    @classmethod
    def _is_reference(cls, token: str) -> str:
        if not REFERENCE.fullmatch(token):
            raise ValueError("must be a reference such as env:NAME or file:PATH")
        return token


class EntrySettings(Settings):
    """``[entry]`` of an environment file."""

    approvals: int = Field(0, ge=0, le=100)
    by: tuple[str, ...] = ()
    each_of: tuple[str, ...] = ()
    authors_may_approve: bool = False
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
    ask_environment: tuple[str, ...] = ()
    rules_from: str = ""
    exception: tuple[str, ...] = ()
    exception_skips_route: bool = False

    @field_validator("each_of")
    @classmethod
    def _are_groups(cls, groups: tuple[str, ...]) -> tuple[str, ...]:
        return tuple(group.removeprefix(GROUP) for group in groups)

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


class EnvironmentSettings(Verifying):
    """An environment file."""

    about: str = ""
    formerly: str = ""
    after: tuple[str, ...] = ()
    protected: bool = False
    snapshots: bool = False
    overrides: bool = False
    shared: tuple[Literal["database", "workspace", "gateway", "notebooks"], ...] = ()
    databases: Databases
    workspace: ServiceSettings
    gateway: GatewaySettings
    notebooks: NotebookServerSettings | None = None
    secret_store: SecretStoreSettings | None = None
    schedules: dict[str, Literal["on", "off"]] = {}
    entry: EntrySettings = EntrySettings()
