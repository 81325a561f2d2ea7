"""Steps at the terminal: a running line while each works, and one line for good at its end.

And which of very many steps are listed afterwards.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Protocol, TypeVar

from rich.console import Console
from rich.progress import Progress, SpinnerColumn, TaskID, TextColumn, TimeElapsedColumn
from rich.text import Text

from inchworm.cli.terminal import spell_seconds, word
from inchworm.cli.visible import visible
from inchworm.core.execution import StepReport, StepState

_QUIET = frozenset({StepState.FAILED, StepState.NOT_STARTED})
"""States whose message is told at the end, and not in the line."""


MOST_STEPS = 100
"""How many steps are listed unless all are asked for."""


class Numbered(Protocol):
    """A step of a promotion or a run."""

    @property
    def number(self) -> int:
        """Its place in the order."""
        ...


Listed = TypeVar("Listed", bound=Numbered)


def listed(
    steps: Sequence[Listed], report_of: Callable[[Listed], StepReport], *, everything: bool
) -> tuple[Sequence[Listed], str]:
    """The steps that are listed, in their order, and what is said of the others, if there are any.

    Where not all of them are, those that did not go well, or found rows, come before those that
    have not begun, and these before those that are done.
    """
    left = len(steps) - MOST_STEPS
    if everything or left <= 0:
        return steps, ""

    def dullness(step: Listed) -> int:
        report = report_of(step)
        if report.samples:
            return 0
        return 2 if report.state is StepState.DONE else 1 if not report.state.is_over else 0

    chosen = {step.number for step in sorted(steps, key=dullness)[:MOST_STEPS]}
    return [step for step in steps if step.number in chosen], f"... and {left:,} more steps: --all"


class StepLines:
    """The lines of some steps.

    Args:
        screen: where they are printed.
        place: what stands before the number of each: the environment, or nothing.
        total: how many steps there are.
        width: of the longest text that tells what a step does.
    """

    def __init__(self, screen: Console, place: str, total: int, width: int) -> None:
        self._screen = screen
        self._place = f"{place} " if place else ""
        self._total = total
        self._width = width
        self._tasks: dict[int, TaskID] = {}
        self._at_work = Progress(
            SpinnerColumn("line"),
            TextColumn("{task.description}"),
            TimeElapsedColumn(),
            console=screen,
            transient=True,
        )

    def started(self, number: int, what: str, usual: float | None) -> None:
        """Show a step while it runs, where that can be erased again.

        Args:
            number: of the step.
            what: it does, and to what.
            usual: how long it usually takes, in seconds; None where nobody knows.
        """
        if not self._screen.is_terminal:
            return
        hint = f", usually {spell_seconds(usual)}" if usual is not None else ""
        if not self._tasks:
            self._at_work.start()
        text = f"{self._place}{number}/{self._total}  {what}{hint}"
        self._tasks[number] = self._at_work.add_task(text)

    def ended(self, number: int, what: str, report: StepReport) -> None:
        """The line of a step that has ended."""
        if number in self._tasks:
            self._at_work.remove_task(self._tasks.pop(number))
        place = f"{self._place}{number:>{len(str(self._total))}}/{self._total}"
        message = report.message if report.state not in _QUIET else ""
        seconds = spell_seconds(report.seconds)
        if not self._screen.is_terminal:  # laying a line out takes as long as a small model
            plain = f"{place}  {what:<{self._width}}  {report.state.value}  {seconds}  {message}"
            self._screen.file.write(f"{visible(plain.rstrip())}\n")
            self._screen.file.flush()  # whoever reads a log of it wants to see where it is
            return
        line = Text.assemble(
            (f"{place}  ", "dim"),
            f"{what:<{self._width}}  ",
            word(report.state.value),
            (f"  {seconds}", "dim"),
            f"  {message}" if message else "",
        )
        self._screen.print(line, no_wrap=True, crop=True, overflow="ignore")

    def close(self) -> None:
        """Take the running lines away, where there are any."""
        if self._screen.is_terminal:
            self._at_work.stop()
