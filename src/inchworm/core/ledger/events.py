"""What entries of the ledger say, typed: one class for each kind of entry.

A body has the version of its kind where that is not the first, so that entries of older versions
stay readable, and those of newer ones are refused rather than misunderstood.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, ClassVar, Self, get_args

from msgspec import Struct
from msgspec.structs import asdict

from inchworm.core.bundle.bundle import Bundle
from inchworm.core.entry.approvals import Approval
from inchworm.core.entry.judging import Admission
from inchworm.core.errors import LedgerError
from inchworm.core.execution import StepReport
from inchworm.core.ledger.entries import Entry
from inchworm.core.parts import Digest
from inchworm.core.promotion.composition import CompletedPromotion
from inchworm.core.promotion.promotion import Draft
from inchworm.core.promotion.statements import Statements
from inchworm.core.promotion.states import State
from inchworm.core.running.run import RunPlan
from inchworm.core.running.states import RunState

_VERSION = "version"


class LedgerStarted(Struct, frozen=True, kw_only=True):
    """The ledger began, under a name of its own."""

    kind: ClassVar[str] = "ledger-started"
    ledger: str

    @property
    def body(self) -> dict[str, Any]:
        """The event as an entry keeps it."""
        return {"ledger": self.ledger}

    @classmethod
    def of(cls, body: Mapping[str, Any]) -> Self:
        """The event that an entry keeps."""
        return cls(ledger=body["ledger"])


class Packed(Struct, frozen=True, kw_only=True):
    """A bundle was packed.

    Attributes:
        seal: the digest of its manifest; empty in entries of former versions.
        clean: True if its files were just those of the commit.
    """

    kind: ClassVar[str] = "packed"
    digest: Digest
    commit: str | None
    snapshot: bool
    seal: str = ""
    clean: bool = True

    @classmethod
    def of_bundle(cls, bundle: Bundle) -> Self:
        """What is recorded of a bundle, when it is packed and when the ledger is rebuilt."""
        return cls(
            digest=bundle.digest,
            commit=bundle.commit,
            snapshot=bundle.snapshot,
            seal=bundle.seal,
            clean=bundle.is_clean,
        )

    @property
    def body(self) -> dict[str, Any]:
        """The event as an entry keeps it."""
        return asdict(self)

    @classmethod
    def of(cls, body: Mapping[str, Any]) -> Self:
        """The event that an entry keeps."""
        return cls(**{name: body[name] for name in cls.__struct_fields__ if name in body})


class Drafted(Struct, frozen=True, kw_only=True):
    """A promotion was drafted."""

    kind: ClassVar[str] = "drafted"
    draft: Draft
    commit: str | None

    @property
    def body(self) -> dict[str, Any]:
        """The event as an entry keeps it."""
        return {"draft": self.draft.to_json(), "commit": self.commit}

    @classmethod
    def of(cls, body: Mapping[str, Any]) -> Self:
        """The event that an entry keeps."""
        return cls(draft=Draft.from_json(body["draft"]), commit=body["commit"])


class StateChanged(Struct, frozen=True, kw_only=True):
    """A promotion is in another state.

    Attributes:
        admission: of one that begins, by what it was let in; former versions did not record it.
    """

    kind: ClassVar[str] = "state"
    state: State
    message: str = ""
    admission: Admission | None = None

    @property
    def body(self) -> dict[str, Any]:
        """The event as an entry keeps it."""
        more = {"admission": self.admission.to_json()} if self.admission else {}
        return {"state": self.state.value, "message": self.message, **more}

    @classmethod
    def of(cls, body: Mapping[str, Any]) -> Self:
        """The event that an entry keeps."""
        admission = body.get("admission")
        return cls(
            state=State(body["state"]),
            message=body["message"],
            admission=Admission.from_json(admission) if admission else None,
        )


class StatementsRecorded(Struct, frozen=True, kw_only=True):
    """A promotion that begins or goes on is about to run these statements."""

    kind: ClassVar[str] = "statements"
    statements: Statements

    @property
    def body(self) -> dict[str, Any]:
        """The event as an entry keeps it."""
        return {"packed": self.statements.packed}

    @classmethod
    def of(cls, body: Mapping[str, Any]) -> Self:
        """The event that an entry keeps."""
        return cls(statements=Statements(packed=body["packed"]))


class StepReported(Struct, frozen=True, kw_only=True):
    """A step of a promotion began or ended, or waits again."""

    kind: ClassVar[str] = "step"
    step: int
    report: StepReport

    @property
    def body(self) -> dict[str, Any]:
        """The event as an entry keeps it; what is not known is left out."""
        return {"step": self.step, **self.report.to_json()}

    @classmethod
    def of(cls, body: Mapping[str, Any]) -> Self:
        """The event that an entry keeps."""
        return cls(step=body["step"], report=StepReport.from_json(body))


class Judgement(Struct, frozen=True, kw_only=True):
    """Somebody said yes or no to a draft, or let it in by exception."""

    kind: ClassVar[str] = "approval"
    approval: Approval

    @property
    def body(self) -> dict[str, Any]:
        """The event as an entry keeps it."""
        return {"approval": self.approval.to_json()}

    @classmethod
    def of(cls, body: Mapping[str, Any]) -> Self:
        """The event that an entry keeps."""
        return cls(approval=Approval.from_json(body["approval"]))


class RunStarted(Struct, frozen=True, kw_only=True):
    """A run of something that is live began."""

    kind: ClassVar[str] = "run-started"
    plan: RunPlan

    @property
    def body(self) -> dict[str, Any]:
        """The event as an entry keeps it."""
        return {"plan": self.plan.to_json()}

    @classmethod
    def of(cls, body: Mapping[str, Any]) -> Self:
        """The event that an entry keeps."""
        return cls(plan=RunPlan.from_json(body["plan"]))


class RunStepReported(StepReported, frozen=True, kw_only=True):
    """A step of a run began or ended."""

    kind: ClassVar[str] = "run-step"


class RunStopAsked(Struct, frozen=True, kw_only=True):
    """Somebody wants a run to stop; its own process does it."""

    kind: ClassVar[str] = "run-stop-asked"
    because: str = ""

    @property
    def body(self) -> dict[str, Any]:
        """The event as an entry keeps it."""
        return {"because": self.because}

    @classmethod
    def of(cls, body: Mapping[str, Any]) -> Self:
        """The event that an entry keeps."""
        return cls(because=body["because"])


class RunEnded(Struct, frozen=True, kw_only=True):
    """A run ended."""

    kind: ClassVar[str] = "run-ended"
    state: RunState
    message: str = ""

    @property
    def body(self) -> dict[str, Any]:
        """The event as an entry keeps it."""
        return {"state": self.state.value, "message": self.message}

    @classmethod
    def of(cls, body: Mapping[str, Any]) -> Self:
        """The event that an entry keeps."""
        return cls(state=RunState(body["state"]), message=body["message"])


class Heard(Struct, frozen=True, kw_only=True):
    """Promotions of other ledgers, as an environment's database told of them."""

    kind: ClassVar[str] = "heard"
    promotions: tuple[CompletedPromotion, ...]

    @property
    def body(self) -> dict[str, Any]:
        """The event as an entry keeps it."""
        return {"promotions": [promotion.to_json() for promotion in self.promotions]}

    @classmethod
    def of(cls, body: Mapping[str, Any]) -> Self:
        """The event that an entry keeps."""
        return cls(promotions=tuple(map(CompletedPromotion.from_json, body["promotions"])))


