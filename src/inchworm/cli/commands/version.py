"""``inchworm version``."""

from __future__ import annotations

import re

import click

from inchworm.cli.app import App
from inchworm.cli.commands.compare import TREE, version_of
from inchworm.cli.terminal import console, counted, say
from inchworm.core.compare import Weight, compare, next_version, weight_of
from inchworm.core.errors import UsageError
from inchworm.project.version import write_version


@click.command("version")
@click.argument("to", required=False, metavar="[major|minor|patch|X.Y.Z]")
@click.option("--suggest", is_flag=True, help="Derive the next version from what changed.")
def command(to: str | None, suggest: bool) -> None:
    """Show the project's version, suggest the next one, or write it.

    Writing changes inchworm.toml and the OpenAPI documents in apis/, and nothing else. --suggest
    compares the source tree with the latest release in the bundle store.
    """
    app = App.here()
    now = app.project.settings.version
    if suggest:
        _suggest(app, now)
    elif to is None:
        click.echo(now)
    else:
        if to in {Weight.MAJOR, Weight.MINOR, Weight.PATCH}:
            wanted = next_version(now, Weight(to))
        elif re.fullmatch(r"\d+\.\d+\.\d+", to):
            wanted = to
        else:
            raise UsageError(f"{to} is no version.", next="Write major, minor, patch or X.Y.Z.")
        files = write_version(app.root, wanted)
        say(console(), "done", f"{now} is {wanted} now, in {', '.join(files)}.")


def _suggest(app: App, now: str) -> None:
    release = _latest_release(app)
    if release is None:
        raise UsageError("There is no release to compare with.", next="Pack one: inchworm pack.")
    changes = compare(version_of(app, release), version_of(app, TREE))
    weight = weight_of(changes)
    screen = console()
    if weight is Weight.NONE:
        say(screen, "nothing to do", f"Nothing changed since {release}.")
        return
    wanted = next_version(release.rpartition("-")[2], weight)
    screen.print(f"{weight.value}: {counted(len(changes), 'change')} since {release}.")
    screen.print(f"next   inchworm version {wanted}" if wanted != now else f"{now} fits.")


def _latest_release(app: App) -> str | None:
    """The bundle of the highest version that is no snapshot."""
    pattern = re.compile(re.escape(app.project.settings.name) + r"-(\d+)\.(\d+)\.(\d+)")
    found = [(m, name) for name in app.bundles.names() if (m := pattern.fullmatch(name))]
    return max(found, key=lambda pair: tuple(map(int, pair[0].groups())))[1] if found else None
