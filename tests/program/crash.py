"""Carry out a promotion in a process of its own, and have that die at one instant of it.

An instant is ``before:N`` (step N is journalled as begun, nothing of it done) or ``after:N`` (step
N took effect, and the ledger does not know it yet). The process is a fork of one that has imported
the program and done nothing: to start Python anew for each of a hundred instants takes longer than
what they do.
"""

from __future__ import annotations

import multiprocessing
import os
import traceback
from collections.abc import Mapping, Sequence
from pathlib import Path

from inchworm.application.promoting import carry_out_promotion, resume
from inchworm.cli.process import workplace
from inchworm.core.execution import StepReport
from inchworm.engine import promoting
from inchworm.engine.reporter import Reporter
from tests.driver import Program

_KILLED = 137


def die(program: Program, promotion: str, instant: str) -> None:
    """Carry out a promotion in a process that dies at one instant."""
    processes = multiprocessing.get_context("forkserver")
    processes.set_forkserver_preload(["tests.program.crash", "inchworm.targets.databases.duckdb"])
    said = program.folder / ".inchworm/said"
    process = processes.Process(
        target=_carry_out, args=(program.folder, program.environ, promotion, instant, said)
    )
    process.start()
    process.join(120)
    assert process.exitcode == _KILLED, said.read_text() if said.exists() else process.exitcode


def _carry_out(
    folder: Path, environ: Mapping[str, str], promotion_id: str, instant: str, said: Path
) -> None:
    os.chdir(folder)
    os.environ.clear()
    os.environ.update(environ)
    moment, number = instant.split(":")
    _Dying.moment, _Dying.number = moment, int(number)
    promoting._Journal = _Dying  # type: ignore[misc]
    try:
        place = workplace()
        resumed = resume(place, promotion_id)
        carry_out_promotion(place, resumed.prepared, resumed.promotion, Reporter())
    except BaseException:
        said.write_text(traceback.format_exc())
        raise


class _Dying(promoting._Journal):
    """A journal in which the program dies."""

    moment = ""
    number = 0

    def began(self, numbers: Sequence[int]) -> None:
        """Journal that steps begin, and die if it is the instant."""
        super().began(numbers)
        if self.moment == "before" and self.number in numbers:
            self.flush()
            os._exit(_KILLED)

    def ended(self, reports: Mapping[int, StepReport]) -> None:
        """Die if it is the instant, else journal how steps ended."""
        if self.moment == "after" and self.number in reports:
            os._exit(_KILLED)
        super().ended(reports)
