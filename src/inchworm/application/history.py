"""The history of promotions and runs, as the ledger tells it."""

from __future__ import annotations

from dataclasses import dataclass

from inchworm.application.workplace import Workplace
from inchworm.core.ledger.promotions import HeardPromotion, Summary
from inchworm.core.promotion.promotion import Promotion
from inchworm.core.running.run import Run


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


def runs(workplace: Workplace, environment: str | None = None) -> list[Run]:
    """All runs, or those in one environment, the latest first; the ledger's chain is followed.

    Raises:
        LedgerError: when an entry was altered.
        UsageError: when there is no environment of that name.
    """
    workplace.ledger.check()
    name = None if environment is None else workplace.project.environment(environment).name
    return [run for run in workplace.ledger.runs()[::-1] if name in {None, run.plan.environment}]


def run(workplace: Workplace, id_: str) -> Run:
    """One run, step by step; the ledger's chain is followed first.

    Raises:
        LedgerError: when an entry was altered.
        UsageError: when there is none.
    """
    workplace.ledger.check()
    return workplace.ledger.run(id_)


def promotion(workplace: Workplace, id_: str) -> Promotion:
    """One promotion, step by step; the ledger's chain is followed first.

    Raises:
        LedgerError: when an entry was altered.
        UsageError: when there is none.
    """
    workplace.ledger.check()
    return workplace.ledger.promotion(id_)
