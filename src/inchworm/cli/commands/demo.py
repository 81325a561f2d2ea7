"""``inchworm demo``."""

from __future__ import annotations

import sys
import time
from pathlib import Path

import click

from inchworm.cli.process import trust_made
from inchworm.cli.terminal import spell_seconds


@click.command("demo")
@click.option("--into", default="riverwatch", show_default=True, metavar="DIR", help="Where to.")
@click.option("--files-only", is_flag=True, help="Stop after writing the project and its data.")
def command(into: str, files_only: bool) -> None:
    """Write the Riverwatch example and work through a day with it.

    The folder is yours afterwards: go on in it by hand with every command. A folder that is there
    already is never touched.
    """
    from inchworm.demo.day import work_through, write_scenario

    started = time.monotonic()

    def say(line: str) -> None:
        click.echo(line)
        sys.stdout.flush()

    folder = Path(into)
    write_scenario(folder, say)
    trust_made(folder)
    if not files_only:
        work_through(folder, say)
        say("")
        say(f"# That took {spell_seconds(time.monotonic() - started)}. Go on by hand: cd {into}")
