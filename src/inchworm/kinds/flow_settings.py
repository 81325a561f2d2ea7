"""The settings of flows: their two ends, the way that they move data, and what goes with it."""

from __future__ import annotations

from collections.abc import Mapping
from enum import StrEnum
from typing import Any, Literal

from msgspec import Struct, field
from pydantic import Field, model_validator

from inchworm.core.identifiers import PartId
from inchworm.core.lineage.facts import Use
from inchworm.core.parameters.values import read_duration
from inchworm.core.running.copying import FileFormat
from inchworm.core.running.mailing import TEXTS, placeholders
from inchworm.core.sql.declared import Declaring
from inchworm.core.toml import TomlDocument
from inchworm.kinds.settings import Settings
from inchworm.kinds.verify_settings import Verifying


class Way(StrEnum):
    """How a flow moves data."""

    SEND = "send"
    """Rows of ours, each a request of an API's operation."""
    RECEIVE = "receive"
    """Requests of an API's operation, each a row of ours."""
    MAIL = "mail"
    """Rows of ours, each a mail."""
    COPY = "copy"
    """Files of one place, into another place or a table."""


class End(Settings):
    """One end of a flow: rows of ours, an operation of an API, a mailbox, or files."""

    table: str | None = None
    query: str | None = None
    connection: str | None = None
    api: str | None = None
    operation: str | None = None
    address: str | None = None
    subject: str | None = None
    text: str | None = None
    files: str | None = None
    folder: str | None = None

    @property
    def keys(self) -> frozenset[str]:
        """The settings that are there."""
        return frozenset(name for name in type(self).model_fields if getattr(self, name))


class FlowSettings(Verifying):
    """A flow's file."""

    about: str = ""
    owner: str = ""
    direction: Literal["out", "in", "copy"]
    from_: End = Field(alias="from")
    to: End
    fields: dict[str, str] = {}
    once_per: tuple[str, ...] = ()
    per_second: float | None = Field(None, gt=0)
    format: FileFormat | None = None
    settled: str = "0s"
    cleared: tuple[str, ...] = ()

    @property
    def way(self) -> Way:
        """How it moves data."""
        if self.direction == "out":
            return Way.MAIL if self.to.address else Way.SEND
        return Way.RECEIVE if self.direction == "in" else Way.COPY

    @model_validator(mode="after")
    def _ends_fit(self) -> FlowSettings:
        if self.direction == "out" and bool(self.from_.table) == bool(self.from_.query):
            raise ValueError("[from] needs either table = ... or query = ...")
        {
            Way.SEND: self._sending_fits,
            Way.RECEIVE: self._receiving_fits,
            Way.MAIL: self._mailing_fits,
            Way.COPY: self._copying_fits,
        }[self.way]()
        if self.way is not Way.COPY and not self.fields:
            raise ValueError("[fields] is missing")
        return self

    def _sending_fits(self) -> None:
        _only("from", self.from_, "table", "query")
        _only("to", self.to, "connection", "api", "operation")
        if not self.to.api or not self.to.operation:
            raise ValueError("the outside end needs api = ... and operation = ...")
        if not self.to.connection:
            raise ValueError("[to] needs connection = ...")

    def _receiving_fits(self) -> None:
        _only("from", self.from_, "connection", "api", "operation")
        _only("to", self.to, "table")
        if not self.from_.api or not self.from_.operation:
            raise ValueError("the outside end needs api = ... and operation = ...")
        if not self.to.table:
            raise ValueError("[to] needs table = ...")

    def _mailing_fits(self) -> None:
        _only("from", self.from_, "table", "query")
        _only("to", self.to, "connection", "address", "subject", "text")
        for name in ("connection", "subject", "text"):
            if not getattr(self.to, name):
                raise ValueError(f"[to] needs {name} = ..., as it has address = ...")
        for name in TEXTS:
            unknown = placeholders(getattr(self.to, name)) - self.fields.keys()
            if unknown:
                raise ValueError(
                    f"[to] {name} has {{{sorted(unknown)[0]}}}, which is not under [fields]"
                )

    def _copying_fits(self) -> None:
        _only("from", self.from_, "connection", "files")
        if not self.from_.connection or not self.from_.files:
            raise ValueError("[from] needs connection = ... and files = ...")
        if bool(self.to.table) == bool(self.to.connection):
            raise ValueError("[to] needs either table = ... or connection = ...")
        _only("to", self.to, *(("table",) if self.to.table else ("connection", "folder")))
        for end, name, path in (
            ("from", "files", self.from_.files),
            ("to", "folder", self.to.folder),
        ):
            if path and (path.startswith("/") or ".." in path.split("/")):
                raise ValueError(f"[{end}] {name} has to be below the connection's folder")
        if self.to.connection and (self.fields or self.format):
            raise ValueError("files are copied as they are: [fields] and format are for a table")
        if self.to.table and not self.fields:
            raise ValueError("[fields] is missing: column of ours = column of the file")
        if not self.settled.startswith("${"):
            try:
                read_duration(self.settled)
            except ValueError as problem:
                raise ValueError(f"settled = {problem}") from problem


def _only(name: str, end: End, *keys: str) -> None:
    """Refuse settings that mean nothing at this end."""
    for key in sorted(end.keys - set(keys)):
        raise ValueError(f"[{name}] {key} means nothing here; known: {', '.join(keys)}")


class Flow(Struct, frozen=True, kw_only=True):
    """A flow that has been read, with the API document at its outside end, if it has one."""

    part: PartId
    file: str
    dialect: str
    settings: FlowSettings
    document: TomlDocument
    declared: Declaring
    api: Mapping[str, Any] = field(default_factory=dict)
    api_uses: tuple[Use, ...] = ()

    @property
    def documents(self) -> tuple[str, ...]:
        """The API document that is packed with the flow."""
        return (self.api_path,) if self.api_path else ()

    @property
    def api_path(self) -> str:
        """The path of the API document; empty where there is none."""
        return (self.api_end.api or "") if self.api_end is not None else ""

    @property
    def operation(self) -> str:
        """The operation of the API; empty where there is none."""
        return (self.api_end.operation or "") if self.api_end is not None else ""

    @property
    def is_outward(self) -> bool:
        """Whether rows of ours go out."""
        return self.settings.way in (Way.SEND, Way.MAIL)

    @property
    def api_end(self) -> End | None:
        """The end that is an operation of an API, if one is."""
        return {Way.SEND: self.settings.to, Way.RECEIVE: self.settings.from_}.get(self.settings.way)
