"""Flows inward: a request of others, held against the API's schema, becomes a row of ours.

A flow may answer to former versions of its API beside the live one: ``flow@1``.

The row and the key of its request are written in one transaction; a request that comes again under
the key of an earlier one is taken, and changes nothing.
"""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from typing import Any

from msgspec import Struct

from inchworm.core.environments.physical_names import PhysicalNames
from inchworm.core.errors import InchwormError, TargetError, UsageError, did_you_mean
from inchworm.core.identifiers import Kind, PartId, RelationName
from inchworm.core.parts import Digest, digest_of
from inchworm.core.rendered import RenderedDocument, canonical
from inchworm.core.running.api_versions import ApiVersion, answered, version_of
from inchworm.core.running.receiving import path_values, row_of
from inchworm.core.running.sending import Operation
from inchworm.core.running.taking_in import value_for
from inchworm.engine.connections import open_database
from inchworm.engine.open_environment import check_name
from inchworm.engine.preparation import Prepared
from inchworm.engine.running.validation import BodyValidator
from inchworm.kinds.api_document import operation_of_api, success_status
from inchworm.targets.databases.api_versions import ApiVersions
from inchworm.targets.databases.bookkeeping import Bookkeeping
from inchworm.targets.databases.protocols import Database
from inchworm.targets.databases.quoting import quoted, quoted_one
from inchworm.targets.databases.sent_rows import RequestContents, TakenRequests
from inchworm.targets.machine import Machine


class Unacceptable(InchwormError):
    """A request that the API's schema, or the table, does not take."""


class Retired(InchwormError):
    """A version of an API that a flow does not answer to any more."""


class Incoming(Struct, frozen=True, kw_only=True):
    """A request to a flow.

    Attributes:
        method: of HTTP, in capitals.
        path: behind the address of the flow, percent-encoded, without a query.
        query: the parameters in the query, by name.
        headers: by name in lower case.
        body: read from JSON.
    """

    method: str
    path: str
    query: Mapping[str, str]
    headers: Mapping[str, str]
    body: object

    @property
    def key(self) -> str:
        """By which the sender knows the request again; empty where it has none."""
        return self.headers.get("idempotency-key", "")

    @property
    def is_text(self) -> bool:
        """Whether all that it says is text, which a lone surrogate is not."""
        try:
            canonical([dict(self.query), self.body])
        except UnicodeEncodeError:
            return False
        return True

    @property
    def digest(self) -> Digest:
        """That of its content: what it says, and where."""
        return digest_of(canonical([self.path, dict(self.query), self.body]))


