"""Mails: handed to a mail server, or laid into a folder where nobody is to get one."""

from __future__ import annotations

import datetime as dt
import mailbox
import smtplib
import socket
import ssl
from abc import abstractmethod
from collections.abc import Callable, Mapping
from contextlib import suppress
from email.message import EmailMessage
from email.utils import format_datetime, parseaddr
from typing import Any, ClassVar
from urllib.parse import urlsplit

from msgspec.structs import replace

from inchworm.core.errors import TargetError
from inchworm.core.running.mailing import TEXTS, mail_of
from inchworm.core.running.sending import Message, Verdict
from inchworm.engine.running.receivers import Receiver, Reply, check_credentials, timeout_of
from inchworm.targets.exchanges import hung_up_after
from inchworm.targets.machine import Machine
from inchworm.targets.secret import Secret, without_secrets


class _Mails(Receiver):
    """Takes the mails of one flow; each has its row's identity in its ``Message-ID``.

    A mail that was on its way when a run was killed is sent again under the same ``Message-ID``,
    by which a mailbox can tell that it has it.
    """

    at_once: ClassVar[int] = 1  # nobody may get a mail twice because many were on their way

    def __init__(self, flow: Mapping[str, Any], connection: Mapping[str, Any], now: str) -> None:
        self._flow = flow
        self._sender = str(connection["sender"])
        self._now = now

    def message(self, row: Mapping[str, object]) -> Message:
        """The mail about a row."""
        texts = {name: str(self._flow["to"][name]) for name in TEXTS}
        return mail_of(row, self._flow["fields"], texts, self._flow.get("once_per", ()))

    def fault(self, message: Message) -> str:
        """Why a mail cannot be written: an address that is none, a subject of several lines."""
        address = str((message.body or {}).get("address", ""))
        try:
            mail = self._mail(message)
        except ValueError as error:
            return str(error)
        addresses = mail["To"].addresses
        if len(addresses) != 1 or not addresses[0].domain or not addresses[0].username:
            return f"{address!r} is not the address of one mailbox"
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
        """Send a mail, once."""
        if fault := self.fault(message):  # of a dead letter that somebody wants to have sent
            return Reply(verdict=Verdict.REFUSED, text=fault)
        return self._hand_over(self._mail(message))

    @abstractmethod
    def _hand_over(self, mail: EmailMessage) -> Reply: ...


class MailFolder(_Mails):
    """A folder in which mails are laid down, one file each, in place of being sent.

    It is a Maildir, which mail programs open. With it a desk or a test environment sees its mails,
    and nobody else does.

    Args:
        flow: the rendered flow.
        connection: the rendered connection: ``maildir:FOLDER``, seen from the project.
        machine: where the project is.
        now: the time, ISO 8601, UTC.
    """

    def __init__(
        self, flow: Mapping[str, Any], connection: Mapping[str, Any], machine: Machine, now: str
    ) -> None:
        super().__init__(flow, connection, now)
        self._folder = machine.root / urlsplit(connection["url"]).path

    def _hand_over(self, mail: EmailMessage) -> Reply:
        try:
            self._folder.parent.mkdir(parents=True, exist_ok=True)
            mailbox.Maildir(self._folder).add(mail)
        except OSError as error:
            what = error.strerror or str(error)
            text = f"{self._folder.name} takes no mail: {what}"
            return Reply(verdict=Verdict.STOP, text=text, is_answer=False)
        return Reply(verdict=Verdict.TAKEN)

    def close(self) -> None:
        """Nothing to do: each mail is a file by itself."""


