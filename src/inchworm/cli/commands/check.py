"""``inchworm check``."""

from __future__ import annotations

import sys
from importlib.metadata import version

import click
from rich.text import Text

from inchworm.cli.app import App
from inchworm.cli.screen import (
    console,
    counted,
    print_findings,
    print_json,
    rows,
    say,
    spell_findings,
    word,
)
from inchworm.core.checks.across import check_assembly
from inchworm.core.checks.rules import REGISTRY
from inchworm.core.errors import UsageError, did_you_mean
from inchworm.core.findings import Finding, has_errors, in_order
from inchworm.core.waivers import apply
from inchworm.kinds.reading import Reading
from inchworm.project.waivers import read_waivers
from inchworm.report.documents import findings_document
from inchworm.report.standards import junit_document, sarif_document


def check_tree(app: App) -> tuple[Reading, list[Finding]]:
    """The source tree, read, and everything that is wrong with it."""
    reading, wrong = app.project.read()
    waivers, malformed = read_waivers(app.root)
    found = [*check_assembly(reading.assembly, app.today), *wrong]
    return reading, in_order([*apply(found, waivers, app.today), *malformed])


@click.command("check")
@click.option(
    "--format",
    "format_",
    type=click.Choice(["text", "json", "sarif", "junit"]),
    default="text",
    show_default=True,
    help="For people, or for other programs: inchworm/findings/1, SARIF 2.1.0, JUnit XML.",
)
@click.option("--json", "as_json", is_flag=True, help="The same as --format json.")
@click.option("--explain", metavar="RULE", help="Tell what a rule is about, and check nothing.")
def command(format_: str, as_json: bool, explain: str | None) -> None:
    """Say everything that is wrong in the source tree.

    All findings at once, each with file and line, what it is, why it matters and what to do. Exit
    code 1 when there is an error.
    """
    if explain is not None:
        _explain(explain)
        return
    app = App.here()
    reading, findings = check_tree(app)
    match "json" if as_json else format_:
        case "json":
            print_json(findings_document(findings))
        case "sarif":
            print_json(sarif_document(findings, version("inchworm")))
        case "junit":
            click.echo(junit_document(findings, map(str, reading.assembly.parts)))
        case _:
            _show(app, reading, findings)
    sys.exit(1 if has_errors(findings) else 0)


def _explain(id_: str) -> None:
    rule = REGISTRY.get(id_.lower())
    if rule is None:
        near = did_you_mean(id_, REGISTRY, f"Rules: {', '.join(sorted(REGISTRY))}.")
        raise UsageError(f"There is no rule {id_}.", next=near)
    screen = console()
    screen.print(Text.assemble((rule.id, "bold"), "  ", word(rule.severity.value)))
    screen.print(
        rows(("", ""), [("what", rule.what), ("why", rule.why), ("what to do", rule.remedy)])
    )


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
