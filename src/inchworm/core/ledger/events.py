"""What entries of the ledger say, typed: one class for each kind of entry.

A body has the version of its kind where that is not the first, so that entries of older versions
stay readable, and those of newer ones are refused rather than misunderstood.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import asdict, dataclass
from typing import Any, ClassVar, Self

from inchworm.core.errors import LedgerError
from inchworm.core.execution import StepReport, StepState
from inchworm.core.ledger.entries import Entry
from inchworm.core.parts import Digest
from inchworm.core.promotion.composition import CompletedPromotion
from inchworm.core.promotion.promotion import Draft
from inchworm.core.promotion.states import State
from inchworm.core.sample import Sample

_VERSION = "version"


@dataclass(frozen=True, kw_only=True)
class LedgerStarted:
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


@dataclass(frozen=True, kw_only=True)
class Packed:
    """A bundle was packed."""

    kind: ClassVar[str] = "packed"
    digest: Digest
    commit: str | None
    snapshot: bool

    @property
    def body(self) -> dict[str, Any]:
        """The event as an entry keeps it."""
        return {"digest": self.digest, "commit": self.commit, "snapshot": self.snapshot}

    @classmethod
    def of(cls, body: Mapping[str, Any]) -> Self:
        """The event that an entry keeps."""
        return cls(digest=body["digest"], commit=body["commit"], snapshot=body["snapshot"])


@dataclass(frozen=True, kw_only=True)
class Drafted:
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


@dataclass(frozen=True, kw_only=True)
class StateChanged:
    """A promotion is in another state."""

    kind: ClassVar[str] = "state"
    state: State
    message: str = ""

    @property
    def body(self) -> dict[str, Any]:
        """The event as an entry keeps it."""
        return {"state": self.state.value, "message": self.message}

    @classmethod
    def of(cls, body: Mapping[str, Any]) -> Self:
        """The event that an entry keeps."""
        return cls(state=State(body["state"]), message=body["message"])


@dataclass(frozen=True, kw_only=True)
class StepReported:
    """A step of a promotion began or ended, or waits again."""

    kind: ClassVar[str] = "step"
    step: int
    report: StepReport

    @property
    def body(self) -> dict[str, Any]:
        """The event as an entry keeps it; what is not known is left out."""
        report = self.report
        seconds = None if report.seconds is None else round(report.seconds, 3)
        more = {"seconds": seconds, "rows": report.rows, "size": report.size}
        return {
            "step": self.step,
            "state": report.state.value,
            **({"message": report.message} if report.message else {}),
            **({"samples": _samples(report)} if report.samples else {}),
            **{name: value for name, value in more.items() if value is not None},
        }

    @classmethod
    def of(cls, body: Mapping[str, Any]) -> Self:
        """The event that an entry keeps."""
        return cls(
            step=body["step"],
            report=StepReport(
                state=StepState(body["state"]),
                message=body.get("message", ""),
                seconds=body.get("seconds"),
                rows=body.get("rows"),
                size=body.get("size"),
                samples={
                    check: Sample.from_json(sample)
                    for check, sample in body.get("samples", {}).items()
                },
            ),
        )


@dataclass(frozen=True, kw_only=True)
class Heard:
    """Promotions of other ledgers, as an environment's database told of them."""

    kind: ClassVar[str] = "heard"
    promotions: tuple[CompletedPromotion, ...]

    @property
    def body(self) -> dict[str, Any]:
        """The event as an entry keeps it."""
        return {"promotions": [asdict(promotion) for promotion in self.promotions]}

    @classmethod
    def of(cls, body: Mapping[str, Any]) -> Self:
        """The event that an entry keeps."""
        return cls(promotions=tuple(CompletedPromotion(**each) for each in body["promotions"]))


def _samples(report: StepReport) -> dict[str, Any]:
    return {check: sample.to_json() for check, sample in report.samples.items()}


Event = LedgerStarted | Packed | Drafted | StateChanged | StepReported | Heard

_EVENTS: Mapping[str, type[Event]] = {
    event.kind: event
    for event in (LedgerStarted, Packed, Drafted, StateChanged, StepReported, Heard)
}


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
