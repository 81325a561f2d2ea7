"""Flows outward: each row is sent once, as far as the receiver can tell.

A row is recorded as being sent, in a transaction of its own, before its request goes out; and as
sent once the receiver has taken it. Every request has the row's identity as its ``Idempotency-Key``
(a draft of the IETF's HTTP working group). So wherever a run is killed, the next one sends those
rows again whose requests may not have arrived, and the receiver knows them. What cannot be taken is
a dead letter: recorded with the reason, and sent again only when somebody asks for it.
"""

from __future__ import annotations

import time
from collections.abc import Iterator, Mapping, Sequence
from contextlib import closing
from dataclasses import dataclass, field
from itertools import islice
from typing import Any

from tenacity import Retrying, retry_if_result, stop_after_attempt
from tenacity.wait import wait_random_exponential

from inchworm.core.counting import counted
from inchworm.core.errors import TargetError
from inchworm.core.execution import StepReport, StepState
from inchworm.core.identifiers import Kind, PartId
from inchworm.core.parameters.values import read_duration
from inchworm.core.rendered import RenderedDocument
from inchworm.core.running.sending import Message, Operation, Sent, Verdict, message_of, verdict
from inchworm.engine.running.failure import StepFailed
from inchworm.engine.running.site import RunSite
from inchworm.engine.running.validation import BodyValidator
from inchworm.kinds.flow import operation_of_api
from inchworm.targets.databases.quoting import quoted
from inchworm.targets.databases.sent_rows import SentRows
from inchworm.targets.http_client import Answer, Client, http_client
from inchworm.targets.secret import Secret
from inchworm.targets.secrets import Secrets

_BATCH = 200
"""Rows that are recorded as being sent at a time."""

_ATTEMPTS = 5
_LONGEST_PAUSE = 60.0
"""Seconds between two attempts, at most; also where the receiver asks for more."""

_MOST_REASONS = 20
"""Dead letters whose reasons stand in the log of the run."""


@dataclass
class Outcome:
    """What became of the rows of a flow so far."""

    sent: int = 0
    refused: int = 0
    known: int = 0
    """Rows that had been sent, or refused, before."""
    reasons: list[str] = field(default_factory=list)

    @property
    def text(self) -> str:
        """It in words."""
        outcomes = [counted(self.sent, "row") + " sent"]
        if self.known:
            outcomes.append(f"{self.known:,} sent before")
        if self.refused:
            outcomes.append(counted(self.refused, "dead letter"))
        return ", ".join(outcomes)


def run_flow(part: PartId, site: RunSite) -> StepReport:
    """Send the rows of a flow that were not sent yet; or its dead letters, where those are meant.

    Raises:
        StepFailed: when the receiver takes nothing, or cannot be reached.
        TargetError: when the database refuses.
    """
    document = _document(part, site)
    if document["direction"] != "out":
        message = "nothing to run: it takes in what others send, whenever they do"
        return StepReport(state=StepState.DONE, message=message)
    _check_active(part, site)
    end = document["to"]
    connection = _document(PartId(Kind.CONNECTION, end["connection"]), site)
    operation = operation_of_api(document["openapi"], end["operation"])
    sent = SentRows(site.database, site.bookkeeping.schema, site.prepared.bundle.project, part.name)
    sent.ensure()
    with closing(_client(connection, site)) as client:
        sending = _Sending(part, document, operation, client, sent, site)
        try:
            sending.run()
        except TargetError as error:
            raise StepFailed(
                f"{error.what} {sending.outcome.text}.",
                next=error.next or "Run it again: what was sent is not sent again.",
                log="\n".join(sending.outcome.reasons),
            ) from error
    outcome = sending.outcome
    return StepReport(
        state=StepState.WARNED if outcome.refused else StepState.DONE,
        message=outcome.text,
        rows=outcome.sent,
        log="\n".join(outcome.reasons),
    )


def _check_active(part: PartId, site: RunSite) -> None:
    """Whether a flow is switched on: somebody may have stopped it."""
    item = site.place.gateway.items().get(part)
    state = item.state if item is not None else "not there"
    if state != "active":
        why = f": {item.reason}" if item is not None and item.reason else ""
        raise TargetError(
            f"{part} is {state} at the gateway{why}.",
            next=f"If it is to run again: inchworm promote {site.prepared.bundle.name} --to "
            f"{site.environment.name} --resume {part.name}",
        )


def _document(part: PartId, site: RunSite) -> Mapping[str, Any]:
    rendered = site.rendered[part]
    assert isinstance(rendered, RenderedDocument)
    return rendered.content


def _client(connection: Mapping[str, Any], site: RunSite) -> Client:
    """A client for the place behind a connection, with its token where it has one."""
    machine = site.context.machine
    token: Secret | None = None
    with closing(Secrets(machine, site.environment.secret_store)) as secrets:
        for name, reference in connection.get("credentials", {}).items():
            if name != "token":
                raise TargetError(
                    f"the credential {name} is of no known kind.", next="Use token = ..."
                )
            token = secrets.resolve(reference)
    timeout = read_duration(str(connection.get("timeout", "30s"))).total_seconds()
    return http_client(connection["url"], machine.root, token, timeout=timeout)


