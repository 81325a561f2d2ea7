"""Flows that send mails, by a real mail server on loopback, with TLS and a password."""

from __future__ import annotations

import json
import signal
import socket
import ssl
import threading
from collections.abc import Iterator
from contextlib import closing, suppress
from dataclasses import dataclass, field
from email import message_from_bytes, policy
from email.message import EmailMessage
from pathlib import Path
from typing import Any

import pytest
from aiosmtpd.controller import Controller
from aiosmtpd.smtp import SMTP, AuthResult, Envelope, LoginPassword, Session

from inchworm.core.running.sending import Message, Verdict
from inchworm.engine.running import flows
from inchworm.engine.running.mails import MailServer
from tests.certificates import certificate
from tests.driver import Program

FLOW = """
direction = "out"
[from]
table = "mart.warning"
[to]
connection = "duty"
address = "{who}"
subject = "Flood warning: {gauge}"
text = \"\"\"
The level at {gauge} is {level} cm.
See ${map_url}?gauge={gauge}.
\"\"\"
[fields]
who = "who"
gauge = "gauge"
level = "level"
"""
PASSWORD = "correct horse battery"


@dataclass
class Mailbox:
    """What a mail server took, and what it is to answer instead."""

    mails: list[EmailMessage] = field(default_factory=list)
    recipients: list[str] = field(default_factory=list)
    encrypted: list[bool] = field(default_factory=list)
    answers: dict[str, list[str]] = field(default_factory=dict)
    """By recipient, the answers to the next attempts."""
    taken: threading.Event = field(default_factory=threading.Event)
    enough: int = 1_000_000

    async def handle_RCPT(  # noqa: N802
        self, server: SMTP, session: Session, envelope: Envelope, address: str, options: list[str]
    ) -> str:
        waiting = self.answers.get(address)
        if waiting:
            return waiting.pop(0)
        envelope.rcpt_tos.append(address)
        return "250 OK"

    async def handle_DATA(self, server: SMTP, session: Session, envelope: Envelope) -> str:  # noqa: N802
        content = envelope.content
        assert isinstance(content, bytes)
        self.mails.append(message_from_bytes(content, policy=policy.default))
        self.recipients += envelope.rcpt_tos
        self.encrypted.append(session.ssl is not None)
        if len(self.mails) >= self.enough:
            self.taken.set()
        return "250 taken"


def free_port() -> int:
    """A port on which nobody listens."""
    with socket.socket() as listener:
        listener.bind(("127.0.0.1", 0))
        return int(listener.getsockname()[1])


def authenticate(
    server: SMTP, session: Session, envelope: Envelope, mechanism: str, data: Any
) -> AuthResult:
    """Whether it is the user that may send."""
    good = isinstance(data, LoginPassword) and (data.login, data.password) == (
        b"river",
        PASSWORD.encode(),
    )
    return AuthResult(success=good, handled=False)


