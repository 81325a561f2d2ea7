"""Promotions, worked out from entries: each as it stands, and the line of it in an index."""

from __future__ import annotations

from collections.abc import Sequence

from msgspec import Struct
from msgspec.structs import replace

from inchworm.core.entry.approvals import Approval
from inchworm.core.execution import StepReport
from inchworm.core.identifiers import PromotionId, promotion_number
from inchworm.core.ledger.entries import Entry
from inchworm.core.ledger.events import (
    Drafted,
    Judgement,
    StateChanged,
    StatementsRecorded,
    StepReported,
    event_of,
)
from inchworm.core.parts import Digest
from inchworm.core.promotion.composition import CompletedPromotion
from inchworm.core.promotion.promotion import Promotion
from inchworm.core.promotion.statements import Statements
from inchworm.core.promotion.states import State


def promotion_of(ledger: str, entries: Sequence[Entry]) -> Promotion:
    """A promotion's present state, from its entries in their order, the draft first.

    Raises:
        LedgerError: when a newer version of the program wrote one of them.
    """
    first = entries[0]
    drafted = event_of(first)
    assert isinstance(drafted, Drafted)
    promotion = Promotion(
        id=PromotionId(ledger, promotion_number(first.about) or 0),
        draft=drafted.draft,
        state=State.DRAFTED,
        drafted_at=first.at,
        drafted_by=first.by,
        changed_at=first.at,
        changed_by=first.by,
        commit=drafted.commit,
        steps={},
    )
    steps: dict[int, StepReport] = {}
    approvals: list[Approval] = []
    recorded: list[Statements] = []
    for entry in entries[1:]:
        match event_of(entry):
            case StepReported(step=step, report=report):
                steps[step] = report
            case Judgement(approval=approval):
                approvals.append(approval)
            case StatementsRecorded(statements=statements):
                recorded.append(statements)
            case StateChanged(state=state, message=message, admission=admission):
                promotion = replace(
                    promotion,
                    state=state,
                    admission=promotion.admission or admission,
                    message=message,
                    changed_at=entry.at,
                    changed_by=entry.by,
                )
                if state is State.DONE:
                    promotion = replace(promotion, done_at=entry.at, done_by=entry.by)
    return replace(promotion, steps=steps, approvals=tuple(approvals), recorded=tuple(recorded))


class Summary(Struct, frozen=True, kw_only=True):
    """A promotion in one line, for questions about many.

    Attributes:
        through: the number of the entry that it was worked out from last.
        steps: how many there are.
        steps_over: how many of them need not be done any more.
        seconds: how long they took together.
    """

    id: PromotionId
    environment: str
    bundle: str
    bundle_digest: Digest
    state: State
    changed_at: str
    changed_by: str
    through: int
    steps: int
    steps_over: int
    seconds: float


def lacking_in_words(summary: Summary, environment: str) -> str:
    """A sentence about a promotion that an environment's database knows nothing of."""
    at = summary.changed_at[:16].replace("T", " ")
    return (
        f"{summary.id} ({summary.bundle}) was completed in {environment} by {at} UTC, and its "
        "database knows nothing of it: it was restored from an older backup, or is another one"
    )


class HeardPromotion(Struct, frozen=True, kw_only=True):
    """A promotion of another ledger, as an environment's database told of it.

    Attributes:
        entry: the number of the entry with which it was heard of.
    """

    environment: str
    promotion: CompletedPromotion
    entry: int


def summary_of(promotion: Promotion, through: int) -> Summary:
    """The line of a promotion, worked out from entries up to one."""
    reports = [promotion.report_of(step) for step in promotion.draft.steps]
    return Summary(
        id=promotion.id,
        environment=promotion.draft.environment,
        bundle=promotion.draft.bundle,
        bundle_digest=promotion.draft.bundle_digest,
        state=promotion.state,
        changed_at=promotion.changed_at,
        changed_by=promotion.changed_by,
        through=through,
        steps=len(reports),
        steps_over=sum(report.state.is_over for report in reports),
        seconds=sum(report.seconds or 0 for report in reports),
    )
