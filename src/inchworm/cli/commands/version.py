"""``inchworm version``."""

from __future__ import annotations

import click

from inchworm.application.comparing import SuggestedVersion, set_version, suggest_version
from inchworm.cli.process import workplace
from inchworm.cli.terminal import console, say
from inchworm.core.bundle.compare import Weight
from inchworm.core.counting import counted


@click.command("version")
@click.argument("to", required=False, metavar="[major|minor|patch|X.Y.Z]")
@click.option("--suggest", is_flag=True, help="Derive the next version from what changed.")
def command(to: str | None, suggest: bool) -> None:
    """Show the project's version, suggest the next one, or write it.

    Writing changes inchworm.toml and the OpenAPI documents in apis/, and nothing else. --suggest
    compares the source tree with the latest release in the bundle store.
    """
    place = workplace()
    version = place.project.settings.version
    if suggest:
        _show_suggestion(suggest_version(place), version)
    elif to is None:
        click.echo(version)
    else:
        written, files = set_version(place, to)
        say(console(), "done", f"{version} is {written} now, in {', '.join(files)}.")


def _show_suggestion(suggested: SuggestedVersion, version: str) -> None:
    screen = console()
    if suggested.weight is Weight.NONE:
        say(screen, "nothing to do", f"Nothing changed since {suggested.release}.")
        return
    changes = counted(suggested.changes, "change")
    screen.print(f"{suggested.weight.value}: {changes} since {suggested.release}.")
    fits = suggested.version == version
    screen.print(f"{version} fits." if fits else f"next   inchworm version {suggested.version}")
