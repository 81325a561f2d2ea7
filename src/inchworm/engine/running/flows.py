"""Flows outward: each row is sent once, as far as the receiver can tell.

A row is recorded as being sent, in a transaction of its own, before its message goes out; and as
sent once the receiver has taken it. Every message has the row's identity, as its
``Idempotency-Key`` (a draft of the IETF's HTTP working group) or in its ``Message-ID``. So wherever
a run is killed, the next one sends those rows again whose messages may not have arrived, and the
receiver knows them. What cannot be taken is a dead letter: recorded with the reason, and sent again
only when somebody asks for it.
"""

from __future__ import annotations

import tempfile
import time
from collections.abc import Callable, Iterator, Mapping, Sequence
from concurrent.futures import Future, ThreadPoolExecutor, wait
from contextlib import closing
from functools import cached_property, partial
from itertools import chain, islice
from typing import TYPE_CHECKING, Any

from msgspec import Struct, field

from inchworm.core.counting import counted
from inchworm.core.errors import TargetError
from inchworm.core.execution import StepReport, StepState
from inchworm.core.identifiers import Kind, PartId
from inchworm.core.rendered import RenderedDocument
from inchworm.core.running.sending import Message, Sent, Verdict
from inchworm.core.running.states import FlowTask
from inchworm.engine.running.failure import StepFailed
from inchworm.engine.running.receivers import ApiReceiver, Receiver, Reply
from inchworm.engine.running.site import RunSite
from inchworm.targets.databases.quoting import quoted
from inchworm.targets.databases.sent_rows import SentRows
from inchworm.targets.file_places import FilePlace
from inchworm.targets.secrets import Secrets

if TYPE_CHECKING:
    from tenacity import RetryCallState

_ATTEMPTS = 5
_LONGEST_PAUSE = 60.0
"""Seconds between two attempts, at most; also where the receiver asks for more."""

_IN_A_ROW = 3
"""Messages that are tried in vain, one after the other, before the flow stops."""

_PASSING = (Verdict.AGAIN, Verdict.BUSY)

_LOOKED_UP = 10_000
"""Rows of which the database is asked at a time whether they were sent before."""

_MOST_REASONS = 20
"""Dead letters whose reasons stand in the log of the run."""


class Outcome(Struct):
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


class Batch(Struct, frozen=True):
    """Messages that are recorded as being sent.

    Attributes:
        key: that of the batch of which they are all that is on its way; None where they come from
            several, which earlier runs recorded.
    """

    messages: Sequence[Message]
    key: str | None = None


def run_flow(part: PartId, site: RunSite) -> StepReport:
    """Do what a flow does by itself: send what was not sent yet, or take files not taken yet.

    Raises:
        StepFailed: when the receiver takes nothing, or cannot be reached.
        TargetError: when the database refuses.
    """
    document = _document(part, site)
    if document["direction"] == "in":
        message = "nothing to run: it takes in what others send, whenever they do"
        return StepReport(state=StepState.DONE, message=message)
    _check_active(part, site)
    ends = {
        name: _document(PartId(Kind.CONNECTION, document[name]["connection"]), site)
        for name in ("from", "to")
        if document[name].get("connection")
    }
    machine = site.context.machine
    for connection in ends.values():
        machine.trust.check_place(str(connection["url"]))
    with closing(Secrets(machine, site.environment.secret_store)) as secrets:
        credentials = {
            end: {
                name: secrets.resolve(reference, str(connection["url"]))
                for name, reference in connection.get("credentials", {}).items()
            }
            for end, connection in ends.items()
        }
    if document["direction"] == "copy":
        from inchworm.engine.running.copying import copy_files

        places = {
            end: FilePlace.of(connection, credentials[end], machine)
            for end, connection in ends.items()
        }
        return copy_files(part, document, places, site)
    receiver: Receiver
    if document["to"].get("address"):
        from inchworm.engine.running.mails import mail_receiver

        receiver = mail_receiver(document, ends["to"], credentials["to"], machine, site.now())
    else:
        receiver = ApiReceiver(document, ends["to"], credentials["to"], machine)
    return _send_rows(part, document, receiver, site)


def _send_rows(
    part: PartId, document: Mapping[str, Any], receiver: Receiver, site: RunSite
) -> StepReport:
    """Send the rows that were not sent yet; or the dead letters, where those are meant."""
    sent = SentRows(site.database, site.bookkeeping.schema, site.prepared.bundle.project, part.name)
    sent.ensure()
    site.database.keep_log_short()
    with closing(receiver):
        sending = _Sending(document, receiver, sent, site)
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


