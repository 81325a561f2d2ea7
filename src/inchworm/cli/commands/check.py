"""``inchworm check``."""

from __future__ import annotations

import sys

import click

from inchworm.cli.app import App
from inchworm.cli.screen import (
    console,
    counted,
    print_findings,
    print_json,
    say,
    spell_findings,
)
from inchworm.core.checks import check_assembly
from inchworm.core.findings import Finding, has_errors, in_order
from inchworm.kinds.reading import Reading
from inchworm.report.documents import findings_document


def check_tree(app: App) -> tuple[Reading, list[Finding]]:
    """The source tree, read, and everything that is wrong with it."""
    reading, wrong = app.project.read()
    return reading, in_order([*check_assembly(reading.assembly, app.today), *wrong])


@click.command("check")
@click.option("--json", "as_json", is_flag=True, help="Machine-readable: inchworm/findings/1.")
def command(as_json: bool) -> None:
    """Say everything that is wrong in the source tree.

    All findings at once, each with file and line, what it is, why it matters and what to do. Exit
    code 1 when there is an error.
    """
    app = App.here()
    reading, findings = check_tree(app)
    if as_json:
        print_json(findings_document(findings))
    else:
        _show(app, reading, findings)
    sys.exit(1 if has_errors(findings) else 0)


def _show(app: App, reading: Reading, findings: list[Finding]) -> None:
    screen = console()
    print_findings(screen, findings)
    parts = len(reading.assembly.parts)
    environments = len(app.project.environments)
    outcome = "failed" if has_errors(findings) else "done" if parts else "nothing checked"
    settings = app.project.settings
    say(
        screen,
        outcome,
        f"{settings.name} {settings.version}: {spell_findings(findings)} in "
        f"{counted(parts, 'part')} for {counted(environments, 'environment')}.",
    )
