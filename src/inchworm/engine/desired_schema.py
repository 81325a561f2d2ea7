"""What a schema that is managed by its wanted structure needs, asked of the real database.

The database itself tells both sides: what is there, and, in a scratch place, what the script of the
wanted structure makes. So both are in the same words.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator, Mapping

from msgspec import Struct
from msgspec.structs import replace

from inchworm.core.checks import rules
from inchworm.core.counting import counted
from inchworm.core.environments.physical_names import PhysicalNames
from inchworm.core.errors import InchwormError, ProjectError, TargetError
from inchworm.core.identifiers import Kind, PartId, RelationName, relation
from inchworm.core.lineage.facts import Assembly
from inchworm.core.promotion.drafting.request import PlannedChanges
from inchworm.core.rendered import RenderedParts, RenderedSchema
from inchworm.core.sql.parse import split_script
from inchworm.core.sql.problems import SqlProblem
from inchworm.core.sql.schema_names import with_physical_schemas
from inchworm.core.structure.change import under_schema
from inchworm.core.structure.changes import Change, Demand, Effect
from inchworm.core.structure.definitions import Definition, Thing
from inchworm.engine.error_location import line_of_named
from inchworm.engine.losses import count_rows
from inchworm.targets.databases import Database


class DesiredStructure(Struct, frozen=True, kw_only=True):
    """The structure that one schema should have, in its database's words.

    Attributes:
        schema: its real name.
        others: tables there that models and notebooks provide, which are none of its business.
    """

    schema: str
    definitions: tuple[Definition, ...]
    renames: Mapping[str, str]
    others: frozenset[str]

    def changes(self, database: Database) -> list[Change]:
        """What there is to be done now.

        Raises:
            ProjectError: when there is a difference for which no change can be worked out.
        """
        live = own_definitions(database, self.schema, self.others)
        return database.changes(self.schema, live, self.definitions, self.renames)


def desired_structure(
    database: Database, assembly: Assembly, names: PhysicalNames, schema: RenderedSchema
) -> DesiredStructure:
    """Have the database say what the script of a wanted structure makes.

    Raises:
        TargetError: when it refuses the script.
    """
    physical = names.schema(schema.part.name)
    made = made_by(database, assembly.dialect, names, schema.part, schema.desired)
    provided = {
        names.table(table.name)
        for other, facts in assembly.facts.items()
        if other.kind is not Kind.SCHEMA
        for table in facts.provides
    }
    return DesiredStructure(
        schema=physical,
        definitions=made,
        renames=schema.renames,
        others=frozenset(name for name in provided if name.schema == physical),
    )


def made_by(
    database: Database, dialect: str, names: PhysicalNames, part: PartId, script: str
) -> tuple[Definition, ...]:
    """What a script makes in an empty schema, in the database's words; nothing stays of it.

    Args:
        database: where it would be made.
        dialect: of the script.
        names: the physical names there.
        part: the schema.
        script: its statements.

    Raises:
        TargetError: when the database refuses the script.
        ProjectError: when a statement cannot get the names that schemas have there.
    """
    physical = names.schema(part.name)

    def here(sql: str, name: str) -> str:
        try:
            return with_physical_schemas(
                sql, lambda s: name if s == physical else s, database.dialect, database.dialect
            )
        except SqlProblem as problem:
            raise ProjectError(f"a statement {problem.reason}.") from problem

    with database.scratch_database(physical) as (scratch, name):
        for statement in split_script(script, dialect):
            text = names.statement(statement)
            scratch.execute(text if name == physical else here(text, name))
        return tuple(under_schema(d, name, physical) for d in scratch.definitions([name]))


def own_definitions(database: Database, schema: str, others: frozenset[str]) -> list[Definition]:
    """The definitions of a schema, without those of models and notebooks there."""
    return [
        d
        for d in database.definitions([schema])
        if d.name not in others
        and others.isdisjoint(d.needs if d.thing is not Thing.VIEW and d.needs else ())
    ]


def plan_structures(
    database: Database,
    assembly: Assembly,
    names: PhysicalNames,
    rendered: RenderedParts,
    others_live: Collection[str],
    schemas: Iterable[PartId],
) -> dict[PartId, PlannedChanges]:
    """The changes that every schema with a wanted structure needs, each with the rows at stake.

    Args:
        rendered: the parts as they are rendered for the environment.
        others_live: real names of what is live there and not of our schemas.
        schemas: those that are looked at.
    """
    planned: dict[PartId, PlannedChanges] = {}
    for part in schemas:
        schema = rendered.schema(part)
        if not schema.has_desired_structure:
            continue
        file = f"schemas/{part.name}/tables.sql"
        try:
            desired = desired_structure(database, assembly, names, schema)
            desired = replace(desired, others=desired.others | frozenset(others_live))
            changes = tuple(_counted(database, change) for change in desired.changes(database))
        except InchwormError as error:
            refusal = error.what.partition(" says: ")[2] if isinstance(error, TargetError) else ""
            remedy = error.next if not refusal else None
            finding = rules.DOES_NOT_BIND.finding(
                refusal or error.what,
                part=part,
                file=file,
                line=line_of_named(refusal, schema.desired),
                remedy=remedy,
            )
            planned[part] = PlannedChanges(changes=(), findings=(finding,))
            continue
        stuck = [
            rules.ROWS_IN_THE_WAY.finding(
                f"{demand.message}, with {counted(rows, 'row')} there",
                part=part,
                file=file,
                remedy=demand.remedy or None,
            )
            for change in changes
            for demand, rows in _in_the_way(database, change)
        ]
        planned[part] = PlannedChanges(changes=changes, findings=tuple(stuck))
    return planned


def _counted(database: Database, change: Change) -> Change:
    """The change, with how many rows have something to lose; none where all values fit."""
    if not change.lost:
        return change
    fitting = {name for name, query in change.misfits if not database.rows(query)[0][0]}
    lost = tuple(name for name in change.lost if name not in fitting)
    if not lost:
        statements = change.if_fitting or change.statements
        return replace(change, effect=Effect.SLOW, lost=(), statements=statements)
    change = replace(change, lost=lost)
    return replace(change, rows=tuple(_rows(database, name) for name in change.lost))


def _rows(database: Database, name: str) -> str:
    """How many rows of a table there are, or have a value in a column; as text."""
    schema, table, *column = name.split(".", 2)
    return count_rows(database, relation(schema, table), column[0] if column else "")


def filled_since(database: Database, changes: Iterable[Change]) -> Iterator[tuple[str, str]]:
    """What had nothing to lose when changes were planned, and the number of rows that do now."""
    for change in changes:
        for name in change.empty:
            rows = _rows(database, name) if database.tables([_table_of(name)]) else "0"
            if rows != "0":
                yield name, rows
        for name, query in change.misfits:
            fitted = name not in change.lost and database.tables([_table_of(name)])
            ((count,),) = database.rows(query) if fitted else ((0,),)
            if count:
                yield name, f"{count:,}"


def keep_empty(database: Database, changes: Iterable[Change]) -> None:
    """Keep what goes, and had nothing in it, as it is until the transaction ends."""
    names = {n for each in changes for n in (*each.empty, *(name for name, _ in each.misfits))}
    for name in sorted(database.tables(set(map(_table_of, names)))):
        database.keep_writers_out(name)


def _table_of(name: str) -> RelationName:
    schema, table, *_ = name.split(".", 2)
    return relation(schema, table)


def _in_the_way(database: Database, change: Change) -> Iterator[tuple[Demand, int]]:
    for demand in change.demands:
        try:
            ((count,),) = database.rows(demand.query)
        except TargetError:
            continue  # it names what another change makes first: the database tells then
        if count:
            yield demand, int(count)
