"""Adopting a schema that an environment has, or what was changed in one by hand."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from pathlib import Path

from msgspec import Struct

from inchworm.application.workplace import Workplace
from inchworm.core.environments.environment import Environment
from inchworm.core.errors import UsageError, did_you_mean
from inchworm.core.identifiers import Kind, PartId, RelationName
from inchworm.core.rendered import Managed, RenderedSchema
from inchworm.core.sql.problems import SqlProblem
from inchworm.core.sql.schema_names import with_physical_schemas
from inchworm.core.structure.definitions import Definition, Thing, script_of
from inchworm.core.structure.left_out import LeftOut
from inchworm.engine.adoption import TakenUp, taken_up
from inchworm.engine.desired_schema import own_definitions
from inchworm.engine.open_environment import OpenEnvironment
from inchworm.kinds.registry import UNFIT
from inchworm.safe_files import write_below
from inchworm.targets.databases import Database

_BASELINE = '/*---\nabout = "What was in {where} when it was taken up"\nbaseline = true\n---*/\n'


class AdoptedSchema(Struct, frozen=True, kw_only=True):
    """A schema that is a new part of the source now.

    Attributes:
        where: the environment, and who we were there.
    """

    schema: str
    where: str
    tables: int
    statements: int
    left_out: tuple[LeftOut, ...] = ()
    """What was there and is not taken up."""


class AdoptedChanges(Struct, frozen=True, kw_only=True):
    """What was changed by hand in a schema, taken into the source.

    Attributes:
        where: the environment, and who we were there.
        file: what was written, relative to the project; None when nothing was changed.
        changes: what was changed, where it became a migration.
    """

    schema: str
    where: str
    file: str | None = None
    changes: TakenUp | None = None


def adopt(
    workplace: Workplace,
    environment: str,
    schema: str,
    managed: Managed | None,
    without: Collection[str] = (),
) -> AdoptedSchema | AdoptedChanges:
    """Take up a schema that an environment has, or what was changed in it by hand.

    Args:
        workplace: the project.
        environment: where it is.
        schema: its logical name.
        managed: who changes a new schema from now on; of one that the project has, None.
        without: words for what may be left out although the structure is another one without it.

    Raises:
        UsageError: when there is no such environment or schema, or it cannot be managed so.
        ProjectError: when there is a difference for which no change can be worked out.
        TargetError: when the environment cannot be read.
    """
    declared = workplace.project.environment(environment)
    name = schema.lower()
    if name in ("", ".", "..") or UNFIT.search(name):
        raise UsageError(
            f"{schema!r} cannot be the name of a schema in a project.",
            next="Name one that the environment has: letters, digits and _, most often.",
        )
    if not (workplace.root / "schemas" / name).exists():
        return _adopt_schema(workplace, declared, name, managed or Managed.MIGRATIONS, without)
    if managed is not None:
        raise UsageError(
            f"The project has the schema {name} already.",
            where=f"schemas/{name}/schema.toml",
            next=f"Without --{managed.value}, what was changed by hand in {declared.name} is "
            "taken up.",
        )
    return _adopt_changes(workplace, declared, PartId(Kind.SCHEMA, name))


def _adopt_schema(
    workplace: Workplace,
    declared: Environment,
    name: str,
    managed: Managed,
    without: Collection[str],
) -> AdoptedSchema:
    with workplace.opened(declared) as place:
        database = place.database
        is_outside = managed is Managed.OUTSIDE
        physical = name if is_outside else declared.database.physical_schema(name)
        others = frozenset() if is_outside else place.of_others(place.bookkeeping.parts())
        definitions = _definitions_of(database, physical, others)
        left_out = tuple(database.left_out(physical))
        if not is_outside:
            _refuse_losses(left_out, without, f"{name} of {declared.name}")
        script = _script(workplace, database, definitions, physical, name)
        where = f"{declared.name} ({declared.protection}), as {database.identity}"
    _write_schema(workplace.root, f"schemas/{name}", script, declared, managed)
    return AdoptedSchema(
        schema=name,
        where=where,
        tables=sum(d.thing is Thing.TABLE for d in definitions),
        statements=len(definitions),
        left_out=left_out,
    )


def _refuse_losses(left_out: Sequence[LeftOut], without: Collection[str], what: str) -> None:
    """Refuse to write another structure than there is, unless that was accepted."""
    losing = [each for each in left_out if each.accepted_as and each.accepted_as not in without]
    if losing:
        listed = "; ".join(f"{e.kind} {e.name} (left would be {e.loss})" for e in losing[:_NAMED])
        more = f"; and {len(losing) - _NAMED} more" if len(losing) > _NAMED else ""
        options = " ".join(f"--without={word}" for word in sorted({e.accepted_as for e in losing}))
        raise UsageError(
            f"{what} cannot be taken up as it is: {listed}{more}.",
            next=f"If that is right: {options} . Or only know it: --outside.",
        )


_NAMED = 5
"""Objects that a refusal names."""


def _adopt_changes(workplace: Workplace, declared: Environment, schema: PartId) -> AdoptedChanges:
    """Changes made by hand become a migration, or are put into ``tables.sql``."""
    rendered = workplace.read_remembered().render(schema, {})
    assert isinstance(rendered, RenderedSchema)
    folder = workplace.root / "schemas" / schema.name
    with workplace.opened(declared) as place:
        where = f"{declared.name} ({declared.protection}), as {place.identity}"
        changes = None
        if rendered.managed is Managed.MIGRATIONS:
            ran = {m.name for m in place.bookkeeping.migrations() if m.schema == schema.name}
            waiting = [s for s in rendered.migrations if s.takes_up and s.name not in ran]
            changes = taken_up(place, schema, workplace.project.settings.dialect, waiting)
            if changes is None:
                return AdoptedChanges(schema=schema.name, where=where)
            file = _write_migration(workplace.root, folder, changes, declared)
        else:
            file = _rewrite(workplace, place, schema, folder)
    inside = str(file.relative_to(workplace.root))
    return AdoptedChanges(schema=schema.name, where=where, file=inside, changes=changes)


def _rewrite(workplace: Workplace, place: OpenEnvironment, schema: PartId, folder: Path) -> Path:
    """The structure of the schema, without what models and notebooks have in it."""
    parts = {part.part: part for part in place.bookkeeping.parts_of_ours()}
    known = parts.get(schema)
    is_outside = known is None or not known.managed
    address = place.environment.database
    physical = schema.name if is_outside else address.physical_schema(schema.name)
    others = place.of_others(place.bookkeeping.parts())
    definitions = own_definitions(place.database, physical, others)
    script = _script(workplace, place.database, definitions, physical, schema.name)
    file = folder / "tables.sql"
    _write(workplace.root, file, script.rstrip() + "\n")
    return file


def _write_migration(root: Path, folder: Path, changes: TakenUp, environment: Environment) -> Path:
    import tomlkit

    numbers = [int(f.name[:4]) for f in folder.glob("migrations/*.sql") if f.name[:4].isdigit()]
    file = folder / f"migrations/{max(numbers, default=0) + 1:04}_by_hand_in_{environment.name}.sql"
    settings = tomlkit.document()
    settings["about"] = f"What was changed by hand in {environment.name}"
    settings["takes_up"] = dict(changes.takes_up)
    statements = [sql for change in changes.changes for sql in change.statements]
    script = "".join(f"{statement};\n\n" for statement in statements).rstrip()
    noted = "".join(f"-- {key}: as it is in {environment.name}\n" for key in changes.of_roles)
    noted += "".join(
        f"-- {old} is called {new} now: told by its type and place; correct this if it is not so\n"
        for old, new in changes.renames.items()
    )
    _write(root, file, f"/*---\n{tomlkit.dumps(settings).strip()}\n---*/\n{noted}{script}\n")
    return file


def _definitions_of(
    database: Database, physical: str, others: frozenset[RelationName]
) -> list[Definition]:
    """What a schema has, without what models and notebooks have in it."""
    definitions = own_definitions(database, physical, others)
    if not definitions:
        known = sorted({RelationName(name).schema for name in database.structure()})
        near = did_you_mean(physical, known, f"Schemas there: {', '.join(known) or 'none'}.")
        raise UsageError(f"{database.identity} has nothing in a schema {physical}.", next=near)
    return definitions


def _script(
    workplace: Workplace,
    database: Database,
    definitions: list[Definition],
    physical: str,
    name: str,
) -> str:
    dialect = workplace.project.settings.dialect
    script = script_of(definitions, database.dialect, dialect)
    if physical == name:
        return script
    try:
        return "".join(
            with_physical_schemas(each, lambda s: name if s == physical else s, dialect, dialect)
            + ";\n\n"
            for each in script.split(";\n\n")
            if each.strip()
        )
    except SqlProblem as problem:
        raise UsageError(
            f"the schema's own name, {physical}, cannot be taken out of its statements: "
            f"{problem.reason}.",
            next=f"Take it up from an environment where it is called {name}.",
        ) from problem


def _write_schema(
    root: Path, folder: str, script: str, environment: Environment, managed: Managed
) -> None:
    settings = f'about = "Taken up from {environment.name}"\nmanaged = "{managed.value}"\n'
    is_baseline = managed is Managed.MIGRATIONS
    file = root / folder / ("migrations/0001_baseline.sql" if is_baseline else "tables.sql")
    _write(root, root / folder / "schema.toml", settings)
    head = _BASELINE.format(where=environment.name) if is_baseline else ""
    _write(root, file, head + script.rstrip() + "\n")


def _write(root: Path, file: Path, text: str) -> None:
    write_below(root, str(file.relative_to(root)), text.encode())
