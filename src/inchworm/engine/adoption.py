"""Changes made to a schema by hand, as changes that can be made anywhere."""

from __future__ import annotations

from collections.abc import Mapping

from msgspec import Struct
from msgspec.structs import replace

from inchworm.core.identifiers import PartId
from inchworm.core.promotion.migrations import change_by_hand
from inchworm.core.sql.schema_names import with_physical_schemas
from inchworm.core.structure.change import under_schema
from inchworm.core.structure.changes import Change, Effect
from inchworm.core.structure.definitions import differences, in_working_order
from inchworm.core.structure.surroundings import changes_of, is_of_roles
from inchworm.engine.open_environment import OpenEnvironment


class TakenUp(Struct, frozen=True, kw_only=True):
    """What was changed by hand since the latest promotion recorded a schema.

    Attributes:
        changes: how to make the same change elsewhere, in the project's names.
        takes_up: what was changed, with a digest of what it was changed to.
        of_roles: rights and owners among it, which are taken as they are in this environment alone.
    """

    changes: tuple[Change, ...]
    takes_up: Mapping[str, str]
    of_roles: tuple[str, ...] = ()

    @property
    def loses(self) -> tuple[str, ...]:
        """Whose values go where the change is made."""
        return tuple(name for c in self.changes if c.effect is Effect.LOSES for name in c.lost)


def taken_up(place: OpenEnvironment, schema: PartId, dialect: str) -> TakenUp | None:
    """The change that was made by hand in a schema; None if there was none.

    Args:
        place: where it was made.
        schema: a schema part that is live there.
        dialect: the project's, in which the statements are told.

    Raises:
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
    if not changed:
        return None
    recorded, live = (
        [d for d in those if not d.thing.is_surrounding] for those in (recorded, live)
    )
    with database.scratch_database(physical) as (board, name):
        for definition in in_working_order(recorded, database.dialect):
            in_scratch = with_physical_schemas(
                definition.sql,
                lambda s: name if s == physical else s,
                database.dialect,
                database.dialect,
            )
            board.execute(in_scratch)
        before = [under_schema(d, name, physical) for d in board.definitions([name])]
    changes = [
        *database.changes(physical, before, live, {}),
        *changes_of(changed, database.dialect),
    ]

    def logical(sql: str) -> str:
        return with_physical_schemas(
            sql, lambda s: schema.name if s == physical else s, database.dialect, dialect
        )

    return TakenUp(
        changes=tuple(replace(c, statements=tuple(map(logical, c.statements))) for c in changes),
        takes_up=dict(change_by_hand(difference, physical, schema.name) for difference in changed),
        of_roles=tuple(difference.key for difference in changed if is_of_roles(difference)),
    )