class MailServer(_Mails):
    """A mail server (SMTP, RFC 5321).

    Args:
        flow: the rendered flow.
        connection: the rendered connection: ``smtp://host:port``, which must offer STARTTLS unless
            it is this machine, or ``smtps://host:port``.
        credentials: ``user`` and ``password``, or none.
        now: the time, ISO 8601, UTC.

    Raises:
        TargetError: when the connection is not of a kind that can be reached.
    """

    def __init__(
        self,
        flow: Mapping[str, Any],
        connection: Mapping[str, Any],
        credentials: Mapping[str, Secret],
        now: str,
    ) -> None:
        super().__init__(flow, connection, now)
        self._address = urlsplit(connection["url"])
        if self._address.scheme not in _PORTS or not self._address.hostname:
            raise TargetError(
                f"there is no mail server at {connection['url']!r}.",
                next="Write smtp://host:port or smtps://host:port, or maildir:FOLDER.",
            )
        check_credentials(credentials, "user", "password")
        self._credentials = credentials
        self._timeout = timeout_of(connection)
        self._server: smtplib.SMTP | None = None
        self._is_connected = False

    def _hand_over(self, mail: EmailMessage) -> Reply:
        """Over one connection for all mails, while it holds."""
        with hung_up_after(self._timeout, self._socket) as is_late:
            try:
                self._connected().send_message(mail)
            except (smtplib.SMTPException, OSError) as error:
                late = TimeoutError("it takes too long")
                reply = self._reply_to(late if is_late() else error)
                text = without_secrets(reply.text, self._credentials.values())
                return replace(reply, text=text)
        return Reply(verdict=Verdict.TAKEN)

    def _socket(self) -> socket.socket | None:
        return self._server.sock if self._server is not None else None

    def _reply_to(self, error: Exception) -> Reply:
        """What an error means: for this mail, for all of them, or for now alone."""
        if isinstance(error, smtplib.SMTPRecipientsRefused):
            code, words = next(iter(error.recipients.values()))
            return Reply(verdict=_verdict(code), text=_words(code, words))
        if isinstance(error, smtplib.SMTPNotSupportedError) and self._is_connected:
            return Reply(verdict=Verdict.REFUSED, text=str(error))  # an address in other letters
        self._hang_up()
        if isinstance(error, smtplib.SMTPResponseException):
            meant = _verdict(error.smtp_code)
            if isinstance(error, (smtplib.SMTPSenderRefused, smtplib.SMTPAuthenticationError)):
                meant = Verdict.STOP if meant is Verdict.REFUSED else meant
            return Reply(verdict=meant, text=_words(error.smtp_code, error.smtp_error))
        if isinstance(error, (smtplib.SMTPNotSupportedError, ssl.SSLCertVerificationError)):
            # the next try ends alike
            return Reply(verdict=Verdict.STOP, text=str(error), is_answer=False)
        what = str(error) or type(error).__name__
        text = f"the mail server cannot be reached: {what}"
        return Reply(verdict=Verdict.BUSY, text=text, is_answer=False)

    def _connected(self) -> smtplib.SMTP:
        if self._is_connected and self._server is not None:
            return self._server
        host, port = str(self._address.hostname), self._address.port
        context = ssl.create_default_context()

        def told(server: smtplib.SMTP) -> None:
            self._server = server

        server: smtplib.SMTP
        if self._address.scheme == "smtps":
            server = _EncryptedServer(
                told, host, port or _PORTS["smtps"], timeout=self._timeout, context=context
            )
        else:
            server = _PlainServer(told, host, port or _PORTS["smtp"], timeout=self._timeout)
        server.ehlo()
        if self._address.scheme == "smtp" and server.has_extn("starttls"):
            server.starttls(context=context)
            server.ehlo()
        elif self._address.scheme == "smtp" and host not in _THIS_MACHINE:
            raise smtplib.SMTPNotSupportedError(
                f"{host} offers no STARTTLS, and mails do not go over a network unencrypted"
            )
        if self._credentials:
            server.login(*(self._credentials[name].for_header() for name in ("user", "password")))
        self._is_connected = True
        return server

    def _hang_up(self) -> None:
        self._is_connected = False
        if self._server is not None:
            self._server.close()
            self._server = None

    def close(self) -> None:
        """Say good-bye to the server."""
        if self._is_connected and self._server is not None:
            with (
                hung_up_after(self._timeout, self._socket),
                suppress(smtplib.SMTPException, OSError),  # it may have hung up before
            ):
                self._server.quit()
        self._hang_up()


class _Told:
    """A connection that is known before it is there: greeting it takes its time, too."""

    def __init__(self, told: Callable[[Any], None], *args: Any, **options: Any) -> None:
        told(self)
        super().__init__(*args, **options)


class _PlainServer(_Told, smtplib.SMTP): ...


class _EncryptedServer(_Told, smtplib.SMTP_SSL): ...


_PORTS = {"smtp": 587, "smtps": 465}
"""The ports of submission (RFC 8314)."""

_THIS_MACHINE = ("localhost", "127.0.0.1", "::1")


_LEAVES = 421
"""The code with which a server closes the connection (RFC 5321, 3.8)."""


def _verdict(code: int) -> Verdict:
    """What a code of SMTP means for the mail that it is about."""
    if code == _LEAVES:
        return Verdict.BUSY
    return Verdict.AGAIN if 400 <= code < 500 else Verdict.REFUSED


def _words(code: int, words: bytes | str) -> str:
    text = words.decode(errors="replace") if isinstance(words, bytes) else words
    return " ".join(f"{code} {text}".split())[:200]


MAIL_FOLDER = "maildir"
"""The scheme of a folder that takes mails."""


def mail_receiver(
    flow: Mapping[str, Any],
    connection: Mapping[str, Any],
    credentials: Mapping[str, Secret],
    machine: Machine,
    now: str,
) -> Receiver:
    """The receiver that a connection of kind ``mail`` leads to.

    Raises:
        TargetError: when its address is of no known kind.
    """
    if urlsplit(connection["url"]).scheme == MAIL_FOLDER:  # the credentials are for elsewhere
        return MailFolder(flow, connection, machine, now)
    return MailServer(flow, connection, credentials, now)
