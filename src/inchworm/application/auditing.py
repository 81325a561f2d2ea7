"""What entered an environment in a period, with the evidence of each entry."""

from __future__ import annotations

from collections.abc import Mapping

from msgspec import Struct
from msgspec.structs import replace

from inchworm.application.entry import checked_approvals
from inchworm.application.history import Wanted, history
from inchworm.application.workplace import Workplace
from inchworm.core.entry.judging import CheckedApproval
from inchworm.core.identifiers import promotion_key
from inchworm.core.ledger.promotions import HeardPromotion
from inchworm.core.promotion.promotion import Promotion
from inchworm.core.promotion.states import State
from inchworm.project.people import read_people


class EntryRecord(Struct, frozen=True, kw_only=True):
    """One entry into an environment.

    Attributes:
        at: when it was completed, or last moved where it never was; ISO 8601, UTC.
        by: who moved it then.
        approvals: what people said about the draft, each with what became of looking at it now.
        undone_by: the rollbacks that took it back, by id.
    """

    promotion: Promotion
    at: str
    by: str
    approvals: tuple[CheckedApproval, ...]
    undone_by: tuple[str, ...] = ()


class Audit(Struct, frozen=True, kw_only=True):
    """The entries of a period, the earliest first.

    Attributes:
        ledger: the id of the ledger that tells of them, whose chain was followed.
        heard: entries by promotions of other ledgers, as far as environments told of them.
    """

    ledger: str
    wanted: Wanted
    entries: tuple[EntryRecord, ...]
    heard: tuple[HeardPromotion, ...]


_NO_ENTRY = frozenset({State.DRAFTED, State.DROPPED})


def audit(workplace: Workplace, wanted: Wanted) -> Audit:
    """What entered environments in a period; the ledger's chain is followed first.

    An entry counts when it was completed, whenever it was taken back.

    Raises:
        LedgerError: when an entry was altered.
        ProjectError: when ``people.toml`` is wrong.
        UsageError: when there is no environment of that name, no such state, or a day is none.
    """
    recorded = history(workplace, replace(wanted, by="", since="", until=""))
    people = read_people(workplace.root)
    undone_by = _rollbacks(workplace)
    entries = []
    for summary in reversed(recorded.promotions):
        if summary.state in _NO_ENTRY:
            continue
        promotion = workplace.ledger.promotion(summary.id)
        completed = workplace.ledger.completed(summary.id)
        at, by = (
            (completed.at, completed.by)
            if completed is not None
            else (promotion.changed_at, promotion.changed_by)
        )
        if wanted.has(summary.environment, by, summary.state.value, at):
            entries.append(
                EntryRecord(
                    promotion=promotion,
                    at=at,
                    by=by,
                    approvals=checked_approvals(promotion, people, workplace.ledger),
                    undone_by=undone_by.get(str(promotion.id), ()),
                )
            )
    heard = [h for h in reversed(recorded.heard) if _has_heard(wanted, h)]
    return Audit(
        ledger=workplace.ledger.id, wanted=wanted, entries=tuple(entries), heard=tuple(heard)
    )


def _has_heard(wanted: Wanted, heard: HeardPromotion) -> bool:
    other = heard.promotion
    return wanted.has(heard.environment, other.by, State.DONE.value, other.at)


def _rollbacks(workplace: Workplace) -> Mapping[str, tuple[str, ...]]:
    """The rollbacks that were carried out, by the id of each promotion that they took back."""
    undone: dict[str, tuple[str, ...]] = {}
    for summary in workplace.ledger.summaries() if workplace.ledger.exists else []:
        if summary.state is not State.DONE:
            continue
        promotion = workplace.ledger.promotion(summary.id)
        for key in promotion.draft.rollback.undoes if promotion.draft.rollback else ():
            named = str(promotion_key(key) or key)
            undone[named] = (*undone.get(named, ()), str(promotion.id))
    return undone
