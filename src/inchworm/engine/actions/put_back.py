"""Tables that somebody dropped by hand, made again as they were recorded."""

from __future__ import annotations

from collections.abc import Iterator
from typing import ClassVar

from msgspec.structs import replace

from inchworm.core.execution import StepReport, StepState
from inchworm.core.promotion.states import Phase
from inchworm.core.structure.definitions import differences, in_working_order
from inchworm.engine.actions.base import Action
from inchworm.engine.site import Site


class PutBack(Action):
    """Make again, empty, what is missing of a schema."""

    phase = Phase.PUT_BACK
    is_before_switch_over = True
    repeatable: ClassVar[str] = "The step's mark is in the transaction that makes the tables."

    def statements(self, site: Site) -> Iterator[str]:
        """The recorded statements of all that is missing, in working order.

        What belongs to a table that is missing (its indexes, keys, comments) is missing with it.
        """
        schema = site.physical_schema(self.part)
        recorded = [
            replace(definition, needs=None)  # its needs were not recorded
            for definition in site.bookkeeping.structures()
            if definition.is_of_schema and definition.schema == schema
        ]
        live = site.structures.definitions_of(self.part)
        missing = {d.key for d in differences(recorded, live) if d.what == "missing"}
        again = [definition for definition in recorded if definition.key in missing]
        for definition in in_working_order(again, site.database.dialect):
            yield definition.sql

    def perform(self, site: Site) -> StepReport:
        """Make them; their record stays as it is, and fits them again."""
        site.ensure_schema(site.physical_schema(self.part))
        count = 0
        with site.database.transaction():
            for statement in list(self.statements(site)):
                site.database.execute(statement)
                count += 1
            site.mark(self.number)
        return StepReport(state=StepState.DONE, message=f"{count} made again, without rows")
