"""The history of promotions and runs, as the ledger tells it."""

from __future__ import annotations

from dataclasses import dataclass

from inchworm.application.workplace import Workplace
from inchworm.core.errors import UsageError, did_you_mean
from inchworm.core.identifiers import Kind, PartId
from inchworm.core.ledger.promotions import HeardPromotion, Summary
from inchworm.core.promotion.promotion import Promotion
from inchworm.core.running.run import Measured, Run


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


def measures(
    workplace: Workplace, name: str | None = None, environment: str | None = None
) -> list[Measured]:
    """The numbers that notebooks measured: all, or those of a name, or in an environment.

    Raises:
        UsageError: when there is no such environment, or nothing of that name was measured.
    """
    declared = None if environment is None else workplace.project.environment(environment).name
    everything = workplace.ledger.measured() if workplace.ledger.exists else []
    chosen = [
        each
        for each in everything
        if name in {None, each.name} and declared in {None, each.environment}
    ]
    if name is not None and not chosen:
        known = sorted({each.name for each in everything})
        near = did_you_mean(name, known, f"Measured: {', '.join(known) or 'nothing yet'}.")
        raise UsageError(f"Nothing of the name {name} was measured.", next=near)
    return chosen


def executed_notebook(workplace: Workplace, id_: str, name: str) -> bytes:
    """A notebook as a run executed it, with its outputs.

    Raises:
        UsageError: when the run executed none of that name, or it is not kept any more.
    """
    executed = run(workplace, id_)
    outputs = {
        step.part.name.lower(): report.output
        for step in executed.plan.steps
        if isinstance(step.part, PartId) and (report := executed.report_of(step)).output
    }
    output = outputs.get(name.removeprefix(f"{Kind.NOTEBOOK.value}:").lower())
    if output is None:
        near = did_you_mean(name, outputs, f"It executed: {', '.join(outputs) or 'none'}.")
        raise UsageError(f"{executed.id} executed no notebook {name}.", next=near)
    return workplace.outputs.read(output)


def promotion(workplace: Workplace, id_: str) -> Promotion:
    """One promotion, step by step; the ledger's chain is followed first.

    Raises:
        LedgerError: when an entry was altered.
        UsageError: when there is none.
    """
    workplace.ledger.check()
    return workplace.ledger.promotion(id_)
