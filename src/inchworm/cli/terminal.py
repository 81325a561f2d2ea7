"""Printing for people: 100 columns, aligned words, colour only in support."""

from __future__ import annotations

import json
import os
import re
import sys
from collections import Counter
from collections.abc import Iterable, Sequence
from typing import Any, TextIO, cast

from msgspec import Struct
from rich.console import Console, ConsoleOptions, RenderableType, RenderResult
from rich.measure import Measurement
from rich.padding import Padding
from rich.segment import Segment
from rich.table import Table
from rich.text import Text

from inchworm.cli.visible import escaped, visible
from inchworm.core.checks.findings import Finding, Group, Severity, grouped
from inchworm.core.counting import counted

WIDTH = 100

STYLES = {
    "error": "bold red",
    "warning": "yellow",
    "note": "dim",
    "done": "green",
    "nothing to do": "green",
    "fine": "green",
    "not tried": "yellow",
    "given for once": "yellow",
    "slow": "yellow",
    "loses data": "bold red",
    "nothing checked": "yellow",
    "partly done": "bold yellow",
    "failed": "bold red",
    "running": "yellow",
    "drafted": "cyan",
    "met": "green",
    "missing": "bold yellow",
    "exception": "bold red",
    "approved": "green",
    "rejected": "bold red",
    "held": "bold cyan",
    "paused": "bold cyan",
    "not chosen": "yellow",
    "undone": "dim",
    "dropped": "dim",
    "waiting": "dim",
    "not started": "yellow",
    "stopped": "bold yellow",
    "broken off": "bold red",
    "protected": "bold magenta",
    "not protected": "dim",
}
"""How words that say a state are coloured; each reads just as well without."""


def console() -> Console:
    """A console for standard output; plain when it is not a terminal."""
    made = _Console(highlight=False)
    if made.is_terminal:
        return _Console(highlight=False, width=min(made.width, WIDTH))
    return _Piped(highlight=False, width=WIDTH, file=cast(TextIO, _Trimmed()))


class _Console(Console):
    """A console that falls silent when nobody reads it any more.

    What the command does goes on: a promotion must not stop halfway because a pager was closed.
    """

    def render(
        self, renderable: RenderableType, options: ConsoleOptions | None = None
    ) -> Iterable[Segment]:
        """What is printed, without control characters that come from outside."""
        for segment in super().render(renderable, options):
            if segment.control:
                yield segment
            else:
                yield Segment(visible(segment.text), segment.style)

    def on_broken_pipe(self) -> None:
        """Write to nowhere from now on."""
        self.quiet = True
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())


class _Piped(_Console):
    """A console for other programs: a line may be longer, so that no word is broken."""

    def print(self, *objects: Any, crop: bool | None = None, **options: Any) -> None:
        """Print whole lines."""
        super().print(*objects, crop=False, **options)


class _Trimmed:
    """Standard output without the blanks that aligned columns leave at the end of lines."""

    def write(self, text: str) -> int:
        """Write a whole print's text."""
        sys.stdout.write(re.sub(r" +$", "", text, flags=re.MULTILINE))
        return len(text)

    def flush(self) -> None:
        """Flush standard output."""
        sys.stdout.flush()


def say(screen: Console, state: str, text: str) -> None:
    """One line (or more) that begins with a state word."""
    screen.print(Text.assemble(word(state), "  ", text))


def word(text: str) -> Text:
    """A state word in its colour."""
    return Text(text, style=STYLES.get(text, ""))


def rows(
    headings: Sequence[str], lines: Iterable[Sequence[str | Text]], *, right: Sequence[int] = ()
) -> _Aligned:
    """Aligned columns without lines around them.

    Args:
        headings: column titles; none when all are empty.
        lines: the cells.
        right: columns with numbers, aligned to the right.
    """
    table = Table(box=None, show_header=any(headings), pad_edge=False, padding=(0, 2, 0, 0))
    table.header_style = "dim"
    for i, heading in enumerate(headings):
        justify = "right" if i in right else "left"
        table.add_column(heading, justify=justify, overflow="fold", vertical="top")  # type: ignore[arg-type]
    for line in lines:
        table.add_row(*line)
    return _Aligned(table)


