"""The history of promotions, as the ledger tells it."""

from __future__ import annotations

from inchworm.application.workplace import Workplace
from inchworm.core.ledger.promotions import Summary
from inchworm.core.promotion.promotion import Promotion


def history(workplace: Workplace, environment: str | None = None) -> list[Summary]:
    """All promotions in one line each, the latest first; the ledger's chain is followed first.

    Raises:
        LedgerError: when an entry was altered.
        UsageError: when there is no environment of that name.
    """
    workplace.ledger.check()
    summaries = workplace.ledger.summaries()[::-1]
    if environment is None:
        return summaries
    name = workplace.project.environment(environment).name
    return [summary for summary in summaries if summary.environment == name]


def promotion(workplace: Workplace, id_: str) -> Promotion:
    """One promotion, step by step; the ledger's chain is followed first.

    Raises:
        LedgerError: when an entry was altered.
        UsageError: when there is none.
    """
    workplace.ledger.check()
    return workplace.ledger.promotion(id_)
