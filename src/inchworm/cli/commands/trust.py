"""``inchworm trust``."""

from __future__ import annotations

import sys
from pathlib import Path

import click
from rich.console import Console
from rich.text import Text

from inchworm.application.trusting import Named, named_by, trust_project
from inchworm.cli.process import source_tree, user_folder, workplace
from inchworm.cli.terminal import console, print_json, say
from inchworm.core.counting import counted
from inchworm.core.trust import Trust, destination_of


@click.command("trust")
@click.option("--show", is_flag=True, help="Show what the project executes and reaches.")
@click.option("--remove", is_flag=True, help="Trust the project no longer.")
@click.option(
    "--unencrypted",
    multiple=True,
    metavar="ADDRESS",
    help="Allow secrets to go to this address without encryption; can be repeated.",
)
@click.option(
    "--folder",
    "folders",
    multiple=True,
    type=click.Path(exists=True, file_okay=False, path_type=Path),
    help="Allow file: references into this folder outside of the project; can be repeated.",
)
@click.option("--yes", is_flag=True, envvar="INCHWORM_YES", help="Do not ask.")
@click.option("--json", "as_json", is_flag=True, help="Machine-readable: inchworm/trust/1.")
def command(
    show: bool,
    remove: bool,
    unencrypted: tuple[str, ...],
    folders: tuple[Path, ...],
    yes: bool,
    as_json: bool,
) -> None:
    """Allow this project to start programs and to reach the places that it names.

    The decision is kept in your own configuration folder, never in the project. It covers the
    addresses to which each secret goes now: after a change of address, trust the project again. In
    a project that is not trusted, check, trace, params, version, compare of commits and rows --sql
    work; they execute nothing and reach nothing.
    """
    if remove and (show or unencrypted or folders):
        raise click.UsageError("--remove goes with no other option.")
    folder = user_folder()
    if remove:
        root = source_tree().root
        folder.keep(Trust(folder=str(root.resolve())))
        click.echo(f"{root} is not trusted any more.")
        return
    place = workplace()
    named = named_by(place)
    known = folder.trust_in(place.root)
    if as_json:
        print_json(_document(place.root, known, named))
    else:
        _show(console(), place.root, known, named)
    if show:
        return
    if not yes:
        if not sys.stdin.isatty():
            raise click.UsageError("Nobody can be asked here: add --yes.")
        if not click.confirm("Allow it?"):
            click.echo("Nothing was changed.")
            sys.exit(1)
    trust_project(place, folder, named, unencrypted, folders)
    if not as_json:
        say(console(), "done", f"{place.root} is trusted.")


def _show(screen: Console, root: Path, known: Trust, named: Named) -> None:
    word = "is trusted" if known.is_given else "is not trusted"
    screen.print(f"{root} {word}.", soft_wrap=True)
    screen.print()
    screen.print(f"It starts {counted(len(named.starts), 'program')}:")
    for each in named.starts:
        screen.print(f"  {each}")
    screen.print(f"It reaches {counted(len(named.reaches), 'place')}:")
    new = set(named.new_to(known))
    width = max((len(reach.what) for reach in named.reaches), default=0)
    for reach in named.reaches:
        line = Text(f"  {reach.what:{width}}  {reach.address}")
        line.append(f", gets the secret {reach.secret}" if reach.secret else "")
        if reach in new and known.is_given:
            line.append("  (new)", style="bold")
        screen.print(line, soft_wrap=True)


def _document(root: Path, known: Trust, named: Named) -> dict[str, object]:
    return {
        "format": "inchworm/trust/1",
        "folder": str(root),
        "trusted": known.is_given,
        "starts": list(named.starts),
        "reaches": [
            {
                "what": reach.what,
                "address": reach.address,
                "destination": destination_of(reach.address),
                "secret": reach.secret,
            }
            for reach in named.reaches
        ],
    }
