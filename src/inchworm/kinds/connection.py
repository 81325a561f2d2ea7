"""Connections: how to reach something outside, always by parameters."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, Literal

from msgspec import Struct
from pydantic import model_validator

from inchworm.core.checks import rules
from inchworm.core.identifiers import Kind, PartId
from inchworm.core.lineage.facts import Facts
from inchworm.core.parameters.matrix import references, substitute
from inchworm.core.parameters.values import Value
from inchworm.core.parts import Part
from inchworm.core.rendered import Rendered, RenderedDocument
from inchworm.core.structure.tables import Table
from inchworm.core.toml import TomlDocument
from inchworm.kinds.base import Surroundings
from inchworm.kinds.settings import Report, documented, parameter_uses, read_part
from inchworm.kinds.verify_settings import Verifying, without_questions


class ConnectionSettings(Verifying):
    """A connection's file."""

    about: str = ""
    owner: str = ""
    kind: Literal["http", "database", "files", "mail"]
    url: str
    timeout: str = "30s"
    credentials: dict[str, str] = {}
    shared: bool = False
    sender: str = ""

    @model_validator(mode="after")
    def _mail_has_a_sender(self) -> ConnectionSettings:
        if self.kind == "mail" and not self.sender:
            raise ValueError("needs sender = ..., the address that its mails come from")
        if self.kind != "mail" and self.sender:
            raise ValueError('sender is for kind = "mail" alone')
        return self


class Connection(Struct, frozen=True, kw_only=True):
    """A connection that has been read."""

    part: PartId
    file: str
    settings: ConnectionSettings
    document: TomlDocument


class ConnectionKind:
    """How connections are handled."""

    kind = Kind.CONNECTION

    def read(self, part: Part, surroundings: Surroundings, report: Report) -> Connection | None:
        """The settings; an address or credential written out is an error."""
        validated = read_part(ConnectionSettings, part, report)
        if validated is None:
            return None
        settings, document = validated
        written_out = [("url",)] if not references(settings.url) else []
        written_out += [
            ("credentials", name)  # type: ignore[misc]
            for name, text in settings.credentials.items()
            if not references(text)
        ]
        for path in written_out:
            report(
                rules.MALFORMED.finding(
                    f"{'.'.join(path)} is written out",
                    part=part.id,
                    file=part.main.path,
                    line=document.line_of(path),
                    remedy="Make it a parameter with a value per environment: ${name}.",
                )
            )
        return Connection(part=part.id, file=part.main.path, settings=settings, document=document)

    def facts(self, connection: Connection, tables: Mapping[str, Table], report: Report) -> Facts:
        """The parameters that it uses."""
        return Facts(
            part=connection.part,
            addresses=() if connection.settings.shared else (connection.settings.url,),
            place=connection.settings.kind,
            owner=connection.settings.owner,
            documented=documented(connection.settings),
            verifications=connection.settings.verifications,
            uses=parameter_uses(connection.document, connection.file),
        )

    def render(self, connection: Connection, values: Mapping[str, Value]) -> Rendered:
        """The file with this environment's values; credentials stay references."""
        document: dict[str, Any] = substitute(without_questions(connection.document), values)
        return RenderedDocument(part=connection.part, content=document)
