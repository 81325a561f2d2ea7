"""``inchworm adopt``."""

from __future__ import annotations

from pathlib import Path

import click
from rich.text import Text

from inchworm.cli.app import App
from inchworm.cli.terminal import console, counted, say, word
from inchworm.core.environments import Environment
from inchworm.core.errors import UsageError, did_you_mean
from inchworm.core.parts import Kind, PartId
from inchworm.core.sql.parse import SqlProblem
from inchworm.core.sql.schema_names import with_physical_schemas
from inchworm.core.structure.definitions import Definition, Thing, script_of
from inchworm.engine.adoption import TakenUp, taken_up
from inchworm.engine.connections import OpenEnvironment, open_database, open_environment
from inchworm.engine.desired_schema import own_definitions
from inchworm.targets.databases import Database

_BASELINE = '/*---\nabout = "What was in {where} when it was taken up"\nbaseline = true\n---*/\n'


@click.command("adopt")
@click.argument("environment", metavar="ENV")
@click.argument("schema")
@click.option(
    "--outside",
    "managed",
    flag_value="outside",
    help="Only know it: managed outside, and never changed by us.",
)
@click.option(
    "--structure",
    "managed",
    flag_value="structure",
    help="Manage it by its wanted structure, rather than by migrations.",
)
def command(environment: str, schema: str, managed: str | None) -> None:
    """Take up a schema that ENV has, or what was changed in it by hand, into the source.

    A schema that the project does not have becomes a new part: its structure a baseline migration,
    which is proved and assumed where it is there already, and run in an empty database. Of a schema
    that the project has, what somebody changed in ENV by hand becomes a migration of the same kind,
    or is put into its tables.sql. The data stay where they are.
    """
    app = App.here()
    declared = app.project.environment(environment)
    name = schema.lower()
    if (app.root / "schemas" / name).exists():
        if managed is not None:
            raise UsageError(
                f"The project has the schema {name} already.",
                where=f"schemas/{name}/schema.toml",
                next=f"Without --{managed}, what was changed by hand in {declared.name} is taken "
                "up.",
            )
        _take_up_changes(app, declared, PartId(Kind.SCHEMA, name))
    else:
        _take_up_schema(app, declared, name, managed or "migrations")


def _take_up_schema(app: App, declared: Environment, name: str, managed: str) -> None:
    with open_database(declared, app.root, app.values(declared), read_only=True) as database:
        real = name if managed == "outside" else declared.database.real_schema(name)
        definitions = _of_schema(database, real)
        script = _script(app, database, definitions, real, name)
        where = f"{declared.name} ({declared.protection}), as {database.identity}"
    _write(app.root / "schemas" / name, script, declared, managed)
    tables = sum(d.thing is Thing.TABLE for d in definitions)
    said = (
        f"{name} of {where}: {counted(tables, 'table')}, {counted(len(definitions), 'statement')}"
    )
    say(console(), "done", f"{said}, in schemas/{name}. Look at it, and run inchworm check.")


def _take_up_changes(app: App, declared: Environment, schema: PartId) -> None:
    """What was changed by hand becomes a migration, or is put into ``tables.sql``."""
    reading, _ = app.read()
    app.remember(reading)
    managed = reading.render(schema, {}).document["managed"]
    folder = app.root / "schemas" / schema.name
    screen = console()
    with open_environment(
        declared, app.project.settings.name, app.root, app.values(declared), read_only=True
    ) as place:
        where = f"{declared.name} ({declared.protection}), as {place.identity}"
        if managed != "migrations":
            _rewrite(app, place, schema, folder)
            file = folder / "tables.sql"
            said = f"{schema.name} of {where}"
        else:
            found = taken_up(place, schema, app.project.settings.dialect)
            if found is None:
                said = f"nothing in {schema.name} was changed by hand in {where}."
                say(screen, "nothing to do", said)
                return
            file = _write_migration(folder, found, declared)
            said = f"{counted(len(found.takes_up), 'change')} by hand in {where}"
            for name in found.loses:
                screen.print(Text.assemble(word("loses data"), f"  {name}, where it runs"))
    inside = file.relative_to(app.root)
    say(screen, "done", f"{said}, in {inside}. Look at it, and run inchworm check.")


def _rewrite(app: App, place: OpenEnvironment, schema: PartId, folder: Path) -> None:
    """The structure that is there, without what models and notebooks have there."""
    parts = {part.part: part for part in place.bookkeeping.parts_of_ours()}
    is_outside = not (known := parts.get(str(schema))) or not known.managed
    real = schema.name if is_outside else place.environment.database.real_schema(schema.name)
    others = place.of_others(place.bookkeeping.parts())
    definitions = own_definitions(place.database, real, others)
    script = _script(app, place.database, definitions, real, schema.name)
    (folder / "tables.sql").write_text(script.rstrip() + "\n")


def _write_migration(folder: Path, found: TakenUp, environment: Environment) -> Path:
    import tomlkit

    numbers = [int(f.name[:4]) for f in folder.glob("migrations/*.sql") if f.name[:4].isdigit()]
    file = folder / f"migrations/{max(numbers, default=0) + 1:04}_by_hand_in_{environment.name}.sql"
    settings = tomlkit.document()
    settings["about"] = f"What was changed by hand in {environment.name}"
    settings["takes_up"] = dict(found.takes_up)
    statements = [sql for change in found.changes for sql in change.statements]
    script = ";\n\n".join(statements)
    file.parent.mkdir(exist_ok=True)
    file.write_text(f"/*---\n{tomlkit.dumps(settings).strip()}\n---*/\n{script};\n")
    return file


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
            with_physical_schemas(each, lambda s: name if s == real else s, dialect, dialect)
            + ";\n\n"
            for each in script.split(";\n\n")
            if each.strip()
        )
    except SqlProblem as problem:
        raise UsageError(
            f"the schema's own name, {real}, cannot be taken out of its statements: "
            f"{problem.reason}.",
            next=f"Take it up from an environment where it is called {name}.",
        ) from problem


def _write(folder: Path, script: str, environment: Environment, managed: str) -> None:
    settings = f'about = "Taken up from {environment.name}"\nmanaged = "{managed}"\n'
    is_baseline = managed == "migrations"
    file = folder / ("migrations/0001_baseline.sql" if is_baseline else "tables.sql")
    file.parent.mkdir(parents=True)
    (folder / "schema.toml").write_text(settings)
    head = _BASELINE.format(where=environment.name) if is_baseline else ""
    file.write_text(head + script.rstrip() + "\n")
