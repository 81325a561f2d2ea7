"""What a flow sends: from a row to a request of an API's operation, and how its answer is taken."""

from __future__ import annotations

import datetime as dt
import json
import unicodedata
from collections.abc import Iterable, Mapping
from decimal import Decimal
from email.utils import parsedate_to_datetime
from enum import StrEnum
from fnmatch import fnmatchcase
from typing import Any
from urllib.parse import quote

from msgspec import Struct, field

from inchworm.core.parts import digest_of


class Sent(StrEnum):
    """Where a row of a flow stands."""

    SENDING = "sending"
    """It may have arrived: it is sent again, and the receiver knows it by its key."""
    SENT = "sent"
    REFUSED = "refused"
    """The receiver, or the API's schema, does not take it: a dead letter."""


class Operation(Struct, frozen=True, kw_only=True):
    """An operation of an API.

    Attributes:
        path: with ``{name}`` for parameters.
        places: where parameters go, by name: ``path``, ``query`` or ``header``.
        schema: the JSON Schema of its body.
        promised: the answers by which the API says that a request was taken: by status (``201``, or
            ``2XX``), the media types of their content; none where it does not say.
    """

    method: str
    path: str
    places: Mapping[str, str]
    schema: Mapping[str, Any]
    promised: Mapping[str, tuple[str, ...]] = field(default_factory=dict)

    def keeps_promise(self, status: int, media_type: str) -> bool:
        """Whether an answer of success is one that the API promises.

        Args:
            status: that of the answer, 200 to 299.
            media_type: of its content, without parameters; empty where it has none.
        """
        if not self.promised:
            return True
        types = self.promised.get(str(status), self.promised.get("2XX"))
        if types is None:
            return False
        given = media_type.lower()
        return not types or not given or any(fnmatchcase(given, each.lower()) for each in types)

    @property
    def promise(self) -> str:
        """The answers of success, in words: ``201 with application/json``."""
        return " or ".join(
            f"{status} with {' or '.join(types)}" if types else status
            for status, types in self.promised.items()
        )

    def takes_null(self, name: str) -> bool:
        """Whether a field of the body may be null, or has to be there all the same."""
        described = self.schema.get("properties", {}).get(name, {})
        types = described.get("type", "null")
        is_nullable = described.get("nullable", False) or "null" in types
        return is_nullable or name in self.schema.get("required", ())


class Message(Struct, frozen=True, kw_only=True):
    """One request, and the identity of the row that it is about.

    Attributes:
        identity: SHA-256 in hexadecimal; equal for rows that are the same to the receiver.
    """

    identity: str
    path: str
    query: Mapping[str, str] = field(default_factory=dict)
    headers: Mapping[str, str] = field(default_factory=dict)
    body: Mapping[str, Any] | None = None

    @property
    def fault(self) -> str:
        """What no request can carry of it; empty where it can be sent."""
        for name, value in self.headers.items():
            if any(unicodedata.category(letter) == "Cc" for letter in value):
                return f"{name}: a header cannot have line breaks or other control characters"
        if not {".", ".."}.isdisjoint(self.path.split("/")):
            return f"{self.path}: a path cannot have . or .. as a value, it would lead elsewhere"
        return ""

    @property
    def text(self) -> str:
        """The message as the bookkeeping keeps it while it is on its way."""
        message = {
            "path": self.path,
            "query": self.query,
            "headers": self.headers,
            "body": self.body,
        }
        return json.dumps(message, ensure_ascii=False, sort_keys=True)

    @classmethod
    def of_text(cls, identity: str, text: str) -> Message:
        """A message that the bookkeeping kept."""
        return cls(identity=identity, **json.loads(text))


def message_of(
    row: Mapping[str, object],
    fields: Mapping[str, str],
    operation: Operation,
    once_per: Iterable[str] = (),
) -> Message:
    """The message about one row.

    Args:
        row: the row's values, by column in lower case.
        fields: the column that each field or parameter of the operation comes from.
        operation: the operation.
        once_per: columns by which a row is told apart from others; by default all that is sent.
    """
    values = {name: json_value(row[column.lower()]) for name, column in fields.items()}
    path, query, headers = operation.path, {}, {}
    body: dict[str, Any] = {}
    for name, value in values.items():
        text = "" if value is None else _spelled(value)
        match operation.places.get(name):
            case "path":
                path = path.replace(f"{{{name}}}", quote(text, safe=""))
            case "query" if value is not None:
                query[name] = text
            case "header" if value is not None:
                headers[name] = text
            case None if value is not None or operation.takes_null(name):
                body[name] = value
    distinguishing = [json_value(row[c.lower()]) for c in once_per] or [path, query, headers, body]
    identity = digest_of(json.dumps(distinguishing, ensure_ascii=False, sort_keys=True).encode())
    return Message(
        identity=identity.rpartition(":")[2],
        path=path,
        query=query,
        headers=headers,
        body=body if operation.schema else None,
    )


def json_value(value: object) -> Any:
    """A value of a database as an API takes it: times in ISO 8601, numbers as numbers."""
    match value:
        case None | bool() | int() | float() | str():
            return value
        case Decimal():
            return int(value) if value == value.to_integral_value() else float(value)
        case dt.datetime() | dt.date() | dt.time():
            return value.isoformat()
        case dict():
            return {str(name): json_value(each) for name, each in value.items()}
        case list() | tuple():
            return [json_value(each) for each in value]
    return str(value)


def _spelled(value: object) -> str:
    return str(value).lower() if isinstance(value, bool) else str(value)


class Verdict(StrEnum):
    """What an answer means for the message that it is about."""

    TAKEN = "taken"
    AGAIN = "again"
    """It may be taken later; if others are and this one is not, there is something about it."""
    BUSY = "busy"
    """It may be taken later, as any other: we are too fast, or nobody is there."""
    REFUSED = "refused"
    """This message is wrong; others may be right."""
    STOP = "stop"
    """Nothing is taken from us as things are."""


def asked_pause(retry_after: str, now: dt.datetime) -> float | None:
    """Seconds after which ``Retry-After`` asks to be tried again (RFC 9110, 10.2.3).

    Args:
        retry_after: the header: seconds, or a date.
        now: the present time, with a zone.

    Returns:
        None where it asks for nothing that can be read.
    """
    if retry_after.strip().isdigit():
        return float(retry_after)
    try:
        moment = parsedate_to_datetime(retry_after)
    except ValueError:
        return None
    if moment.tzinfo is None:  # of an old form, which is always in UTC
        moment = moment.replace(tzinfo=dt.UTC)
    return max(0.0, (moment - now).total_seconds())


_AGAIN = frozenset({408, 409, 425, 500, 502, 504})
_BUSY = frozenset({429, 503})
_NOT_ALLOWED = frozenset({401, 403, 404, 405, 407})


def verdict(status: int) -> Verdict:
    """What a status code of HTTP means. A redirect is not followed: it may lead anywhere."""
    if 200 <= status < 300:
        return Verdict.TAKEN
    if status in _AGAIN:
        return Verdict.AGAIN
    if status in _BUSY:
        return Verdict.BUSY
    if 300 <= status < 400 or status in _NOT_ALLOWED:
        return Verdict.STOP
    return Verdict.REFUSED
