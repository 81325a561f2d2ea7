"""The history of promotions, as the ledger tells it."""

from __future__ import annotations

from dataclasses import dataclass

from inchworm.application.workplace import Workplace
from inchworm.core.ledger.promotions import HeardPromotion, Summary
from inchworm.core.promotion.promotion import Promotion


@dataclass(frozen=True, kw_only=True)
class History:
    """Promotions in one line each, the latest first.

    Attributes:
        promotions: those of the ledger.
        heard: those of other ledgers, as far as environments were read since.
    """

    promotions: list[Summary]
    heard: list[HeardPromotion]


def history(workplace: Workplace, environment: str | None = None) -> History:
    """All promotions, or those into one environment; the ledger's chain is followed first.

    Raises:
        LedgerError: when an entry was altered.
        UsageError: when there is no environment of that name.
    """
    workplace.ledger.check()
    summaries = workplace.ledger.summaries()[::-1]
    name = None if environment is None else workplace.project.environment(environment).name
    heard = [each for each in workplace.ledger.heard() if name in {None, each.environment}]
    return History(
        promotions=[summary for summary in summaries if name in {None, summary.environment}],
        heard=heard[::-1],
    )


def promotion(workplace: Workplace, id_: str) -> Promotion:
    """One promotion, step by step; the ledger's chain is followed first.

    Raises:
        LedgerError: when an entry was altered.
        UsageError: when there is none.
    """
    workplace.ledger.check()
    return workplace.ledger.promotion(id_)