class _Sending:
    """One flow at work."""

    def __init__(
        self,
        document: Mapping[str, Any],
        receiver: Receiver,
        sent: SentRows,
        site: RunSite,
    ) -> None:
        self._document = document
        self._receiver = receiver
        self._sent = sent
        self._site = site
        self._run = str(site.id)
        per_second = document.get("per_second")
        self._pause = 1 / float(per_second) if per_second else 0.0
        self._next = 0.0
        self._repeated: set[str] = set()
        """Identities of messages that may have arrived before, and are sent again."""
        self._in_vain: set[str] = set()
        """Those of them that an earlier run tried in vain."""
        self._aside: list[tuple[Message, Reply]] = []
        """Messages that were tried in vain since the receiver took or refused one."""
        self.outcome = Outcome()

    def run(self) -> None:
        """Send what may not have arrived before, then what is new, and last what was set aside."""
        in_vain = self._sent.messages(Sent.SENDING, in_vain=True)
        self._in_vain = {message.identity for message in in_vain}
        self._send_others()
        for some in self._batches(iter(in_vain)):
            self._send_all(Batch(some))
        if self._aside:
            raise _stopped(self._aside[-1][1])

    def _send_others(self) -> None:
        waiting = self._sent.messages(Sent.SENDING)
        if self._site.context.flow_task is FlowTask.DEAD_LETTERS:
            waiting += self._sent.messages(Sent.REFUSED)
        self._repeated = self._in_vain | {message.identity for message in waiting}
        for some in self._batches(iter(waiting)):
            self._send_all(Batch(some))
        if self._site.context.flow_task is FlowTask.DEAD_LETTERS:
            return
        if self._receiver.at_once == 1:
            for some in self._new():
                self._send_all(self._recorded(some))
        else:
            self._send_new()

    def _send_new(self) -> None:
        """Send what is new; while some rows are sent, the database works on the next.

        One thread uses the connection at a time: nothing is recorded of the rows that were sent
        before the next are ready. Those were recorded as being sent by then, too.
        """
        batches = self._new()
        with ThreadPoolExecutor(1) as beside:
            ahead = beside.submit(self._following, batches)
            while (batch := ahead.result()) is not None:
                ahead = beside.submit(self._following, batches)
                self._send_all(batch, ahead)

    def _following(self, batches: Iterator[list[Message]]) -> Batch | None:
        """The next new messages, recorded; None behind the last."""
        some = next(batches, None)
        return None if some is None else self._recorded(some)

    def _batches(self, messages: Iterator[Message]) -> Iterator[list[Message]]:
        while some := list(islice(messages, self._receiver.at_once)):
            yield some

    def _new(self) -> Iterator[list[Message]]:
        """Messages that were neither sent nor refused before, few at a time.

        Those that are together here were looked up together: whoever takes them records them before
        taking the next, which may repeat them.
        """
        messages = self._messages()
        while some := list(islice(messages, _LOOKED_UP)):
            distinct = dict(some)
            known = self._sent.known(distinct)
            self.outcome.known += len(some) - len(distinct) + len(known - self._repeated)
            yield from self._batches(
                Message.of_text(identity, text)
                for identity, text in distinct.items()
                if identity not in known
            )

    def _messages(self) -> Iterator[tuple[str, str]]:
        """The identity and the text of a message for each row, in the database's order.

        All of them are read before the first is sent, into a file that nobody else sees and that is
        gone with the process: to send a million takes an hour, and a transaction that is open so
        long keeps the database from clearing away what nobody needs any more.
        """
        with tempfile.TemporaryFile(
            "w+", dir=self._site.context.folder, encoding="utf-8", newline="\n"
        ) as file:
            try:
                for message in self._read():
                    file.write(f"{message.identity} {message.text}\n")
                file.seek(0)
            except OSError as error:
                raise TargetError(
                    f"the rows that are to be sent cannot be laid aside: {error.strerror}.",
                    next="Make room in the folder for temporary files, and run it again.",
                ) from error
            for line in file:
                identity, _, text = line.partition(" ")
                yield identity, text

    def _read(self) -> Iterator[Message]:
        """The messages, while the query runs."""
        rows = self._document["from"]
        if rows.get("query"):
            sql = self._site.sql(rows["query"], self._site.physical)
        else:
            sql = f"SELECT * FROM {quoted(self._site.physical(rows['table']))}"
        with closing(self._site.database.batches(sql, self._receiver.at_once)) as batches:
            for columns, some in batches:
                names = [name.lower() for name in columns]
                for row in some:
                    yield self._receiver.message(dict(zip(names, row, strict=True)))

    def _recorded(self, new: Sequence[Message]) -> Batch:
        """New messages, recorded as being sent; without those that cannot be sent."""
        faults = {message.identity: self._receiver.fault(message) for message in new}
        with self._site.database.transaction():
            key = self._sent.add(
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
        return Batch([message for message in new if not faults[message.identity]], key)

    def _send_all(self, batch: Batch, ahead: Future[Any] | None = None) -> None:
        """Send messages that are recorded as being sent, and record what became of them.

        Args:
            batch: the messages.
            ahead: work on the next ones; it uses the database, too.
        """
        arrived: list[str] = []
        refused: list[tuple[Message, str]] = []
        try:
            for message in batch.messages:
                reply = self._send(message)
                if reply.verdict is Verdict.AGAIN and not self._is_wrong(message, arrived):
                    self._set_aside(message, reply)
                    continue
                if reply.verdict is Verdict.TAKEN:
                    arrived.append(message.identity)
                else:
                    refused.append((message, reply.text))
                # whoever takes or refuses this one is there: the others have something about them
                refused += [(each, _in_vain(why)) for each, why in self._aside]
                self._aside.clear()
        finally:
            if ahead is not None:
                wait([ahead])
            self.outcome.sent += len(arrived)
            at = self._site.now()
            ended = {*arrived, *(message.identity for message, _ in refused)}
            is_whole = ended.issuperset(message.identity for message in batch.messages)
            with self._site.database.transaction():
                for message, reason in refused:
                    self._sent.stand(message.identity, Sent.REFUSED, reason, at)
                    self._refuse(message, reason)
                for message, reply in self._aside:
                    self._sent.stand(message.identity, Sent.SENDING, reply.text, at)
                self._sent.sent(arrived, at, self._run, batch.key if is_whole else None)

    def _refuse(self, message: Message, reason: str) -> None:
        self.outcome.refused += 1
        if len(self.outcome.reasons) < _MOST_REASONS:
            self.outcome.reasons.append(f"dead letter {message.identity[:12]}: {reason}")

    def _is_wrong(self, message: Message, arrived: Sequence[str]) -> bool:
        """Whether it was tried in vain in two runs, and this one has sent others."""
        return message.identity in self._in_vain and bool(arrived or self.outcome.sent)

    def _set_aside(self, message: Message, reply: Reply) -> None:
        """Go on with the others; until so many have failed that it is the receiver.

        Raises:
            TargetError: when it is.
        """
        self._aside.append((message, reply))
        if len(self._aside) == _IN_A_ROW:
            raise _stopped(reply)

    def _send(self, message: Message) -> Reply:
        """Send one message, again while the receiver is busy; what it says in the end.

        Raises:
            TargetError: when it takes nothing from us, or cannot be reached.
        """
        reply = self._exchange(message)
        if reply.verdict in _PASSING:
            attempts = chain([reply], iter(lambda: self._exchange(message), None))
            reply = self._retrying(attempts)
        if reply.verdict in {Verdict.BUSY, Verdict.STOP}:
            raise _stopped(reply)
        return reply

    def _exchange(self, message: Message) -> Reply:
        """One attempt, not faster than the flow may send."""
        if self._site.context.stopping.is_set():
            raise TargetError("the run was stopped.")
        ahead = self._next - time.monotonic()
        if ahead > 0:
            self._site.pause(ahead)
        self._next = time.monotonic() + self._pause
        return self._receiver.deliver(message)

    @cached_property
    def _retrying(self) -> Callable[[Iterator[Reply]], Reply]:
        """Takes replies, each after a pause, until one says something else than to try again.

        The pause is the one that the receiver asks for, within bounds.
        """
        from tenacity import Retrying, retry_if_result, stop_after_attempt  # few flows need it
        from tenacity.wait import wait_random_exponential

        by_itself = wait_random_exponential(multiplier=0.5, max=_LONGEST_PAUSE)

        def pause(state: RetryCallState) -> float:
            asked = state.outcome.result().pause if state.outcome else None
            return by_itself(state) if asked is None else min(float(asked), _LONGEST_PAUSE)

        return partial(
            Retrying(
                stop=stop_after_attempt(_ATTEMPTS),
                wait=pause,
                sleep=self._site.pause,
                retry=retry_if_result(lambda reply: reply.verdict in _PASSING),
                retry_error_callback=lambda state: state.outcome and state.outcome.result(),
            ),
            next,
        )


def _stopped(reply: Reply) -> TargetError:
    return TargetError(
        f"{reply.clause}.",
        next="Mend the reason and run it again: what was sent is not sent again.",
    )


def _in_vain(reply: Reply) -> str:
    return f"{reply.text.rstrip('.')}, {_ATTEMPTS} times, while others were taken"
