"""``inchworm drift``."""

from __future__ import annotations

import sys
from difflib import unified_diff

import click
from rich.padding import Padding
from rich.text import Text

from inchworm.application.watching import Drift, drift
from inchworm.cli.process import shown_time, workplace
from inchworm.cli.terminal import console, print_json, say, word
from inchworm.core.counting import counted
from inchworm.core.ledger.promotions import lacking_in_words
from inchworm.core.structure.definitions import Difference
from inchworm.report.documents import drift_document


@click.command("drift")
@click.argument("environment", metavar="ENV")
@click.option("--json", "as_json", is_flag=True, help="Machine-readable: inchworm/drift/1.")
def command(environment: str, as_json: bool) -> None:
    """Show what somebody changed in ENV by hand since the last promotion there.

    Structure of tables, texts of views, and the items of workspace and gateway, each with what
    it affects through the lineage, and what a promotion would do about it. Exit code 1 when there
    is any.
    """
    drifted = drift(workplace(), environment)
    if as_json:
        print_json(drift_document(drifted))
    else:
        _show(drifted)
    sys.exit(1 if drifted.parts else 0)


def _show(drifted: Drift) -> None:
    screen = console()
    screen.print(
        Text.assemble(
            (drifted.environment.name, "bold"),
            " (",
            word(drifted.environment.protection),
            ")",
            (f"  as {drifted.live.identity}, read {shown_time(drifted.read_at)} UTC", "dim"),
        )
    )
    screen.print()
    for each in drifted.parts:
        screen.print(Text(str(each.part.part), style="bold"))
        for difference in each.differences:
            screen.print(Text.assemble("  ", word(difference.what), f"  {difference.key}"))
            for line in _lines(difference):
                screen.print(Padding(Text(line), (0, 0, 0, 6)))
        if not each.differences:
            screen.print("  is not there as it was put")
        if each.affected:
            affected = Text(f"affects {', '.join(each.affected)}", style="dim")
            screen.print(Padding(affected, (0, 0, 0, 2)))
        screen.print(Text(f"  {each.remedy}", style="dim"))
        screen.print()
    if drifted.live.is_simulation_new and any(p.kind.is_service for p in drifted.live.parts):
        simulated = "nothing was put into this checkout's simulated services yet."
        screen.print(Text.assemble(word("note"), f"  {simulated}"))
    if drifted.unknown_there is not None:
        message = lacking_in_words(drifted.unknown_there, drifted.environment.name)
        screen.print(Text.assemble(word("warning"), f"  {message}."))
    if drifted.since is None:
        say(screen, "nothing checked", "nothing was promoted here yet.")
    elif not drifted.parts:
        say(screen, "done", "nothing drifted.")
    else:
        when = f" since {shown_time(drifted.since)} UTC at the earliest"
        say(screen, "failed", f"{counted(len(drifted.parts), 'part')} changed by hand{when}.")


def _lines(difference: Difference) -> list[str]:
    """The lines that differ, with - for what was put and + for what is there."""
    was, now = _laid_out(difference.was), _laid_out(difference.now)
    return [
        line
        for line in unified_diff(was, now, lineterm="", n=0)
        if line and not line.startswith(("---", "+++", "@@"))
    ][:20]


def _laid_out(sql: str) -> list[str]:
    """A statement on lines of its own for each column, so that one can be seen to differ."""
    lines: list[str] = []
    depth = 0
    line = ""
    for letter in sql:
        depth += {"(": 1, ")": -1}.get(letter, 0)
        if letter == "\n" or (letter == "," and depth == 1):
            lines.append((line + letter).rstrip())
            line = ""
        else:
            line += letter
    return [line.strip() for line in [*lines, line] if line.strip()]
