"""``inchworm doctor``."""

from __future__ import annotations

import datetime as dt
import sys
from collections.abc import Iterator

import click
from rich.text import Text

from inchworm.cli.app import App
from inchworm.cli.terminal import console, counted, print_json, rows, say, word
from inchworm.core.errors import TargetError
from inchworm.core.parameters import evaluate
from inchworm.engine.doctor import Probe, probe, probe_environment

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
    app = App.here()
    found = list(_probes(app, environment))
    if as_json:
        print_json(
            {
                "format": "inchworm/probes/1",
                "probes": [
                    {
                        "where": each.where,
                        "what": each.what,
                        "state": _STATES[each.is_fine],
                        "message": each.said,
                        "remedy": each.remedy,
                    }
                    for each in found
                ],
            }
        )
    else:
        _show(found)
    sys.exit(1 if any(each.is_fine is False for each in found) else 0)


def _probes(app: App, environment: str | None) -> Iterator[Probe]:
    chosen = app.project.environments
    if environment is not None:
        chosen = [app.project.environment(environment)]
    yield probe("project", "ledger", lambda: _ledger(app))
    yield probe("project", "git", lambda: _git(app))
    yield probe("project", "bundles", lambda: counted(len(app.bundles.names()), "bundle"))
    reading, _ = app.read()
    app.remember(reading)
    for each in chosen:
        values = evaluate(reading.assembly.matrix, each.name, app.today)
        yield from probe_environment(
            each, reading.assembly, values, app.root, lambda: dt.datetime.now(dt.UTC)
        )


def _ledger(app: App) -> str:
    if not app.ledger.exists:
        return "not there yet; the first pack makes it"
    app.ledger.check()
    return f"{len(app.ledger.entries()):,} entries, intact"


def _git(app: App) -> str:
    state = app.project.git
    if state.commit is None:
        raise TargetError(
            "there is no commit: bundles are snapshots that nobody can trace.",
            next="git init, git add --all, git commit",
        )
    return f"commit {state.short} on {state.branch or 'no branch'}"


def _show(found: list[Probe]) -> None:
    screen = console()
    where = ""
    lines: list[tuple[str | Text, ...]] = []
    for each in found:
        state = _STATES[each.is_fine]
        lines.append((each.where if each.where != where else "", each.what, word(state), each.said))
        if each.remedy:
            lines.append(("", "", "", Text(f"next: {each.remedy}")))
        where = each.where
    screen.print(rows(("where", "what", "", ""), lines))
    screen.print()
    failed = sum(each.is_fine is False for each in found)
    untried = sum(each.is_fine is None for each in found)
    said = f"{counted(len(found), 'probe')}: {len(found) - failed - untried} fine, {failed} failed"
    say(screen, "failed" if failed else "done", f"{said}, {untried} not tried.")
