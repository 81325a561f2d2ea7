"""``inchworm check``."""

from __future__ import annotations

import sys

import click
from rich.text import Text

from inchworm import __version__
from inchworm.application.checking import Checked, check, checked_before
from inchworm.cli.process import clock, source_tree, workplace
from inchworm.cli.terminal import (
    MOST_FINDINGS,
    console,
    print_findings,
    print_json,
    rows,
    say,
    spell_findings,
    word,
)
from inchworm.core.counting import counted
from inchworm.core.errors import UsageError, did_you_mean


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
@click.option("--all", "everything", is_flag=True, help="Show every finding, each by itself.")
@click.option("--explain", metavar="RULE", help="Tell what a rule is about, and check nothing.")
def command(format_: str, as_json: bool, everything: bool, explain: str | None) -> None:
    """Say everything that is wrong in the source tree.

    All findings at once, each with file and line, what it is, why it matters and what to do. Exit
    code 1 when there is an error.
    """
    if explain is not None:
        _explain(explain)
        return
    tree = source_tree()
    checked = checked_before(tree, clock().date())
    if checked is None:
        _, checked = check(workplace(tree))
    findings = checked.findings
    match "json" if as_json else format_:
        case "json":
            from inchworm.report.documents import findings_document

            print_json(findings_document(findings))
        case "sarif":
            from inchworm.report.standards import sarif_document

            print_json(sarif_document(findings, __version__))
        case "junit":
            from inchworm.report.standards import junit_document

            click.echo(junit_document(findings, checked.parts))
        case _:
            _show(checked, everything)
    sys.exit(1 if checked.has_errors else 0)


def _explain(id_: str) -> None:
    from inchworm.core.checks.rules import REGISTRY

    rule = REGISTRY.get(id_.lower())
    if rule is None:
        near = did_you_mean(id_, REGISTRY, f"Rules: {', '.join(sorted(REGISTRY))}.")
        raise UsageError(f"There is no rule {id_}.", next=near)
    screen = console()
    screen.print(Text.assemble((rule.id, "bold"), "  ", word(rule.severity.value)))
    screen.print(
        rows(("", ""), [("what", rule.what), ("why", rule.why), ("what to do", rule.remedy)])
    )


def _show(checked: Checked, everything: bool) -> None:
    screen = console()
    findings, parts = checked.findings, len(checked.parts)
    most = None if everything else MOST_FINDINGS
    print_findings(screen, findings, most, "All of them: inchworm check --all")
    outcome = "failed" if checked.has_errors else "done" if parts else "nothing checked"
    say(
        screen,
        outcome,
        f"{checked.name} {checked.version}: {spell_findings(findings)} in "
        f"{counted(parts, 'part')} for {counted(checked.environments, 'environment')}.",
    )
