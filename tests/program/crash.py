"""Carry out a promotion, or a copying flow, in a process of its own that dies at one instant.

An instant of a promotion is ``before:N`` (step N is journalled as begun, nothing of it done) or
``after:N`` (step N took effect, and the ledger does not know it yet).
"""

from __future__ import annotations

import io
import os
import sys
import traceback
from collections.abc import Callable, Mapping, Sequence
from contextlib import redirect_stdout
from pathlib import Path
from typing import Any

from inchworm.application.promoting import carry_out_promotion, resume
from inchworm.cli.main import main
from inchworm.cli.process import workplace
from inchworm.core.execution import StepReport
from inchworm.engine import promoting
from inchworm.engine.reporter import Reporter
from inchworm.targets.databases.sent_rows import TakenFiles
from inchworm.targets.file_places import FilePlace
from tests.driver import Program
from tests.forked import enter, fork

_KILLED = 137


def die(program: Program, promotion: str, instant: str) -> None:
    """Carry out a promotion in a process that dies at one instant."""
    moment, number = instant.split(":")
    _dies(program, _carry_out, promotion, moment, int(number))


def die_copying(program: Program, flow: str, instant: str, number: int) -> None:
    """Run a copying flow in a process that dies at an instant of its n-th file.

    Args:
        program: the program in its folder.
        flow: the flow's name; it is live in development.
        instant: ``fetched`` (nothing of it was taken), ``marked`` (its rows and mark are written,
            and not committed), or ``put`` (it is in the folder where it goes, without a mark).
        number: of the file.
    """
    _dies(program, _copy, flow, instant, number)


def _dies(program: Program, target: Callable[..., None], *given: object) -> None:
    traceback_file = program.folder / ".inchworm/traceback"
    process = fork(_in_folder, program.folder, program.environ, traceback_file, target, *given)
    process.join(120)
    assert process.exitcode == _KILLED, (
        traceback_file.read_text() if traceback_file.exists() else process.exitcode
    )


def _in_folder(
    folder: Path,
    environ: Mapping[str, str],
    traceback_file: Path,
    target: Callable[..., None],
    *given: object,
) -> None:
    enter(folder, environ)
    try:
        target(*given)
    except BaseException:
        traceback_file.write_text(traceback.format_exc())
        raise


def _carry_out(promotion_id: str, moment: str, number: int) -> None:
    _Dying.moment, _Dying.number = moment, number
    promoting._Journal = _Dying  # type: ignore[misc]
    place = workplace()
    resumed = resume(place, promotion_id)
    carry_out_promotion(place, resumed.prepared, resumed.promotion, Reporter())


def _copy(flow: str, instant: str, number: int) -> None:
    owner, name = _INSTANTS[instant]
    done = getattr(owner, name)
    calls = 0

    def dying(*arguments: Any) -> Any:
        nonlocal calls
        calls += 1
        result = done(*arguments)
        if calls == number:
            os._exit(_KILLED)
        return result

    setattr(owner, name, dying)
    sys.argv = ["inchworm", "run", f"flow:{flow}", "--in", "dev", "--yes", "--json"]
    with redirect_stdout(io.StringIO()):
        main()


_INSTANTS: Mapping[str, tuple[type, str]] = {
    "fetched": (FilePlace, "fetch"),
    "marked": (TakenFiles, "add"),
    "put": (FilePlace, "put"),
}


class _Dying(promoting._Journal):
    """A journal in which the program dies."""

    moment = ""
    number = 0

    def began(self, numbers: Sequence[int]) -> None:
        """Journal that steps begin, and die if it is the instant."""
        super().began(numbers)
        if self.moment == "before" and self.number in numbers:
            self.settle()
            os._exit(_KILLED)

    def ended(self, reports: Mapping[int, StepReport]) -> None:
        """Die if it is the instant, else journal how steps ended."""
        if self.moment == "after" and self.number in reports:
            os._exit(_KILLED)
        super().ended(reports)
