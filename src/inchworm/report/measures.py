"""Measures of notebooks: as a document, and drawn over time."""

from __future__ import annotations

import datetime as dt
from collections import defaultdict
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from inchworm.core.running.run import Measured
from inchworm.report.figures import new_figure, save


def measures_document(measured: Sequence[Measured]) -> dict[str, Any]:
    """``inchworm/measures/1``."""
    return {
        "format": "inchworm/measures/1",
        "measures": [
            {
                "run": str(each.run),
                "environment": each.environment,
                "part": each.part,
                "name": each.name,
                "value": each.value,
                "at": each.at,
            }
            for each in measured
        ],
    }


_MARKS = ("o", "s", "^", "D", "v", "P")
_COLOURS = ("#23527c", "#b07818", "#1b6e53", "#8a3f6b", "#5b6661", "#a3402c")


def draw_measure(measured: Sequence[Measured], file: Path) -> None:
    """Draw one measure over time, a line for each environment and notebook.

    Raises:
        UsageError: when matplotlib is missing, or the file's ending is no kind of picture.
    """
    figure = new_figure((9.0, 5.0))
    axes = figure.add_subplot()
    lines: dict[tuple[str, str], list[Measured]] = defaultdict(list)
    for each in measured:
        lines[each.environment, each.part].append(each)
    parts = {part for _, part in lines}
    for at, ((environment, part), points) in enumerate(sorted(lines.items())):
        times = [dt.datetime.fromisoformat(each.at) for each in points]
        axes.plot(
            times,  # type: ignore[arg-type]
            [each.value for each in points],
            marker=_MARKS[at % len(_MARKS)],
            color=_COLOURS[at % len(_COLOURS)],
            label=environment if len(parts) == 1 else f"{environment}, {part}",
        )
    name = measured[0].name
    axes.set_title(f"{name} of {next(iter(parts))}" if len(parts) == 1 else name)
    axes.set_xlabel("end of the run, UTC")
    axes.set_ylabel(name)
    axes.margins(0.08)
    axes.grid(color="#dfe4e1")
    axes.legend(title="environment")
    figure.autofmt_xdate()
    save(figure, file)
