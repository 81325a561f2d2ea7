"""Carry out a promotion in this process, and die at one instant of it.

Usage: ``python -m tests.program.crash PROMOTION INSTANT``, in a project. An instant is ``before:N``
(step N is journalled as begun, nothing of it done) or ``after:N`` (step N took effect, and the
ledger does not know it yet).
"""

from __future__ import annotations

import datetime as dt
import os
import sys

from inchworm.cli.app import LOCKS, App, now
from inchworm.core.promotion import Promotion, StepReport, StepState
from inchworm.engine.carry_out import Work, carry_out
from inchworm.engine.promote import prepare
from inchworm.store.ledger import Ledger

promotion_id, instant = sys.argv[1:]
moment, number = instant.split(":")
journal = Ledger.step


def step(self: Ledger, promotion: Promotion, at: int, report: StepReport) -> None:
    """Journal a step, unless this is the instant to die at."""
    began = report.state is StepState.RUNNING
    if at == int(number) and began == (moment == "before"):
        if began:
            journal(self, promotion, at, report)
        os._exit(137)
    journal(self, promotion, at, report)


Ledger.step = step  # type: ignore[method-assign, assignment]
app = App.here()
promotion = app.ledger.promotion(promotion_id)
environment = app.project.environment(promotion.draft.environment)
today = dt.date.fromisoformat(promotion.draft.today)
carry_out(
    Work(
        prepared=prepare(app.bundles.get(promotion.draft.bundle), environment, today),
        promotion=promotion,
        ledger=app.ledger,
        root=app.root,
        locks=app.root / LOCKS,
        by="lena",
        now=now,
    )
)