@pytest.fixture
def server(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[tuple[Mailbox, str]]:
    """A mail server that wants TLS and a password, and its address."""
    cert, key = certificate(tmp_path / "tls")
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    context.load_cert_chain(cert, key)
    monkeypatch.setenv("SSL_CERT_FILE", str(cert))
    mailbox = Mailbox()
    controller = Controller(
        mailbox,
        hostname="127.0.0.1",
        port=free_port(),
        enable_SMTPUTF8=False,
        tls_context=context,
        require_starttls=True,
        auth_required=True,
        authenticator=authenticate,
    )
    controller.start()
    yield mailbox, f"smtp://127.0.0.1:{controller.port}"
    controller.stop()


def prepare(program: Program, url: str, *rows: tuple[str, str, int]) -> None:
    """A flow of these warnings that is live in development."""
    if not (program.folder / "flows").exists():
        matrix = (program.folder / "parameters.toml").read_text()
        program.write(
            "parameters.toml",
            f'{matrix}\n[mail_url]\ntype = "text"\nevery = "{url}"\n'
            '[mail_user]\ntype = "text"\nevery = "river"\n'
            '[map_url]\ntype = "text"\nevery = "https://map.example"\n'
            '[mail_password]\ntype = "secret"\nevery = "env:MAIL_PASSWORD"\n'
            '[mail_login]\ntype = "secret"\nevery = "env:MAIL_LOGIN"\n',
        )
        program.write(
            "connections/duty.toml",
            'kind = "mail"\nurl = "${mail_url}"\nsender = "Riverwatch <river@brackwater.example>"\n'
            'timeout = "5s"\n[credentials]\nuser = "${mail_login}"\n'
            'password = "${mail_password}"\n',
        )
    program.write("flows/warn.toml", FLOW)
    selects = [f"SELECT '{w}' AS who, '{g}' AS gauge, {n} AS level" for w, g, n in rows]
    program.write(
        "models/mart/warning.sql",
        '/*---\nstore = "table"\n---*/\n' + " UNION ALL ".join(selects) + "\n",
    )
    program.promote(program.pack(), "dev", code=None)


def run(program: Program, code: int | None = 0, *more: str) -> dict[str, Any]:
    lines = program("run", "warn", "--in", "dev", "--yes", "--json", *more, code=code).out
    step: dict[str, Any] = json.loads(lines.splitlines()[-1])["steps"][0]
    return step


@pytest.fixture(autouse=True)
def login(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("MAIL_LOGIN", "river")
    monkeypatch.setenv("MAIL_PASSWORD", PASSWORD)


ANA = ("ana@brackwater.example", "Weir", 310)
BEN = ("ben@brackwater.example", "Mühle", 255)


def test_each_row_is_one_mail(anywhere: tuple[Program, str], server: tuple[Mailbox, str]) -> None:
    program, _ = anywhere
    mailbox, url = server
    prepare(program, url, ANA, BEN)
    assert run(program)["message"] == "2 rows sent"
    assert run(program)["message"] == "0 rows sent, 2 sent before"
    by_address = {mail["To"]: mail for mail in mailbox.mails}
    mail = by_address[BEN[0]]
    assert mail["Subject"] == "Flood warning: Mühle"
    assert mail["From"] == "Riverwatch <river@brackwater.example>"
    assert mail["Message-ID"].endswith("@brackwater.example>")
    assert mail.get_content().strip().splitlines() == [
        "The level at Mühle is 255 cm.",
        "See https://map.example?gauge=Mühle.",
    ]
    assert mailbox.encrypted == [True, True]
    prepare(program, url, ANA, (*BEN[:2], 256))
    assert run(program)["message"] == "1 row sent, 1 sent before"


def test_a_folder_takes_mails_where_nobody_is_to_get_one(plain: Program) -> None:
    """The credentials that the same connection needs elsewhere do not matter there."""
    prepare(plain, "maildir:outbox/mail", ANA, BEN)
    assert run(plain)["message"] == "2 rows sent"
    assert run(plain)["message"] == "0 rows sent, 2 sent before"
    mails = [
        message_from_bytes(f.read_bytes()) for f in (plain.folder / "outbox/mail/new").iterdir()
    ]
    assert {mail["To"] for mail in mails} == {ANA[0], BEN[0]}


def test_a_folder_that_takes_no_mail_stops_the_flow(plain: Program) -> None:
    prepare(plain, "maildir:outbox", ANA)
    plain.write("outbox", "no folder")
    step = run(plain, 1)
    assert "outbox takes no mail: " in step["message"]
    (plain.folder / "outbox").unlink()
    assert run(plain)["message"] == "1 row sent"


def test_a_recipient_that_is_refused_is_a_dead_letter(
    plain: Program, server: tuple[Mailbox, str]
) -> None:
    mailbox, url = server
    several = (f"{ANA[0]}, mallory@y.example", "Weir", 3)
    prepare(plain, url, ANA, BEN, ("nobody", "Weir", 1), ("x@y.example", "We\nir", 2), several)
    mailbox.answers[ANA[0]] = ["550 no such person"]
    step = run(plain)
    assert step["message"] == "1 row sent, 4 dead letters"
    assert "550 no such person" in step["log"]
    assert "'nobody' is not the address of one mailbox" in step["log"]
    assert "mallory@y.example' is not the address of one mailbox" in step["log"]
    assert "linefeed" in step["log"]
    assert run(plain)["message"] == "0 rows sent, 5 sent before"
    assert run(plain, 0, "--dead-letters")["message"].startswith("1 row sent, 3 dead letters")
    assert set(mailbox.recipients) == {ANA[0], BEN[0]}


def test_an_address_that_the_server_cannot_write_is_a_dead_letter(
    plain: Program, server: tuple[Mailbox, str]
) -> None:
    """It is no reason to stop: the others get their mails."""
    mailbox, url = server
    prepare(plain, url, ("j\u00fcrgen@brackwater.example", "Weir", 1), BEN)
    step = run(plain)
    assert step["message"] == "1 row sent, 1 dead letter"
    assert "SMTPUTF8" in step["log"]
    assert mailbox.recipients == [BEN[0]]


def test_a_busy_server_is_asked_again(plain: Program, server: tuple[Mailbox, str]) -> None:
    mailbox, url = server
    prepare(plain, url, ANA)
    mailbox.answers[ANA[0]] = ["451 later, please", "452 still busy"]
    assert run(plain)["message"] == "1 row sent"


def test_an_address_that_always_fails_is_set_aside(
    plain: Program, server: tuple[Mailbox, str], monkeypatch: pytest.MonkeyPatch
) -> None:
    """Those behind it get their mails."""
    monkeypatch.setattr(flows, "_ATTEMPTS", 2)
    monkeypatch.setattr(flows, "_LONGEST_PAUSE", 0.0)
    mailbox, url = server
    prepare(plain, url, ANA, BEN)
    mailbox.answers[ANA[0]] = ["451 local error"] * 2
    step = run(plain)
    assert step["message"] == "1 row sent, 1 dead letter"
    assert "451 local error, 2 times, while others were taken" in step["log"]
    assert mailbox.recipients == [BEN[0]]


def test_a_server_whose_greeting_drips_is_not_waited_for() -> None:
    """The limit is that of the whole exchange, not of each byte."""
    with socket.create_server(("127.0.0.1", 0)) as listener:

        def drip() -> None:
            with suppress(OSError), listener.accept()[0] as line:
                while True:
                    line.sendall(b"2")
                    threading.Event().wait(0.02)

        threading.Thread(target=drip, daemon=True).start()
        url = f"smtp://127.0.0.1:{listener.getsockname()[1]}"
        connection = {"url": url, "sender": "river@brackwater.example", "timeout": "1s"}
        with closing(MailServer({}, connection, {}, "2026-11-27T06:00:00Z")) as receiver:
            body = {"address": ANA[0], "subject": "s", "text": "t"}
            reply = receiver.deliver(Message(identity="1", path="", body=body))
    assert reply.verdict is Verdict.BUSY
    assert reply.clause == "the mail server cannot be reached: it takes too long"


def test_a_wrong_password_stops_the_flow(
    plain: Program, server: tuple[Mailbox, str], monkeypatch: pytest.MonkeyPatch
) -> None:
    mailbox, url = server
    prepare(plain, url, ANA)
    monkeypatch.setenv("MAIL_PASSWORD", "wrong")
    step = run(plain, 1)
    assert "the receiver answers 535" in step["message"]
    assert mailbox.mails == []
    monkeypatch.setenv("MAIL_PASSWORD", PASSWORD)
    assert run(plain)["message"] == "1 row sent"


def test_a_server_whose_certificate_is_unknown_gets_nothing(
    plain: Program, server: tuple[Mailbox, str], monkeypatch: pytest.MonkeyPatch
) -> None:
    mailbox, url = server
    prepare(plain, url, ANA)
    monkeypatch.delenv("SSL_CERT_FILE")
    step = run(plain, 1)
    assert "certificate" in step["message"]
    assert mailbox.mails == []


def test_a_server_elsewhere_has_to_offer_encryption(
    plain: Program, monkeypatch: pytest.MonkeyPatch
) -> None:
    """On this machine a mail may go as it is; over a network it may not."""
    monkeypatch.setenv("MAIL_PASSWORD", PASSWORD)
    monkeypatch.setattr("inchworm.engine.running.mails._THIS_MACHINE", ())
    mailbox = Mailbox()
    controller = Controller(mailbox, hostname="127.0.0.1", port=free_port())
    controller.start()
    prepare(plain, f"smtp://127.0.0.1:{controller.port}", ANA)
    step = run(plain, 1)
    controller.stop()
    assert "offers no STARTTLS" in step["message"]
    assert mailbox.mails == []


def test_a_run_that_is_killed_sends_no_more_than_one_mail_twice(
    plain: Program, server: tuple[Mailbox, str]
) -> None:
    mailbox, url = server
    prepare(plain, url, *((f"p{n}@brackwater.example", "Weir", n) for n in range(60)))
    mailbox.enough = 20
    process = plain.start("run", "warn", "--in", "dev", "--yes")
    assert mailbox.taken.wait(60)
    process.send_signal(signal.SIGKILL)
    process.communicate(timeout=60)
    run(plain)
    ids = [str(mail["Message-ID"]) for mail in mailbox.mails]
    assert len(set(ids)) == 60
    assert len(ids) <= 61


@pytest.mark.parametrize(
    ("old", "new", "message"),
    [
        ("Flood warning: {gauge}", "Flood warning: {gage}", "has {gage}, which is not under"),
        ('subject = "Flood warning: {gauge}"', "", "[to] needs subject"),
        ('address = "{who}"', 'address = "{who}"\napi = "apis/x.yaml"', "api means nothing here"),
    ],
)
def test_texts_that_do_not_fit_are_findings(
    plain: Program, server: tuple[Mailbox, str], old: str, new: str, message: str
) -> None:
    prepare(plain, server[1], ANA)
    plain.edit("flows/warn.toml", old, new)
    assert any(message in f["message"] for f in plain.findings()), plain.findings()


def test_a_mail_connection_needs_a_sender(plain: Program, server: tuple[Mailbox, str]) -> None:
    prepare(plain, server[1], ANA)
    plain.edit("connections/duty.toml", "sender", "#sender")
    assert "needs sender = ..." in plain.findings()[0]["message"]


def test_personal_data_does_not_leave_by_mail_unasked(
    plain: Program, server: tuple[Mailbox, str]
) -> None:
    prepare(plain, server[1], ANA)
    plain.edit(
        "models/mart/warning.sql",
        'store = "table"',
        'store = "table"\n[columns.who]\nclass = "personal"',
    )
    assert [f["part"] for f in plain.findings() if f["severity"] == "error"] == ["flow:warn"]
    plain.edit("flows/warn.toml", 'direction = "out"', 'direction = "out"\ncleared = ["personal"]')
    assert not [f for f in plain.findings() if f["severity"] == "error"]
