"""The index of promotions: a row for each, put there from its entries and read as a summary."""

from __future__ import annotations

from inchworm.core.identifiers import PromotionId
from inchworm.core.ledger.promotions import Summary, promotion_of, summary_of
from inchworm.core.parts import Digest
from inchworm.core.promotion.states import State
from inchworm.store.ledgers.protocol import IndexRow, LedgerTransaction


def put_into_index(transaction: LedgerTransaction, ledger: str, about: str) -> None:
    """Have the index tell how a promotion stands by its entries.

    Args:
        transaction: the one in which its latest entries were written.
        ledger: the ledger's name.
        about: the promotion's id, as its entries have it.
    """
    entries = [row.entry for row in transaction.about(about)]
    summary = summary_of(promotion_of(ledger, entries), entries[-1].number)
    transaction.put_index(
        (
            summary.id.number,
            summary.environment,
            summary.bundle,
            summary.bundle_digest,
            summary.state.value,
            summary.changed_at,
            summary.changed_by,
            summary.through,
            summary.steps,
            summary.steps_over,
            summary.seconds,
        )
    )


def summary_in(ledger: str, row: IndexRow) -> Summary:
    """The summary that a row of the index is."""
    number, environment, bundle, digest, state, at, by, through, steps, over, seconds = row
    return Summary(
        id=PromotionId(ledger, number),
        environment=environment,
        bundle=bundle,
        bundle_digest=Digest(digest),
        state=State(state),
        changed_at=at,
        changed_by=by,
        through=through,
        steps=steps,
        steps_over=over,
        seconds=seconds,
    )
