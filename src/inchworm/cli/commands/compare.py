"""``inchworm compare``."""

from __future__ import annotations

import click
from rich.text import Text

from inchworm.cli.app import App
from inchworm.cli.terminal import console, counted, print_json, rows, say
from inchworm.core.compare import Change, Weight, compare, weight_of
from inchworm.core.facts import Assembly
from inchworm.kinds.project_reader import read_project
from inchworm.report.documents import comparison_document

TREE = "."
_STYLES = {Weight.MAJOR: "bold red", Weight.MINOR: "cyan", Weight.PATCH: "dim"}
_NAMED = 3


def version_of(app: App, name: str) -> Assembly:
    """A bundle, or the source tree for a dot.

    Raises:
        UsageError: when there is no such bundle.
    """
    if name == TREE:
        reading, _ = app.read()
        app.remember(reading)
        return reading.assembly
    bundle = app.bundles.get(name)
    return read_project(
        name=bundle.project, version=bundle.version, dialect=bundle.dialect, files=bundle.files
    ).assembly


@click.command("compare")
@click.argument("before", metavar="BUNDLE")
@click.argument("after", metavar="BUNDLE|.", default=TREE)
@click.option("--json", "as_json", is_flag=True, help="Machine-readable: inchworm/comparison/1.")
def command(before: str, after: str, as_json: bool) -> None:
    """Show what changed between two bundles, or a bundle and the source tree.

    Per part: columns and tables that are added, gone or retyped, and what that affects. The last
    line says what that means for the version number.
    """
    app = App.here()
    changes = compare(version_of(app, before), version_of(app, after))
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
            str(change.part),
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
