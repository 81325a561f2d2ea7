"""``inchworm doctor``."""

from __future__ import annotations

import sys

import click
from rich.text import Text

from inchworm.application.probing import probe_all
from inchworm.cli.process import workplace
from inchworm.cli.terminal import console, print_json, rows, say, word
from inchworm.core.counting import counted
from inchworm.engine.doctor import Probe

_STATES = {True: "fine", False: "failed", None: "not tried"}


@click.command("doctor")
@click.argument("environment", required=False, metavar="[ENV]")
@click.option("--json", "as_json", is_flag=True, help="Machine-readable: inchworm/probes/1.")
def command(environment: str | None, as_json: bool) -> None:
    """Try everything that a promotion needs, in every environment or in one.

    The project's ledger, git and bundles; and per environment its values and secrets, whether its
    database can be reached, may be changed and has the tables that it should, and whether its
    services answer and accept our tokens. Nothing stays changed. Exit code 1 when something failed.
    """
    probes = list(probe_all(workplace(), environment))
    if as_json:
        print_json(
            {
                "format": "inchworm/probes/1",
                "probes": [
                    {
                        "where": each.where,
                        "what": each.what,
                        "state": _STATES[each.is_fine],
                        "message": each.message,
                        "remedy": each.remedy,
                    }
                    for each in probes
                ],
            }
        )
    else:
        _show(probes)
    sys.exit(1 if any(each.is_fine is False for each in probes) else 0)


def _show(probes: list[Probe]) -> None:
    screen = console()
    where = ""
    lines: list[tuple[str | Text, ...]] = []
    for each in probes:
        state = _STATES[each.is_fine]
        lines.append(
            (each.where if each.where != where else "", each.what, word(state), each.message)
        )
        if each.remedy:
            lines.append(("", "", "", Text(f"next: {each.remedy}")))
        where = each.where
    screen.print(rows(("where", "what", "", ""), lines))
    screen.print()
    failed = sum(each.is_fine is False for each in probes)
    untried = sum(each.is_fine is None for each in probes)
    counts = (
        f"{counted(len(probes), 'probe')}: {len(probes) - failed - untried} fine, {failed} failed"
    )
    say(screen, "failed" if failed else "done", f"{counts}, {untried} not tried.")
