"""``inchworm new``."""

from __future__ import annotations

import sys
from pathlib import Path

import click

from inchworm.application.starting import start_project, suggested_name
from inchworm.cli.process import trust_made


@click.command("new")
@click.argument("directory", metavar="DIR")
@click.option("--name", help="The project's name; by default that of the folder.")
@click.option("--dialect", help="The SQL dialect that models are written in; by default duckdb.")
def command(directory: str, name: str | None, dialect: str | None) -> None:
    """Start a project in DIR that passes check and can be promoted at once.

    Its first environment is a DuckDB file; in SQLite's dialect a file of SQLite, and in
    PostgreSQL's a database that has to be made first.
    """
    suggested = suggested_name(Path(directory).resolve())
    asks = sys.stdin.isatty()
    if name is None:
        name = click.prompt("Name", default=suggested or "project") if asks else suggested
    if dialect is None:
        dialect = click.prompt("SQL dialect", default="duckdb") if asks else "duckdb"
    started = start_project(Path(directory), name or "", dialect or "")
    trust_made(Path(directory))
    click.echo(f"{name} is in {directory}, {len(started.files)} files:")
    for file in started.files:
        click.echo(f"  {file}")
    click.echo()
    click.echo("Try it:")
    for line in (*started.preparation, f"cd {directory}", "inchworm check", "inchworm pack"):
        click.echo(f"  {line}")
    click.echo("  inchworm promote BUNDLE --to dev      (the name that pack prints)")
