"""Carry out a promotion in this process, and die at one instant of it.

Usage: ``python -m tests.program.crash PROMOTION INSTANT``, in a project. An instant is ``before:N``
(step N is journalled as begun, nothing of it done) or ``after:N`` (step N took effect, and the
ledger does not know it yet).
"""

from __future__ import annotations

import os
import sys
from collections.abc import Mapping, Sequence

from inchworm.application.promoting import carry_out_promotion, resume
from inchworm.cli.process import workplace
from inchworm.core.execution import StepReport
from inchworm.engine import promoting
from inchworm.engine.reporter import Reporter

promotion_id, instant = sys.argv[1:]
moment, number = instant.split(":")


class DyingJournal(promoting._Journal):
    """A journal in which the program dies."""

    def began(self, numbers: Sequence[int]) -> None:
        """Journal that steps begin, and die if it is the instant."""
        super().began(numbers)
        if moment == "before" and int(number) in numbers:
            self.flush()
            os._exit(137)

    def ended(self, reports: Mapping[int, StepReport]) -> None:
        """Die if it is the instant, else journal how steps ended."""
        if moment == "after" and int(number) in reports:
            os._exit(137)
        super().ended(reports)


promoting._Journal = DyingJournal  # type: ignore[misc]
place = workplace()
resumed = resume(place, promotion_id)
carry_out_promotion(place, resumed.prepared, resumed.promotion, Reporter())
