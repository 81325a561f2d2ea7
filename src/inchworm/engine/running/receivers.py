"""Where a flow's rows go: an operation of an API, or a mailbox."""

from __future__ import annotations

import datetime as dt
import smtplib
import ssl
from collections.abc import Mapping
from contextlib import suppress
from dataclasses import dataclass
from email.message import EmailMessage
from email.utils import format_datetime, parseaddr
from typing import Any, ClassVar, Protocol
from urllib.parse import urlsplit

from inchworm.core.errors import TargetError
from inchworm.core.parameters.values import read_duration
from inchworm.core.running.mailing import TEXTS, mail_of
from inchworm.core.running.sending import Message, Verdict, message_of, verdict
from inchworm.engine.running.validation import BodyValidator
from inchworm.kinds.api_document import operation_of_api
from inchworm.targets.http_client import Answer, Client, http_client
from inchworm.targets.machine import Machine
from inchworm.targets.secret import Secret


@dataclass(frozen=True, kw_only=True)
class Reply:
    """What a receiver says to a message.

    Attributes:
        text: its words, in a line.
        pause: seconds after which it asks to be tried again; None where it asks for nothing.
    """

    verdict: Verdict
    text: str = ""
    pause: float | None = None


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
        _check_credentials(credentials, "token")
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
        """Why the API's schema does not take a request's body."""
        return "" if message.body is None else self._validator.fault(message.body)

    def deliver(self, message: Message) -> Reply:
        """Send a request; a receiver that cannot be reached may be reached later."""
        headers = {**message.headers, "idempotency-key": message.identity}
        try:
            answer = self._client.send(
                self._operation.method, message.path, message.body, message.query, headers
            )
        except TargetError as error:
            return Reply(verdict=Verdict.AGAIN, text=error.what)
        asked = answer.headers.get("retry-after", "")
        return Reply(
            verdict=verdict(answer.status),
            text=f"{answer.status} {_detail(answer)}",
            pause=float(asked) if asked.isdigit() else None,
        )

    def close(self) -> None:
        """Let go of the connections."""
        self._client.close()


def _check_credentials(credentials: Mapping[str, Secret], *known: str) -> None:
    """Whether credentials are of the kinds that a receiver takes.

    Raises:
        TargetError: when one is not.
    """
    for name in credentials:
        if name not in known:
            raise TargetError(
                f"the credential {name} is of no known kind.",
                next=f"Use {' and '.join(f'{each} = ...' for each in known)}",
            )


def _detail(answer: Answer) -> str:
    """What an answer says, in a line; problem details (RFC 9457) in the words of their author."""
    try:
        document = answer.json()
        text = str(document.get("detail") or document.get("title") or document)
    except (ValueError, AttributeError):
        text = answer.content.decode(errors="replace")
    return " ".join(text.split())[:200]


