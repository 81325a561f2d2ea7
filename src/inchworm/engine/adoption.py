"""Changes made to a schema by hand, as changes that can be made anywhere."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence

from msgspec import Struct, field
from msgspec.structs import replace

from inchworm.core.errors import TargetError, UsageError
from inchworm.core.identifiers import PartId, RelationName
from inchworm.core.promotion.migrations import change_by_hand
from inchworm.core.rendered import Script
from inchworm.core.sql.schema_names import with_physical_schemas
from inchworm.core.structure.change import renames_that_apply, renaming, under_schema
from inchworm.core.structure.changes import Change, Effect
from inchworm.core.structure.definitions import (
    Definition,
    Difference,
    differences,
    in_working_order,
)
from inchworm.core.structure.probable_renames import HasValues, probable_renames
from inchworm.core.structure.surroundings import changes_of, is_of_roles
from inchworm.engine.open_environment import OpenEnvironment
from inchworm.targets.databases import Database
from inchworm.targets.databases.quoting import quoted, quoted_one


class TakenUp(Struct, frozen=True, kw_only=True):
    """What was changed by hand since the latest promotion recorded a schema.

    Attributes:
        changes: how to make the same change elsewhere, in the project's names.
        takes_up: what was changed, with a digest of what it was changed to.
        of_roles: rights and owners among it, which are taken as they are in this environment alone.
        renames: what was probably renamed, by its old name (``gauge``, ``gauge.stream``).
    """

    changes: tuple[Change, ...]
    takes_up: Mapping[str, str]
    of_roles: tuple[str, ...] = ()
    renames: Mapping[str, str] = field(default_factory=dict)

    @property
    def loses(self) -> tuple[str, ...]:
        """Whose values go where the change is made."""
        return tuple(name for c in self.changes if c.effect is Effect.LOSES for name in c.lost)


def taken_up(
    place: OpenEnvironment, schema: PartId, dialect: str, waiting: Sequence[Script] = ()
) -> TakenUp | None:
    """The change that was made by hand in a schema; None if there was none that is not taken up.

    Args:
        place: where it was made.
        schema: a schema part that is live there.
        dialect: the project's, in which the statements are told.
        waiting: migrations that have taken up changes made there, and have not been promoted there.

    Raises:
        UsageError: when something was changed again that one of those migrations has taken up.
        ProjectError: when there is a difference for which no change can be worked out.
        TargetError: when the schema cannot be made anew as it was recorded.
    """
    physical = place.environment.database.physical_schema(schema.name)
    database = place.database
    recorded = [
        replace(d, needs=None)  # what it needs was not recorded
        for d in place.bookkeeping.structures()
        if d.is_of_schema and d.name.startswith(f"{physical}.")
    ]
    ours = {part.part: part for part in place.bookkeeping.parts_of_ours()}
    live = [
        d for d in place.definitions(ours) if d.is_of_schema and d.name.startswith(f"{physical}.")
    ]
    changed = differences(recorded, live)
    known = dict(_taken_before(changed, waiting, physical, schema.name))
    changed = [difference for difference in changed if difference.key not in known]
    if not changed:
        return None
    stays = {d.key: d for d in live if d.key in known}
    recorded = [d for d in recorded if d.key not in known]
    recorded += [replace(d, needs=None) for d in stays.values()]
    recorded, live = (
        [d for d in those if not d.thing.is_surrounding] for those in (recorded, live)
    )
    changes, renames = _worked_out(database, physical, recorded, live)
    changes += changes_of(changed, database.dialect)

    def logical(sql: str) -> str:
        return with_physical_schemas(
            sql, lambda s: schema.name if s == physical else s, database.dialect, dialect
        )

    return TakenUp(
        changes=tuple(replace(c, statements=tuple(map(logical, c.statements))) for c in changes),
        takes_up=dict(change_by_hand(difference, physical, schema.name) for difference in changed),
        renames=renames,
        of_roles=tuple(difference.key for difference in changed if is_of_roles(difference)),
    )


def _worked_out(
    database: Database,
    physical: str,
    recorded: Sequence[Definition],
    live: Sequence[Definition],
) -> tuple[list[Change], dict[str, str]]:
    """The changes from what was recorded to what is live, and the renames that they begin with.

    Raises:
        ProjectError: when there is a difference for which no change can be worked out.
        TargetError: when the schema cannot be made anew as it was recorded.
    """
    with database.scratch_database(physical) as (board, name):

        def run(statement: str) -> None:
            there = with_physical_schemas(
                statement,
                lambda s: name if s == physical else s,
                database.dialect,
                database.dialect,
            )
            board.execute(there)

        def has() -> list[Definition]:
            return [under_schema(d, name, physical) for d in board.definitions([name])]

        for definition in in_working_order(recorded, database.dialect):
            run(definition.sql)
        before = has()
        renames = probable_renames(before, live, database.dialect, _has_values(database))
        first = renaming(renames_that_apply(renames, before, live, database.dialect))
        try:
            for change in first:
                for statement in change.statements:
                    run(statement)
            changes = [*first, *database.changes(physical, has(), live, {})]
        except TargetError:  # an index keeps DuckDB from it: then the table is made anew
            changes = database.changes(physical, before, live, renames)
    return changes, renames


def _taken_before(
    changed: Sequence[Difference], waiting: Sequence[Script], physical: str, schema: str
) -> Iterator[tuple[str, str]]:
    """The changes that waiting migrations have taken up, by key, each with that migration's name.

    Raises:
        UsageError: when something was changed again since.
    """
    named = {d.key: change_by_hand(d, physical, schema) for d in changed}
    for script in waiting:
        for key, (logical, digest) in named.items():
            taken = script.takes_up.get(logical)
            if taken is not None and taken != digest:
                raise UsageError(
                    f"{logical} was changed again since {script.name} took it up.",
                    where=script.file,
                    next="Remove that file, and take the schema up again.",
                )
            if taken is not None:
                yield key, script.name


def _has_values(database: Database) -> HasValues:
    """Asks whether a column has a value, or its table no row."""

    def has_values(table: RelationName, column: str) -> bool:
        name = quoted(table)
        valued = f"SELECT 1 FROM {name} WHERE {quoted_one(column)} IS NOT NULL LIMIT 1"
        return bool(database.rows(valued)) or not database.rows(f"SELECT 1 FROM {name} LIMIT 1")

    return has_values
