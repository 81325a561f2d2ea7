"""``inchworm waive``."""

from __future__ import annotations

import click

from inchworm.application.waiving import waive
from inchworm.cli.process import workplace
from inchworm.cli.terminal import console, say
from inchworm.core.checks.waivers import FILE


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
    waiver = waive(workplace(), rule, part, because=because, until=until, only=only)
    say(console(), "done", f"{waiver.rule} is waived for {part} until {waiver.until}, in {FILE}.")
