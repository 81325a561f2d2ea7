"""Tables that notebooks fill: made before anything that reads them is built."""

from __future__ import annotations

from collections.abc import Iterator
from typing import ClassVar

from inchworm.core.execution import StepReport
from inchworm.core.promotion.states import Phase
from inchworm.core.structure.tables import Column, Table
from inchworm.engine.actions.base import DONE, Action
from inchworm.engine.site import Site
from inchworm.targets.databases.quoting import quoted


class PrepareTable(Action):
    """Make a notebook's table, or give it the columns that it lacks."""

    phase = Phase.PREPARE
    is_before_switch_over = True
    repeatable: ClassVar[str] = "The step's mark is in the transaction that makes the table."

    def statements(self, site: Site) -> Iterator[str]:
        """The table, or the columns that it lacks at this moment."""
        table = site.assembly.tables[self.step.item]
        name = site.physical(table.name)
        live = site.database.tables([name]).get(name)
        if live is None:
            columns = ", ".join(f"{quoted(c.name)} {site.type(c.type)}" for c in table.columns)
            yield f"CREATE TABLE {quoted(name)} ({columns})"
            return
        for column in _lacking(table, live):
            added = f"{quoted(column.name)} {site.type(column.type)}"
            yield f"ALTER TABLE {quoted(name)} ADD COLUMN {added}"

    def perform(self, site: Site) -> StepReport:
        """Make what is missing."""
        site.database.create_schema(site.physical(self.step.item).schema)
        with site.database.transaction(), site.structures.recording():
            for statement in self.statements(site):
                site.database.execute(statement)
            site.mark(self.number)
        return DONE


def _lacking(table: Table, live: Table) -> list[Column]:
    return [column for column in table.columns if column.name not in live.by_name]
