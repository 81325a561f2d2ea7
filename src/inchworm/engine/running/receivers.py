"""Where a flow's rows go, and an operation of an API as such a place."""

from __future__ import annotations

import datetime as dt
from collections.abc import Iterable, Mapping
from typing import Any, ClassVar, Protocol

from msgspec import Struct

from inchworm.core.errors import TargetError
from inchworm.core.parameters.values import read_duration
from inchworm.core.running.sending import Message, Verdict, asked_pause, message_of, verdict
from inchworm.engine.running.validation import BodyValidator
from inchworm.kinds.api_document import operation_of_api
from inchworm.targets.http_client import Answer, Client, http_client
from inchworm.targets.machine import Machine
from inchworm.targets.secret import Secret, without_secrets


class Reply(Struct, frozen=True, kw_only=True):
    """What a receiver says to a message.

    Attributes:
        text: its words, in a line; or why there is no answer, as a clause.
        is_answer: whether it says that itself.
        pause: seconds after which it asks to be tried again; None where it asks for nothing.
    """

    verdict: Verdict
    text: str = ""
    is_answer: bool = True
    pause: float | None = None

    @property
    def clause(self) -> str:
        """What happened, as a clause that begins a sentence."""
        text = self.text.rstrip(".")
        return f"the receiver answers {text}" if self.is_answer else text


class Receiver(Protocol):
    """Takes the messages of one flow."""

    at_once: ClassVar[int]
    """Messages that are recorded as being sent at a time: that many may be sent again."""

    def message(self, row: Mapping[str, object]) -> Message:
        """The message about a row, by column in lower case."""
        ...

    def fault(self, message: Message) -> str:
        """Why a message cannot be sent at all; empty where it can."""
        ...

    def deliver(self, message: Message) -> Reply:
        """Send a message, once."""
        ...

    def close(self) -> None:
        """Let go of the connection."""
        ...


class ApiReceiver:
    """An operation of an API.

    Each request has the row's identity as its ``Idempotency-Key``, by which it is known again.

    Args:
        flow: the rendered flow.
        connection: the rendered connection.
        credentials: those of the connection, by name.
        machine: where the project is.

    Raises:
        TargetError: when the connection is not of a kind that can be reached.
    """

    at_once: ClassVar[int] = 200

    def __init__(
        self,
        flow: Mapping[str, Any],
        connection: Mapping[str, Any],
        credentials: Mapping[str, Secret],
        machine: Machine,
    ) -> None:
        check_credentials(credentials, "token")
        self._secrets = tuple(credentials.values())
        self._fields: Mapping[str, str] = flow["fields"]
        self._once_per = flow.get("once_per", ())
        self._operation = operation_of_api(flow["openapi"], flow["to"]["operation"])
        self._validator = BodyValidator(flow["openapi"], self._operation)
        self._client: Client = http_client(
            connection["url"],
            machine.root,
            credentials.get("token"),
            timeout=timeout_of(connection),
        )

    def message(self, row: Mapping[str, object]) -> Message:
        """The request about a row."""
        return message_of(row, self._fields, self._operation, self._once_per)

    def fault(self, message: Message) -> str:
        """Why the API's schema does not take a request's body, or no request can carry it."""
        return message.fault or (
            "" if message.body is None else self._validator.fault(message.body)
        )

    def deliver(self, message: Message) -> Reply:
        """Send a request; a receiver that cannot be reached may be reached later."""
        if message.fault:  # of a dead letter that is to be sent all the same
            return Reply(verdict=Verdict.REFUSED, text=message.fault)
        headers = {**message.headers, "idempotency-key": message.identity}
        try:
            answer = self._client.send(
                self._operation.method, message.path, message.body, message.query, headers
            )
        except TargetError as error:
            return Reply(verdict=Verdict.BUSY, text=error.what, is_answer=False)
        judged = verdict(answer.status)
        if judged is Verdict.TAKEN:
            return self._held_to_promise(answer)
        asked = answer.headers.get("retry-after", "")
        return Reply(
            verdict=judged,
            text=f"{answer.status} {_detail(answer, self._secrets)}",
            pause=asked_pause(asked, dt.datetime.now(dt.UTC)),
        )

    def _held_to_promise(self, answer: Answer) -> Reply:
        """Whether a row was taken: a login page of something in between is no such answer."""
        media_type = answer.headers.get("content-type", "").partition(";")[0].strip()
        if self._operation.keeps_promise(answer.status, media_type if answer.content else ""):
            return Reply(verdict=Verdict.TAKEN)
        content = f" with {media_type}" if answer.content and media_type else ""
        text = f"{answer.status}{content}, and its API promises {self._operation.promise}"
        return Reply(verdict=Verdict.STOP, text=text)

    def close(self) -> None:
        """Let go of the connections."""
        self._client.close()


def check_credentials(credentials: Mapping[str, Secret], *known: str) -> None:
    """Whether credentials are of the kinds that a receiver takes.

    Raises:
        TargetError: when one is not.
    """
    for name in credentials:
        if name not in known:
            raise TargetError(
                f"the credential {name} is of no known kind.",
                next=f"Use {' and '.join(f'{each} = ...' for each in known)}.",
            )


def _detail(answer: Answer, secrets: Iterable[Secret]) -> str:
    """What an answer says, in a line; problem details (RFC 9457) in the words of their author.

    Some receivers repeat what they were sent; of that no secret is kept, nor a part of one.
    """
    try:
        document = answer.json()
        text = str(document.get("detail") or document.get("title") or document)
    except (ValueError, AttributeError):
        text = answer.content.decode(errors="replace")
    return " ".join(without_secrets(text, secrets).split())[:200]


def timeout_of(connection: Mapping[str, Any]) -> float:
    """Seconds that the place behind a connection may take to answer."""
    return read_duration(str(connection.get("timeout", "30s"))).total_seconds()
