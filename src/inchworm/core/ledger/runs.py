"""Runs, worked out from entries."""

from __future__ import annotations

import datetime as dt
from collections import defaultdict, deque
from collections.abc import Mapping, Sequence
from statistics import median

from msgspec import Struct
from msgspec.structs import replace

from inchworm.core.execution import StepReport
from inchworm.core.identifiers import PartId
from inchworm.core.ledger.entries import Entry
from inchworm.core.ledger.events import (
    RunEnded,
    RunStarted,
    RunStepReported,
    RunStopAsked,
    event_of,
)
from inchworm.core.parts import Digest
from inchworm.core.running.run import Run, RunId, run_number
from inchworm.core.running.states import RunState


class RunSummary(Struct, frozen=True, kw_only=True):
    """A run in one line, without its steps.

    Attributes:
        subject: the part that somebody asked for.
        corner: whose corner of the environment it is; empty where it has none.
        started: by what: ``hand``, ``call``, or a schedule of a pipeline.
        changed_at: when it ended; until then, when it began.
        through: the number of the entry up to which this was worked out.
    """

    id: RunId
    environment: str
    subject: PartId
    corner: str
    bundle: str
    bundle_digest: Digest
    started: str
    state: RunState
    began_at: str
    began_by: str
    changed_at: str
    message: str
    through: int

    @property
    def took(self) -> float | None:
        """How long it took, in seconds; None where it has no end that was recorded."""
        if self.state in {RunState.RUNNING, RunState.BROKEN_OFF}:
            return None
        began, ended = map(dt.datetime.fromisoformat, (self.began_at, self.changed_at))
        return (ended - began).total_seconds()


def usually_took(runs: Sequence[RunSummary]) -> Mapping[RunId, float]:
    """How long runs of the same usually took before each, in seconds: the median of the last ones.

    Args:
        runs: the latest last; of the same are those of one part in one environment or corner.

    Returns:
        By run; one without a run of the same before it that was done is missing.
    """
    before: dict[tuple[str, str, PartId], deque[float]] = defaultdict(lambda: deque(maxlen=_LAST))
    usual: dict[RunId, float] = {}
    for run in runs:
        known = before[run.environment, run.corner, run.subject]
        if known:
            usual[run.id] = median(known)
        if run.state is RunState.DONE and run.took is not None:
            known.append(run.took)
    return usual


_LAST = 20
"""Runs whose durations count for what is usual."""


class RunsAsked(Struct, frozen=True, kw_only=True):
    """Which runs are asked for: those for which all of this is so.

    Attributes:
        environment: they ran there.
        subject: the part that somebody asked for.
        state: how they stand.
        latest: at most so many, the latest; None for all.
    """

    environment: str | None = None
    subject: PartId | None = None
    state: RunState | None = None
    latest: int | None = None


def summary_of_run(run: Run, through: int) -> RunSummary:
    """The line of a run.

    Args:
        run: the run; its steps do not count.
        through: the number of its latest entry.
    """
    return RunSummary(
        id=run.id,
        environment=run.plan.environment,
        subject=run.plan.subject,
        corner=run.plan.corner,
        bundle=run.plan.bundle,
        bundle_digest=run.plan.bundle_digest,
        started=run.plan.started,
        state=run.state,
        began_at=run.began_at,
        began_by=run.began_by,
        changed_at=run.changed_at,
        message=run.message,
        through=through,
    )


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
            case RunStopAsked(because=because):
                run = replace(run, stop_asked=f"{entry.by}{f': {because}' if because else ''}")
            case RunEnded(state=state, message=message):
                run = replace(run, state=state, message=message, changed_at=entry.at)
    return replace(run, steps=steps)
