"""``inchworm adopt``."""

from __future__ import annotations

from pathlib import Path

import click

from inchworm.cli.app import App
from inchworm.cli.screen import console, counted, say
from inchworm.core.environments import Environment
from inchworm.core.errors import UsageError, did_you_mean
from inchworm.core.sql.parse import SqlProblem
from inchworm.core.sql.render import with_real_names
from inchworm.core.structure.definitions import Definition, Thing, script_of
from inchworm.engine.places import open_database
from inchworm.targets.databases import Database

_BASELINE = '/*---\nabout = "What was in {where} when it was taken up"\nbaseline = true\n---*/\n'


@click.command("adopt")
@click.argument("environment", metavar="ENV")
@click.argument("schema")
@click.option(
    "--outside", is_flag=True, help="Only know it: managed outside, and never changed by us."
)
def command(environment: str, schema: str, outside: bool) -> None:
    """Take up a schema that ENV has into the source, as a new part of the project.

    Its structure becomes a baseline migration: where it is there already, a promotion proves it
    and assumes it; an empty database gets it run. The data stay where they are.
    """
    app = App.here()
    declared = app.project.environment(environment)
    name = schema.lower()
    folder = app.root / "schemas" / name
    if folder.exists():
        raise UsageError(
            f"The project has the schema {name} already.",
            where=f"schemas/{name}",
            next=f"inchworm drift {declared.name} shows what differs.",
        )
    with open_database(declared, app.root, app.values(declared), read_only=True) as database:
        real = name if outside else declared.database.real_schema(name)
        definitions = _of_schema(database, real)
        script = _script(app, database, definitions, real, name)
        where = f"{declared.name} ({declared.protection}), as {database.identity}"
    _write(folder, name, script, declared, outside=outside)
    tables = sum(d.thing is Thing.TABLE for d in definitions)
    said = (
        f"{name} of {where}: {counted(tables, 'table')}, {counted(len(definitions), 'statement')}"
    )
    say(console(), "done", f"{said}, in schemas/{name}. Look at it, and run inchworm check.")


def _of_schema(database: Database, real: str) -> list[Definition]:
    found = database.definitions([real])
    if not found:
        known = sorted({name.rpartition(".")[0] for name in database.structure()})
        near = did_you_mean(real, known, f"Schemas there: {', '.join(known) or 'none'}.")
        raise UsageError(f"{database.identity} has nothing in a schema {real}.", next=near)
    return found


def _script(
    app: App, database: Database, definitions: list[Definition], real: str, name: str
) -> str:
    dialect = app.project.settings.dialect
    script = script_of(definitions, database.dialect, dialect)
    if real == name:
        return script
    try:
        return "".join(
            with_real_names(each, lambda s: name if s == real else s, dialect, dialect) + ";\n\n"
            for each in script.split(";\n\n")
            if each.strip()
        )
    except SqlProblem as problem:
        raise UsageError(
            f"the schema's own name, {real}, cannot be taken out of its statements: "
            f"{problem.reason}.",
            next=f"Take it up from an environment where it is called {name}.",
        ) from problem


def _write(
    folder: Path, name: str, script: str, environment: Environment, *, outside: bool
) -> None:
    managed = "outside" if outside else "migrations"
    settings = f'about = "Taken up from {environment.name}"\nmanaged = "{managed}"\n'
    file = folder / ("tables.sql" if outside else "migrations/0001_baseline.sql")
    file.parent.mkdir(parents=True)
    (folder / "schema.toml").write_text(settings)
    head = "" if outside else _BASELINE.format(where=environment.name)
    file.write_text(head + script.rstrip() + "\n")
