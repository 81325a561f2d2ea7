"""Changes of a schema to the structure that it should have, exactly as they were drafted."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import ClassVar

from msgspec.structs import replace

from inchworm.core.errors import TargetError
from inchworm.core.execution import StepReport, StepState
from inchworm.core.promotion.states import Phase
from inchworm.core.structure.changes import Change, in_the_way
from inchworm.engine.actions.base import Action, Undoing
from inchworm.engine.desired_schema import (
    DesiredStructure,
    desired_structure,
    filled_since,
    keep_empty,
)
from inchworm.engine.site import Site


class ChangeStructure(Action):
    """Make what is new in a structure, and change what stays."""

    phase = Phase.MIGRATE
    is_before_switch_over = True
    is_late: ClassVar[bool] = False
    repeatable: ClassVar[str] = "The step's mark is in the transaction of the change."

    def _changes(self, site: Site, *, late: bool) -> list[Change]:
        drafted = site.changes[self.part]
        return [change for change in drafted if change.late is late]

    def statements(self, site: Site) -> Iterator[str]:
        """The statements that were drafted."""
        for change in self._changes(site, late=self.is_late):
            yield from change.statements

    def perform(self, site: Site) -> StepReport:
        """Carry out the change, and see that nothing is left to do but what comes late."""
        changes = self._changes(site, late=self.is_late)
        schema = site.rendered.schema(self.part)
        site.database.create_schema(site.names.schema(self.part.name))
        desired = desired_structure(site.database, site.assembly, site.names, schema)
        desired = replace(desired, others=desired.others | site.of_others)
        site.database.locking(lambda: self._change(site, changes, desired))
        return StepReport(state=StepState.DONE, message=f"{len(changes)} changes")

    def _change(self, site: Site, changes: Sequence[Change], desired: DesiredStructure) -> None:
        still_to_come = [] if self.is_late else self._changes(site, late=True)
        with site.database.restructuring(in_the_way(changes)):
            keep_empty(site.database, changes)
            for name, rows in filled_since(site.database, changes):
                raise TargetError(
                    f"{name} had nothing to lose when this was drafted, and has {rows} values now.",
                    next="Nothing was changed by it: draft again.",
                )
            for change in changes:
                for statement in change.statements:
                    site.database.execute(statement)
            left = [change.statements for change in desired.changes(site.database)]
            if left != [change.statements for change in still_to_come]:
                raise TargetError(
                    f"{self.part} did not become what is wanted; left to do: {left[:3]}.",
                    next="Nothing was changed by it. Somebody may have changed it since: draft "
                    "again.",
                )
            site.structures.record_whole(self.part)
            site.mark(self.number)

    def undo(self, site: Site, undoing: Undoing) -> bool:
        """It stays: what a column held before is not known any more."""
        if self.number not in undoing.done:
            return True
        undoing.stayed.insert(0, self.step.item)
        undoing.schemas.add(self.part)
        return False


class ChangeStructureLate(ChangeStructure):
    """Remove what no longer belongs to a structure, once no live model reads it."""

    phase = Phase.MIGRATE_AFTER
    is_before_switch_over = False
    is_late: ClassVar[bool] = True
