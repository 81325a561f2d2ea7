"""``inchworm check``."""

from __future__ import annotations

import datetime as dt
import sys
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import click
from rich.text import Text

from inchworm import __version__
from inchworm.cli.cached_project import Source
from inchworm.cli.terminal import (
    console,
    counted,
    print_findings,
    print_json,
    rows,
    say,
    spell_findings,
    word,
)
from inchworm.core.errors import UsageError, did_you_mean
from inchworm.core.findings import Finding, finding_from, has_errors, in_order

if TYPE_CHECKING:
    from inchworm.cli.app import App
    from inchworm.kinds.project_reader import Reading


def check_tree(app: App) -> tuple[Reading, Checked]:
    """The source tree, read, and everything that is wrong with it."""
    from inchworm.core.checks.project_rules import check_assembly
    from inchworm.core.waivers import apply
    from inchworm.engine.migration_replay import replay_migrations
    from inchworm.project.waivers import read_waivers

    reading, wrong = app.read()
    waivers, malformed = read_waivers(app.root)
    remembered = app.source.memory.checked or {}
    replays, replayed = replay_migrations(
        reading, app.project.environments, remembered.get("replayed", {})
    )
    found = [*check_assembly(reading.assembly, app.today), *wrong, *replays]
    checked = Checked(
        name=reading.assembly.name,
        version=reading.assembly.version,
        parts=tuple(map(str, reading.assembly.parts)),
        environments=len(app.project.environments),
        findings=in_order([*apply(found, waivers, app.today), *malformed]),
    )
    app.remember(reading, check=checked.to_json(app.today), replayed=replayed)
    return reading, checked


@dataclass(frozen=True, kw_only=True)
class Checked:
    """What a check said."""

    name: str
    version: str
    parts: tuple[str, ...]
    environments: int
    findings: list[Finding]

    def to_json(self, today: dt.date) -> dict[str, Any]:
        """What has to be kept to say it again on the same day; the parts are kept anyhow."""
        return {
            "day": today.isoformat(),
            "name": self.name,
            "version": self.version,
            "environments": self.environments,
            "findings": [finding.to_json() for finding in self.findings],
        }


def _checked_before(source: Source) -> Checked | None:
    """What the last check said, if neither the files nor the day are others."""
    said = source.recall("check")
    if said is None or said["day"] != dt.datetime.now(dt.UTC).date().isoformat():
        return None
    return Checked(
        name=said["name"],
        version=said["version"],
        parts=tuple(map(str, source.memory.names)),
        environments=said["environments"],
        findings=[finding_from(finding) for finding in said["findings"]],
    )


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
    source = Source.here()
    checked = _checked_before(source)
    if checked is None:
        from inchworm.cli.app import App

        _, checked = check_tree(App.here(source))
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
            _show(checked)
    sys.exit(1 if has_errors(findings) else 0)


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


def _show(checked: Checked) -> None:
    screen = console()
    findings, parts = checked.findings, len(checked.parts)
    print_findings(screen, findings)
    outcome = "failed" if has_errors(findings) else "done" if parts else "nothing checked"
    say(
        screen,
        outcome,
        f"{checked.name} {checked.version}: {spell_findings(findings)} in "
        f"{counted(parts, 'part')} for {counted(checked.environments, 'environment')}.",
    )
