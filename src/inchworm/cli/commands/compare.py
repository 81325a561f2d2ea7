"""``inchworm compare``."""

from __future__ import annotations

import click
from rich.text import Text

from inchworm.application.comparing import TREE, compare_versions
from inchworm.cli.process import workplace
from inchworm.cli.terminal import console, print_json, rows, say
from inchworm.core.bundle.compare import Change, Weight, weight_of
from inchworm.core.counting import counted
from inchworm.report.documents import comparison_document

_STYLES = {Weight.MAJOR: "bold red", Weight.MINOR: "cyan", Weight.PATCH: "dim"}
_NAMED = 3


@click.command("compare")
@click.argument("before", metavar="BUNDLE")
@click.argument("after", metavar="BUNDLE|.", default=TREE)
@click.option("--json", "as_json", is_flag=True, help="Machine-readable: inchworm/comparison/1.")
def command(before: str, after: str, as_json: bool) -> None:
    """Show what changed between two bundles, or a bundle and the source tree.

    Per part: columns and tables that are added, gone or retyped, and what that affects. The last
    line says what that means for the version number.
    """
    changes = compare_versions(workplace(), before, after)
    if as_json:
        print_json(comparison_document(before, after, changes))
        return
    screen = console()
    if not changes:
        say(screen, "nothing to do", f"{before} and {after} are the same.")
        return
    lines = [
        (
            change.what,
            "parameter" if change.part is None else str(change.part),
            f"{change.item}  {change.detail}".strip(),
            Text(change.weight.value, style=_STYLES[change.weight]),
            _affected(change),
        )
        for change in changes
    ]
    screen.print(rows(("", "part", "what", "weight", "affects"), lines))
    screen.print()
    weight = weight_of(changes)
    screen.print(f"{counted(len(changes), 'change')}, together {weight.value}.")


def _affected(change: Change) -> str:
    shown = ", ".join(change.affected[:_NAMED])
    more = len(change.affected) - _NAMED
    return f"{shown} and {more} more" if more > 0 else shown
