"""Rows of tables on the screen."""

from __future__ import annotations

from rich.console import Console
from rich.padding import Padding
from rich.text import Text

from inchworm.cli.terminal import UNLIMITED, rows
from inchworm.core.counting import counted
from inchworm.core.execution import StepReport
from inchworm.core.identifiers import Kind, PartId, Subject
from inchworm.core.sample import Cell, Sample

_INDENT = 8


def print_sample(screen: Console, sample: Sample, indent: int = 0) -> None:
    """Rows in aligned columns; where those are too wide, each column on a line of its own."""
    cells = [list(map(_cell, row)) for row in sample.rows]
    table = rows(sample.columns, cells, right=_numbers(sample))
    limits = screen.options.update(max_width=UNLIMITED)
    width = table.width(screen, limits)
    if not screen.is_terminal:  # a line for each row, however long
        whole = screen.options.update(max_width=width)
        for line in screen.render_lines(table, whole, pad=False):
            text = "".join(segment.text for segment in line).rstrip()
            screen.print(Text(f"{' ' * indent}{text}"), soft_wrap=True)
        return
    if width <= screen.width - indent:
        screen.print(Padding(table, (0, 0, 0, indent), expand=False))
        return
    for number, row in enumerate(cells, start=1):
        screen.print(Padding(Text(f"row {number}", style="dim"), (0, 0, 0, indent)))
        names = (Text(name, style="dim") for name in sample.columns)
        lines = list(zip(names, row, strict=True))
        screen.print(Padding(rows(("", ""), lines), (0, 0, 0, indent)))


def print_failing_rows(
    screen: Console, part: Subject, report: StepReport, environment: str, bundle: str
) -> None:
    """The first rows that a data check found, and the command that shows more of them."""
    if not report.samples or not isinstance(part, PartId):
        return
    for check, sample in report.samples.items():
        if len(report.samples) > 1:
            screen.print(Padding(Text(check, style="dim"), (0, 0, 0, _INDENT)))
        print_sample(screen, sample, _INDENT)
        if sample.more:
            how_many = f"the first {counted(len(sample.rows), 'row')} of more"
            screen.print(Padding(Text(how_many, style="dim"), (0, 0, 0, _INDENT)))
    failing = " --failing" if part.kind is Kind.MODEL else ""
    command = f"inchworm rows {part}{failing} --in {environment} --of {bundle}"
    screen.print(f"{' ' * _INDENT}see them all: {command}", soft_wrap=True)


def _cell(cell: Cell) -> Text:
    if cell is None:
        return Text("null", style="dim")
    if isinstance(cell, bool):
        return Text(str(cell).lower())
    return Text(f"{cell:.12g}" if isinstance(cell, float) else str(cell))


def _numbers(sample: Sample) -> list[int]:
    """The columns that have nothing but numbers."""
    return [
        at
        for at in range(len(sample.columns))
        if all(isinstance(row[at], int | float | None) for row in sample.rows)
    ]
