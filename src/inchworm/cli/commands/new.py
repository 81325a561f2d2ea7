"""``inchworm new``."""

from __future__ import annotations

import re
import sys
from pathlib import Path

import click

from inchworm.core.errors import UsageError, did_you_mean
from inchworm.project.config import known_dialects
from inchworm.project.starter import write_starter


@click.command("new")
@click.argument("directory", metavar="DIR")
@click.option("--name", help="The project's name; by default that of the folder.")
@click.option("--dialect", help="The SQL dialect that models are written in; by default duckdb.")
def command(directory: str, name: str | None, dialect: str | None) -> None:
    """Start a project in DIR that passes check and can be promoted at once.

    Its first environment is a DuckDB file; in SQLite's dialect a file of SQLite, and in
    PostgreSQL's a database that has to be made first.
    """
    folder = Path(directory).resolve().name.lower()
    suggested = re.sub(r"[^a-z0-9_-]+", "_", folder).strip("_-0123456789")
    asks = sys.stdin.isatty()
    if name is None:
        name = click.prompt("Name", default=suggested or "project") if asks else suggested
    if dialect is None:
        dialect = click.prompt("SQL dialect", default="duckdb") if asks else "duckdb"
    if not re.fullmatch(r"[a-z][a-z0-9_-]*", name or ""):
        raise UsageError(
            f"{name!r} cannot be a project's name.",
            next="Use lower-case letters, digits, _ and -, a letter first: --name NAME.",
        )
    if dialect not in known_dialects():
        near = did_you_mean(dialect, known_dialects(), f"Known: {', '.join(known_dialects())}.")
        raise UsageError(f"There is no SQL dialect {dialect}.", next=near)
    files = write_starter(Path(directory), name or "", dialect)
    click.echo(f"{name} is in {directory}, {len(files)} files:")
    for file in files:
        click.echo(f"  {file}")
    click.echo()
    click.echo("Try it:")
    made = [f"createdb {name}_dev"] if dialect == "postgres" else []
    for line in (*made, f"cd {directory}", "inchworm check", "inchworm pack"):
        click.echo(f"  {line}")
    click.echo("  inchworm promote BUNDLE --to dev      (the name that pack prints)")