class InwardFlow:
    """One flow that takes in what others send, as it is live in an environment.

    Args:
        name: the flow's name, or that with a version of its API, ``flow@1``; case does not count.
        prepared: the bundle that is live, made ready for the environment.
        machine: where the project is, with its environment variables.
        versions: the versions of the APIs of all flows that were put there.

    Raises:
        UsageError: when there is no flow of that name that takes anything in, or no such version.
        Retired: when it does not answer to that version any more.
    """

    def __init__(
        self, name: str, prepared: Prepared, machine: Machine, versions: Sequence[ApiVersion] = ()
    ) -> None:
        self._prepared = prepared
        self._machine = machine
        flows = {part.name.lower(): part for part in prepared.reading.assembly.of_kind(Kind.FLOW)}
        asked = ""
        if name.lower() not in flows:
            name, _, asked = name.rpartition("@") if "@" in name else (name, "", "")
        self.part = flows.get(name.lower(), PartId(Kind.FLOW, name))
        document = self._document(self.part) if name.lower() in flows else {}
        self.version = version_of(document)
        self.since = ""
        """When another version took its place, ISO 8601, UTC; empty of the live one."""
        if asked and document.get("direction") == "in" and asked != self.version:
            own = [each for each in versions if each.flow == self.part.name]
            document = self._former(asked, own)
        if document.get("direction") != "in":
            raise UsageError(
                f"There is no flow {name} that takes anything in.",
                next=did_you_mean(name, flows, "See inchworm status ENV."),
            )
        self._fields = {str(c): str(f) for c, f in document["fields"].items()}
        self._table = str(document["to"]["table"])
        self._operation: Operation = operation_of_api(
            document["openapi"], document["from"]["operation"]
        )
        self._types: Mapping[str, str] | None = None
        """Of the table's columns, once they are known."""
        self._validator = BodyValidator(document["openapi"], self._operation)
        self.status = success_status(document["openapi"], document["from"]["operation"])
        """The status of HTTP that the API promises for what was taken."""

    def _former(self, asked: str, versions: Sequence[ApiVersion]) -> Mapping[str, Any]:
        """The flow as it was with a former version of its API."""
        keep = self._prepared.environment.gateway.api_versions
        answers = answered(versions, self.version, keep)
        named = " and ".join(each.version for each in answers) or self.version
        known = {each.version: each for each in versions}
        if asked not in known:
            raise UsageError(
                f"{self.part} has no API version {asked}.", next=f"It answers to {named}."
            )
        if known[asked] not in answers:
            raise Retired(
                f"API version {asked} of {self.part} is not answered any more.",
                next=f"Send by {named}.",
            )
        self.version = asked
        later = next(each for each in versions if each.number == known[asked].number + 1)
        self.since = later.put_at
        document: Mapping[str, Any] = json.loads(known[asked].document)
        return document

    def _document(self, part: PartId) -> Mapping[str, Any]:
        rendered = self._prepared.rendered[part]
        assert isinstance(rendered, RenderedDocument)
        return rendered.content

    def take(self, incoming: Incoming, at: str) -> bool:
        """Write the row that a request is about.

        Args:
            incoming: the request.
            at: the time, ISO 8601, UTC.

        Returns:
            Whether it is new; False for one that came before under the same key.

        Raises:
            UsageError: when the path or method is not that of the flow's operation.
            Unacceptable: when the schema or the table does not take it.
            EnvironmentMoved: when somebody else has the database.
            TargetError: when the database cannot be reached.
        """
        if not incoming.is_text:
            raise Unacceptable("it has what is no text: half of a letter.")
        placed = path_values(incoming.path, self._operation)
        if placed is None or incoming.method != self._operation.method:
            raise UsageError(
                f"{self.part} takes {self._operation.method} {self._operation.path}.",
                next="Send it there.",
            )
        for name, place in self._operation.places.items():
            given = incoming.query if place == "query" else incoming.headers
            if place in {"query", "header"} and name.lower() in {n.lower() for n in given}:
                placed[name] = next(v for n, v in given.items() if n.lower() == name.lower())
        fault = self._validator.fault(incoming.body) if self._operation.schema else ""
        if fault:
            raise Unacceptable(f"{fault}.")
        body = incoming.body if isinstance(incoming.body, dict) else {}
        row = row_of(body, placed, self._fields, self._operation)
        return self._write(row, incoming, at)

    def _fitting(
        self, row: Mapping[str, Any], table: RelationName, database: Database
    ) -> list[object]:
        """The values of a row as the columns of the table take them."""
        if self._types is None:
            live = database.tables([table]).get(table)
            self._types = {} if live is None else {c.name: c.type for c in live.columns}
        values = []
        for column, value in row.items():
            try:
                values.append(value_for(value, self._types.get(column, "")))
            except ValueError as error:
                field = self._fields[column]
                raise Unacceptable(f"{field} is not as expected: {error}.") from error
        return values

    def _write(self, row: Mapping[str, Any], incoming: Incoming, at: str) -> bool:
        key = incoming.key
        prepared, environment = self._prepared, self._prepared.environment
        project = prepared.bundle.project
        with open_database(
            environment, self._machine, prepared.values, read_only=False
        ) as database:
            bookkeeping = Bookkeeping(database, project, environment.database.bookkeeping)
            check_name(environment, project, bookkeeping.environment())
            names = PhysicalNames(prepared.reading.assembly, environment, database.dialect)
            taken = TakenRequests(database, bookkeeping.schema, project, self.part.name)
            contents = RequestContents(database, bookkeeping.schema, project, self.part.name)
            columns = ", ".join(map(quoted_one, row))
            places = ", ".join("?" * len(row))
            table = names.table(self._table)
            values = self._fitting(row, table, database)
            taken.ensure()
            contents.ensure()
            with database.transaction():
                if key and not taken.take(key, at):
                    if not contents.fits(key, incoming.digest):
                        raise Unacceptable(
                            "its Idempotency-Key was used before, with different content."
                        )
                    return False
                if key:
                    contents.add(key, incoming.digest)
                try:
                    database.execute(
                        f"INSERT INTO {quoted(table)} ({columns}) VALUES ({places})", values
                    )
                except TargetError as error:
                    raise Unacceptable(f"the table does not take it: {error.what}") from error
                if self.version and bookkeeping.has("api_versions"):
                    counted = ApiVersions(database, bookkeeping.schema, project)
                    counted.count(self.part.name, self.version, at)
        return True


def versions_there(prepared: Prepared, machine: Machine) -> tuple[ApiVersion, ...]:
    """The versions of the APIs of all inward flows that were put into an environment.

    Raises:
        TargetError: when its database cannot be reached.
    """
    environment, project = prepared.environment, prepared.bundle.project
    with open_database(environment, machine, prepared.values, read_only=True) as database:
        bookkeeping = Bookkeeping(database, project, environment.database.bookkeeping)
        if not bookkeeping.has("api_versions"):  # an earlier version promoted
            return ()
        return ApiVersions(database, bookkeeping.schema, project).all()