class HeardPart(Struct, frozen=True, kw_only=True):
    """A part that is live in an environment, as its database told when a ledger was rebuilt."""

    part: str
    environment: str
    promotion: str
    bundle: str
    commit: str | None
    at: str


class PartsHeard(Struct, frozen=True, kw_only=True):
    """The parts that were live in an environment when a ledger was rebuilt."""

    kind: ClassVar[str] = "parts-heard"
    parts: tuple[HeardPart, ...]

    @property
    def body(self) -> dict[str, Any]:
        """The event as an entry keeps it."""
        return {"parts": [asdict(part) for part in self.parts]}

    @classmethod
    def of(cls, body: Mapping[str, Any]) -> Self:
        """The event that an entry keeps."""
        return cls(parts=tuple(HeardPart(**part) for part in body["parts"]))


class HeadSigned(Struct, frozen=True, kw_only=True):
    """Somebody signed the end that the chain had before this entry.

    Attributes:
        number: that of the entry which was the last one.
        hash: its hash.
        envelope: the signed statement about it.
    """

    kind: ClassVar[str] = "head-signed"
    number: int
    hash: str
    envelope: Mapping[str, Any]

    @property
    def body(self) -> dict[str, Any]:
        """The event as an entry keeps it."""
        return {"number": self.number, "hash": self.hash, "envelope": dict(self.envelope)}

    @classmethod
    def of(cls, body: Mapping[str, Any]) -> Self:
        """The event that an entry keeps."""
        return cls(number=body["number"], hash=body["hash"], envelope=body["envelope"])


Event = (
    LedgerStarted
    | Packed
    | Drafted
    | StateChanged
    | StatementsRecorded
    | StepReported
    | Judgement
    | RunStarted
    | RunStepReported
    | RunStopAsked
    | RunEnded
    | Heard
    | PartsHeard
    | HeadSigned
)

_EVENTS: Mapping[str, type[Event]] = {event.kind: event for event in get_args(Event)}


def event_of(entry: Entry) -> Event:
    """What an entry says.

    Raises:
        LedgerError: when a newer version of the program wrote it.
    """
    event = _EVENTS.get(entry.kind)
    if event is None or entry.body.get(_VERSION, 1) != 1:
        raise LedgerError(
            f"entry {entry.number} ({entry.kind}) was written by a newer version of Inchworm.",
            next="Use that version, or a newer one.",
        )
    return event.of(entry.body)
