"""The index of promotions and runs: a row for each, made from its entries, read as a summary."""

from __future__ import annotations

from collections.abc import Iterable

from inchworm.core.identifiers import PartId, PromotionId
from inchworm.core.ledger.promotions import Summary, promotion_of, summary_of
from inchworm.core.ledger.runs import RunsAsked, RunSummary, run_of, summary_of_run
from inchworm.core.parts import Digest
from inchworm.core.promotion.states import State
from inchworm.core.running.run import RunId
from inchworm.core.running.states import RunState
from inchworm.store.ledgers.protocol import IndexRow, LedgerTransaction, RunRow


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


def put_runs_into_index(transaction: LedgerTransaction, ledger: str, runs: Iterable[str]) -> None:
    """Have the index tell how runs stand by their entries.

    Args:
        transaction: one that holds the ledger's write lock.
        ledger: the ledger's name.
        runs: their ids, as their entries have them.
    """
    for about in runs:
        entries = [row.entry for row in transaction.about(about)]
        summary = summary_of_run(run_of(ledger, entries), entries[-1].number)
        transaction.put_run(
            (
                summary.id.number,
                summary.environment,
                str(summary.subject),
                summary.corner,
                summary.bundle,
                summary.bundle_digest,
                summary.started,
                summary.state.value,
                summary.began_at,
                summary.began_by,
                summary.changed_at,
                summary.message,
                summary.through,
            )
        )


def run_in(ledger: str, row: RunRow) -> RunSummary:
    """The summary that a row of the index of runs is."""
    return RunSummary(
        id=RunId(ledger, row[0]),
        environment=row[1],
        subject=PartId.parse(row[2]),
        corner=row[3],
        bundle=row[4],
        bundle_digest=Digest(row[5]),
        started=row[6],
        state=RunState(row[7]),
        began_at=row[8],
        began_by=row[9],
        changed_at=row[10],
        message=row[11],
        through=row[12],
    )


def is_asked_for(run: RunSummary, asked: RunsAsked) -> bool:
    """Whether a run is among those that are asked for, however many they are."""
    return (
        asked.environment in {None, run.environment}
        and asked.subject in {None, run.subject}
        and asked.state in {None, run.state}
    )
