"""``inchworm waive``."""

from __future__ import annotations

import datetime as dt

import click

from inchworm.cli.app import App
from inchworm.cli.commands.check import check_tree
from inchworm.cli.terminal import console, say
from inchworm.core.checks.rules import REGISTRY
from inchworm.core.errors import UsageError, did_you_mean
from inchworm.core.findings import Severity
from inchworm.core.waivers import FILE, Waiver
from inchworm.project.waivers import add_waiver


@click.command("waive")
@click.argument("rule")
@click.argument("part")
@click.option("--because", required=True, help="Why it can be accepted.")
@click.option("--until", required=True, metavar="DATE", help="The last day, as 2026-12-31.")
@click.option("--only", default="", metavar="TEXT", help="Only the finding whose message has it.")
def command(rule: str, part: str, because: str, until: str, only: str) -> None:
    """Accept what RULE finds about PART for a while.

    PART is a part (model:hydro.season), or the file of a finding that is about no part. The waiver
    is written to waivers.toml, so that it is reviewed and versioned like everything else.
    """
    app = App.here()
    if rule.lower() not in REGISTRY:
        near = did_you_mean(rule, REGISTRY, "See inchworm check.")
        raise UsageError(f"There is no rule {rule}.", next=near)
    try:
        day = dt.date.fromisoformat(until)
    except ValueError as error:
        raise UsageError(f"{until} is not a date.", next="Write it as 2026-12-31.") from error
    if day < app.today:
        raise UsageError(f"{until} is over.", next="Give a day that is still to come.")
    _, checked = check_tree(app)
    subjects = {
        f.part or f.file or ""
        for f in checked.findings
        if f.rule == rule.lower() and f.severity is not Severity.NOTE and only in f.message
    }
    if part.lower() not in {subject.lower() for subject in subjects}:
        raise UsageError(
            f"{rule} has nothing to say about {part}.",
            next=did_you_mean(part, subjects, "See inchworm check."),
        )
    waiver = Waiver(
        rule=rule.lower(), part=part, because=because, owner=app.user, until=day, only=only
    )
    add_waiver(app.root, waiver)
    say(console(), "done", f"{rule} is waived for {part} until {day}, in {FILE}.")
