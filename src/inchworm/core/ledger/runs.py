"""Runs, worked out from entries."""

from __future__ import annotations

from collections.abc import Sequence

from msgspec.structs import replace

from inchworm.core.execution import StepReport
from inchworm.core.ledger.entries import Entry
from inchworm.core.ledger.events import RunEnded, RunStarted, RunStepReported, event_of
from inchworm.core.running.run import Run, RunId, run_number
from inchworm.core.running.states import RunState


def run_of(ledger: str, entries: Sequence[Entry]) -> Run:
    """A run's present state, from its entries in their order, its start first.

    Raises:
        LedgerError: when a newer version of the program wrote one of them.
    """
    first = entries[0]
    started = event_of(first)
    assert isinstance(started, RunStarted)
    run = Run(
        id=RunId(ledger, run_number(first.about) or 0),
        plan=started.plan,
        state=RunState.RUNNING,
        began_at=first.at,
        began_by=first.by,
        changed_at=first.at,
        steps={},
    )
    steps: dict[int, StepReport] = {}
    for entry in entries[1:]:
        match event_of(entry):
            case RunStepReported(step=step, report=report):
                steps[step] = report
            case RunEnded(state=state, message=message):
                run = replace(run, state=state, message=message, changed_at=entry.at)
    return replace(run, steps=steps)