class _Sending:
    """One flow at work."""

    def __init__(
        self,
        part: PartId,
        document: Mapping[str, Any],
        operation: Operation,
        client: Client,
        sent: SentRows,
        site: RunSite,
    ) -> None:
        self._part = part
        self._document = document
        self._operation = operation
        self._client = client
        self._sent = sent
        self._site = site
        self._validator = BodyValidator(document["openapi"], operation)
        self._run = str(site.id)
        per_second = document.get("per_second")
        self._pause = 1 / float(per_second) if per_second else 0.0
        self._next = 0.0
        self._repeated: set[str] = set()
        """Identities of messages that may have arrived before, and are sent again."""
        self.outcome = Outcome()

    def run(self) -> None:
        """Send what may not have arrived before, and then what is new."""
        waiting = [message for message, _ in self._sent.messages(Sent.SENDING)]
        if self._site.context.dead_letters:
            waiting += [message for message, _ in self._sent.messages(Sent.REFUSED)]
        self._repeated = {message.identity for message in waiting}
        for some in _batches(iter(waiting)):
            self._send_all(some)
        if self._site.context.dead_letters:
            return
        for some in _batches(self._messages()):
            self._send_all(self._new(some))

    def _messages(self) -> Iterator[Message]:
        """A message for each row, in the order in which the database gives them."""
        rows = self._document["from"]
        if rows.get("query"):
            sql = self._site.sql(rows["query"], self._site.physical)
        else:
            sql = f"SELECT * FROM {quoted(self._site.physical(rows['table']))}"
        once_per = self._document.get("once_per", ())
        fields = self._document["fields"]
        with closing(self._site.database.batches(sql, _BATCH)) as batches:
            for columns, some in batches:
                names = [name.lower() for name in columns]
                for row in some:
                    values = dict(zip(names, row, strict=True))
                    yield message_of(values, fields, self._operation, once_per)

    def _new(self, messages: Sequence[Message]) -> list[Message]:
        """Those that were neither sent nor refused before, recorded as being sent."""
        distinct = {message.identity: message for message in messages}
        known = self._sent.states(distinct)
        self.outcome.known += len(messages) - len(distinct) + len(known.keys() - self._repeated)
        new = [message for message in distinct.values() if message.identity not in known]
        faults = {message.identity: self._fault(message) for message in new}
        with self._site.database.transaction():
            self._sent.add(
                [
                    (m, Sent.REFUSED if faults[m.identity] else Sent.SENDING, faults[m.identity])
                    for m in new
                ],
                self._site.now(),
                self._run,
            )
        for message in new:
            if faults[message.identity]:
                self._refuse(message, faults[message.identity])
        return [message for message in new if not faults[message.identity]]

    def _fault(self, message: Message) -> str:
        """Why the API's schema does not take a message; empty where it does."""
        return "" if message.body is None else self._validator.fault(message.body)

    def _send_all(self, messages: Sequence[Message]) -> None:
        """Send messages that are recorded as being sent, and record what became of them."""
        arrived: list[str] = []
        refused: list[tuple[Message, str]] = []
        try:
            for message in messages:
                reason = self._send(message)
                if reason is None:
                    arrived.append(message.identity)
                else:
                    refused.append((message, reason))
        finally:
            self.outcome.sent += len(arrived)
            at = self._site.now()
            with self._site.database.transaction():
                self._sent.sent(arrived, at, self._run)
                for message, reason in refused:
                    self._sent.stand(message.identity, Sent.REFUSED, reason, at)
                    self._refuse(message, reason)

    def _refuse(self, message: Message, reason: str) -> None:
        self.outcome.refused += 1
        if len(self.outcome.reasons) < _MOST_REASONS:
            self.outcome.reasons.append(f"dead letter {message.identity[:12]}: {reason}")

    def _send(self, message: Message) -> str | None:
        """Send one message, again while the receiver is busy; why it refuses it, if it does.

        Raises:
            TargetError: when it takes nothing from us, or cannot be reached.
        """
        retrying = Retrying(
            stop=stop_after_attempt(_ATTEMPTS),
            wait=self._wait,
            sleep=self._site.pause,
            retry=retry_if_result(lambda answer: verdict(answer.status) is Verdict.AGAIN),
            retry_error_callback=lambda state: state.outcome.result() if state.outcome else None,
        )
        answer: Answer = retrying(self._exchange, message)
        match verdict(answer.status):
            case Verdict.TAKEN:
                return None
            case Verdict.REFUSED:
                return f"{answer.status} {_detail(answer)}"
        raise TargetError(
            f"the receiver answers {answer.status} {_detail(answer)}.",
            next="Mend the reason and run it again: what was sent is not sent again.",
        )

    def _exchange(self, message: Message) -> Answer:
        """One request, not faster than the flow may send."""
        if self._site.context.stopping.is_set():
            raise TargetError("the run was stopped.")
        ahead = self._next - time.monotonic()
        if ahead > 0:
            self._site.pause(ahead)
        self._next = time.monotonic() + self._pause
        headers = {**message.headers, "idempotency-key": message.identity}
        try:
            return self._client.send(
                self._operation.method, message.path, message.body, message.query, headers
            )
        except TargetError as error:
            return Answer(status=_UNREACHABLE, content=error.what.encode())

    @staticmethod
    def _wait(state: Any) -> float:
        """Seconds until the next attempt: those that the receiver asks for, within bounds."""
        answer = state.outcome.result() if state.outcome and not state.outcome.failed else None
        asked = answer.headers.get("retry-after", "") if answer is not None else ""
        if asked.isdigit():
            return min(float(asked), _LONGEST_PAUSE)
        return float(wait_random_exponential(multiplier=0.5, max=_LONGEST_PAUSE)(state))


_UNREACHABLE = 503
"""The status in place of an answer that did not come."""


def _detail(answer: Answer) -> str:
    """What an answer says, in a line; problem details (RFC 9457) in the words of their author."""
    try:
        document = answer.json()
        text = str(document.get("detail") or document.get("title") or document)
    except (ValueError, AttributeError):
        text = answer.content.decode(errors="replace")
    return " ".join(text.split())[:200]


def _batches(messages: Iterator[Message]) -> Iterator[list[Message]]:
    while some := list(islice(messages, _BATCH)):
        yield some