class _Aligned(Struct, frozen=True):
    """A table that is wide enough for its longest words where nothing limits its width."""

    table: Table

    def width(self, console: Console, options: ConsoleOptions) -> int:
        """The width, in letters, at which no cell is broken."""
        return Measurement.get(console, options, self.table).maximum

    def __rich_console__(self, console: Console, options: ConsoleOptions) -> RenderResult:
        if not console.is_terminal:
            needed = Measurement.get(console, options.update(max_width=UNLIMITED), self.table)
            options = options.update(max_width=max(options.max_width, needed.minimum))
        yield from console.render(self.table, options)


UNLIMITED = 10_000
"""Letters; wider than any line."""


MOST_FINDINGS = 50
"""Causes of findings that are shown unless all are asked for."""


def print_findings(
    screen: Console, findings: Sequence[Finding], most: int | None = None, more: str = ""
) -> None:
    """Findings with where they are, what they are and what to do; of each cause the first.

    Args:
        screen: where to.
        findings: in order.
        most: how many causes are shown; None for all, and then every finding by itself.
        more: how to see the rest.
    """
    groups = [Group(head=f) for f in findings] if most is None else grouped(findings)
    for group in groups[:most]:
        finding = group.head
        head = Text.assemble(
            (f"{finding.severity.value:8}", STYLES[finding.severity.value]),
            (finding.place or "", "bold"),
            "  ",
            (finding.rule, "dim"),
        )
        screen.print(head, soft_wrap=True)
        message, *ways = finding.message.split("\n")
        ways += [way for f in group.following for way in f.message.split("\n")[1:]]
        subject = f"{finding.part}  " if finding.part else ""
        screen.print(Padding(Text(f"{subject}{message}"), (0, 0, 0, 8), expand=False))
        for way in dict.fromkeys(ways):
            screen.print(Padding(Text(way, style="cyan"), (0, 0, 0, 10), expand=False))
        if finding.severity is not Severity.NOTE:
            remedy = Text(f"next: {finding.remedy}", style="dim")
            screen.print(Padding(remedy, (0, 0, 0, 8), expand=False))
        if group.following:
            screen.print(Padding(Text(_following(group), style="dim"), (0, 0, 0, 8), expand=False))
        screen.print()
    if most is not None and len(groups) > most:
        left = [f for group in groups[most:] for f in (group.head, *group.following)]
        by_rule = Counter(finding.rule for finding in left).most_common(_NAMED)
        listed = ", ".join(f"{count} {rule}" for rule, count in by_rule)
        screen.print(Text(f"... and {counted(len(left), 'finding')} more: {listed}. {more}"))
        screen.print()


_NAMED = 5
"""Parts or rules that are named where there are many."""


def _following(group: Group) -> str:
    """``and 14 findings that follow from this: model:a.b, model:c.d and 12 more``."""
    parts = list(dict.fromkeys(f.part or f.place for f in group.following))
    rest = f" and {len(parts) - _NAMED} more" if len(parts) > _NAMED else ""
    count = counted(len(group.following), "finding")
    follow = "follows" if len(group.following) == 1 else "follow"
    return f"and {count} that {follow} from this: {', '.join(parts[:_NAMED])}{rest}"


def spell_findings(findings: Sequence[Finding]) -> str:
    """``2 errors, 1 warning and 0 notes``."""
    counts = [sum(f.severity is severity for f in findings) for severity in Severity]
    counted_ones = [
        counted(n, severity.value) for n, severity in zip(counts, Severity, strict=True)
    ]
    return f"{counted_ones[0]}, {counted_ones[1]} and {counted_ones[2]}"


def spell_seconds(seconds: float | None) -> str:
    """A duration as people read it: ``0.04 s``, ``12.5 s``, ``2 min 10 s``."""
    if seconds is None:
        return ""
    if seconds < 10:
        return f"{seconds:.2f} s"
    if seconds < 90:
        return f"{seconds:.1f} s"
    minutes, rest = divmod(round(seconds), 60)
    return f"{minutes} min {rest} s"


def spell_whole_seconds(seconds: float | None) -> str:
    """A duration that is known to the second: ``8 s``, ``2 min 10 s``."""
    if seconds is None or seconds >= 90:
        return spell_seconds(seconds)
    return f"{seconds:.0f} s"


def print_json(document: dict[str, Any]) -> None:
    """A machine-readable answer on standard output."""
    sys.stdout.write(escaped(json.dumps(document, indent=2, ensure_ascii=False)) + "\n")
