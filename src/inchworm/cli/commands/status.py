"""``inchworm status``."""

from __future__ import annotations

import sys

import click
from rich.text import Text

from inchworm.cli.app import App, now, shown_time
from inchworm.cli.terminal import console, print_json, rows, word
from inchworm.core.promotion import State
from inchworm.engine.status import EnvironmentStatus, read_status
from inchworm.report.documents import status_document


@click.command("status")
@click.argument("environment", required=False, metavar="[ENV]")
@click.option("--json", "as_json", is_flag=True, help="Machine-readable: inchworm/status/1.")
def command(environment: str | None, as_json: bool) -> None:
    """Show what is where, since when, by whom and from which commit.

    Read fresh from each environment's database and services. With ENV: also its schedules, flows
    and what has drifted.
    """
    app = App.here()
    read_at = now()
    chosen = [app.project.environment(environment)] if environment else app.project.environments
    found = [
        read_status(e, app.project.settings.name, app.root, app.values(e), read_at) for e in chosen
    ]
    if as_json:
        print_json(status_document(read_at, found))
    else:
        _show(app, found, read_at)
        if environment:
            _show_detail(found[0])
    sys.exit(1 if any(status.problem for status in found) else 0)


def _show(app: App, found: list[EnvironmentStatus], read_at: str) -> None:
    screen = console()
    settings = app.project.settings
    screen.print(
        Text.assemble(
            (settings.name, "bold"), (f"  read {shown_time(read_at)} UTC as {app.user}", "dim")
        )
    )
    screen.print()
    lines: list[tuple[str | Text, ...]] = []
    for status in found:
        environment = status.environment
        protection = word(environment.protection)
        last = status.live.last if status.live else None
        if status.live is None:
            lines.append((environment.name, protection, "cannot be read", "", "", "", "", ""))
        elif last is None:
            parts = str(len(status.live.parts))
            lines.append((environment.name, protection, "nothing yet", "", "", "", parts, ""))
        else:
            drifted = Text(str(len(status.drifted)), style="bold yellow" if status.drifted else "")
            lines.append(
                (
                    environment.name,
                    protection,
                    last.bundle,
                    (last.commit or "-")[:7],
                    shown_time(last.at),
                    last.by,
                    str(len(status.live.parts)),
                    drifted,
                )
            )
    headings = ("environment", "", "runs here", "commit", "since", "by", "parts", "drifted")
    screen.print(rows(headings, lines, right=(6, 7)))
    screen.print()
    for status in found:
        if status.problem:
            screen.print(
                Text.assemble(word("failed"), f"  {status.environment.name}: {status.problem}")
            )
        elif status.live is not None:
            said = f"{status.environment.name}: as {status.live.identity}"
            screen.print(said, style="dim")
    _show_overrides(app, found)
    _show_unfinished(app, found)


def _show_overrides(app: App, found: list[EnvironmentStatus]) -> None:
    """Values that were given for once at the promotion that is live."""
    screen = console()
    known = {promotion.id: promotion for promotion in app.ledger.promotions()}
    for status in found:
        last = status.live.last if status.live else None
        promotion = known.get(last.promotion) if last else None
        for name, value in (promotion.draft.overrides if promotion else {}).items():
            said = f"  {status.environment.name}: {name} = {value}, until the next promotion"
            screen.print(Text.assemble(word("given for once"), said))


def _show_unfinished(app: App, found: list[EnvironmentStatus]) -> None:
    """Promotions that stopped on their way, unless a later one went there."""
    screen = console()
    names = {status.environment.name for status in found}
    latest = {
        promotion.draft.environment: promotion
        for promotion in app.ledger.promotions()
        if promotion.state not in {State.DRAFTED, State.DROPPED}
    }
    for name, promotion in latest.items():
        if name in names and promotion.state is not State.DONE:
            screen.print(
                Text.assemble(
                    word(promotion.state.value),
                    f"  {promotion.id} with {promotion.draft.bundle} in {name}. "
                    f"Go on: inchworm promote {promotion.id}",
                )
            )


def _show_detail(status: EnvironmentStatus) -> None:
    if status.live is None:
        return
    screen = console()
    lines = [("schedule", name, state) for name, state in status.live.schedules.items()]
    lines += [
        ("flow", part, f"{item.state} {item.reason}".strip())
        for part, item in status.live.items.items()
        if part.startswith("flow:")
    ]
    lines += [("drifted", part, "is not as it was put") for part in status.drifted]
    if lines:
        screen.print()
        screen.print(rows(("", "", ""), lines))