class MailReceiver:
    """A mail server (SMTP, RFC 5321); each mail has the row's identity in its ``Message-ID``.

    A mail that was on its way when a run was killed is sent again under the same ``Message-ID``,
    by which a mailbox can tell that it has it.

    Args:
        flow: the rendered flow.
        connection: the rendered connection: ``smtp://host:port``, which must offer STARTTLS unless
            it is this machine, or ``smtps://host:port``.
        credentials: ``user`` and ``password``, or none.
        now: the time, ISO 8601, UTC.

    Raises:
        TargetError: when the connection is not of a kind that can be reached.
    """

    at_once: ClassVar[int] = 1  # nobody may get a mail twice because many were on their way

    def __init__(
        self,
        flow: Mapping[str, Any],
        connection: Mapping[str, Any],
        credentials: Mapping[str, Secret],
        now: str,
    ) -> None:
        self._address = urlsplit(connection["url"])
        if self._address.scheme not in _PORTS or not self._address.hostname:
            raise TargetError(
                f"there is no mail server at {connection['url']!r}.",
                next="Write smtp://host:port or smtps://host:port.",
            )
        _check_credentials(credentials, "user", "password")
        self._flow = flow
        self._sender = str(connection["sender"])
        self._credentials = credentials
        self._timeout = timeout_of(connection)
        self._now = now
        self._server: smtplib.SMTP | None = None

    def message(self, row: Mapping[str, object]) -> Message:
        """The mail about a row."""
        texts = {name: str(self._flow["to"][name]) for name in TEXTS}
        return mail_of(row, self._flow["fields"], texts, self._flow.get("once_per", ()))

    def fault(self, message: Message) -> str:
        """Why a mail cannot be written: an address that is none, a subject of several lines."""
        address = str((message.body or {}).get("address", ""))
        if "@" not in parseaddr(address)[1]:
            return f"{address!r} is no address of a mailbox"
        try:
            self._mail(message)
        except ValueError as error:
            return str(error)
        return ""

    def _mail(self, message: Message) -> EmailMessage:
        body = message.body or {}
        mail = EmailMessage()
        mail["From"] = self._sender
        mail["To"] = body["address"]
        mail["Subject"] = body["subject"]
        mail["Date"] = format_datetime(dt.datetime.fromisoformat(self._now))
        domain = parseaddr(self._sender)[1].rpartition("@")[2]
        mail["Message-ID"] = f"<{message.identity}@{domain}>"
        mail["Auto-Submitted"] = "auto-generated"  # RFC 3834: no absence notes, please
        mail.set_content(body["text"])
        return mail

    def deliver(self, message: Message) -> Reply:
        """Hand a mail to the server, over one connection for all mails while it holds."""
        if fault := self.fault(message):  # of a dead letter that somebody wants to have sent
            return Reply(verdict=Verdict.REFUSED, text=fault)
        is_connected = False
        try:
            server = self._connected()
            is_connected = True
            server.send_message(self._mail(message))
        except (smtplib.SMTPException, OSError) as error:
            return self._reply_to(error, is_connected=is_connected)
        return Reply(verdict=Verdict.TAKEN)

    def _reply_to(self, error: Exception, *, is_connected: bool) -> Reply:
        """What an error means: for this mail, for all of them, or for now alone."""
        if isinstance(error, smtplib.SMTPRecipientsRefused):
            code, words = next(iter(error.recipients.values()))
            return Reply(verdict=_verdict(code), text=_words(code, words))
        if isinstance(error, smtplib.SMTPNotSupportedError) and is_connected:
            return Reply(verdict=Verdict.REFUSED, text=str(error))  # an address in other letters
        self._hang_up()
        if isinstance(error, smtplib.SMTPResponseException):
            meant = _verdict(error.smtp_code)
            if isinstance(error, (smtplib.SMTPSenderRefused, smtplib.SMTPAuthenticationError)):
                meant = Verdict.STOP if meant is Verdict.REFUSED else meant
            return Reply(verdict=meant, text=_words(error.smtp_code, error.smtp_error))
        if isinstance(error, (smtplib.SMTPNotSupportedError, ssl.SSLCertVerificationError)):
            return Reply(verdict=Verdict.STOP, text=str(error))  # the next try gets the same answer
        what = str(error) or type(error).__name__
        return Reply(verdict=Verdict.AGAIN, text=f"the mail server cannot be reached: {what}")

    def _connected(self) -> smtplib.SMTP:
        if self._server is not None:
            return self._server
        host, port = str(self._address.hostname), self._address.port
        context = ssl.create_default_context()
        if self._address.scheme == "smtps":
            server: smtplib.SMTP = smtplib.SMTP_SSL(
                host, port or _PORTS["smtps"], timeout=self._timeout, context=context
            )
        else:
            server = smtplib.SMTP(host, port or _PORTS["smtp"], timeout=self._timeout)
        self._server = server
        server.ehlo()
        if self._address.scheme == "smtp" and server.has_extn("starttls"):
            server.starttls(context=context)
            server.ehlo()
        elif self._address.scheme == "smtp" and host not in _THIS_MACHINE:
            raise smtplib.SMTPNotSupportedError(
                f"{host} offers no STARTTLS, and mails do not go over a network unencrypted"
            )
        if self._credentials:
            server.login(*(self._credentials[name].reveal() for name in ("user", "password")))
        return server

    def _hang_up(self) -> None:
        if self._server is not None:
            self._server.close()
            self._server = None

    def close(self) -> None:
        """Say good-bye to the server."""
        if self._server is not None:
            with suppress(smtplib.SMTPException, OSError):  # it may have hung up before
                self._server.quit()
        self._hang_up()


_PORTS = {"smtp": 587, "smtps": 465}
"""The ports of submission (RFC 8314)."""

_THIS_MACHINE = ("localhost", "127.0.0.1", "::1")


def _verdict(code: int) -> Verdict:
    """What a code of SMTP means for the mail that it is about."""
    return Verdict.AGAIN if 400 <= code < 500 else Verdict.REFUSED


def _words(code: int, words: bytes | str) -> str:
    text = words.decode(errors="replace") if isinstance(words, bytes) else words
    return " ".join(f"{code} {text}".split())[:200]


def timeout_of(connection: Mapping[str, Any]) -> float:
    """Seconds that the place behind a connection may take to answer."""
    return read_duration(str(connection.get("timeout", "30s"))).total_seconds()
