"""Migrations that a rollback takes back, each by its undo script, in a transaction of its own."""

from __future__ import annotations

import time
from typing import ClassVar

from inchworm.core.execution import StepReport, StepState
from inchworm.core.parts import Digest
from inchworm.core.promotion.rollback import UndoneMigration
from inchworm.core.promotion.states import Phase
from inchworm.core.rendered import Script
from inchworm.engine.actions.base import Undoing
from inchworm.engine.actions.migrations import RunMigration
from inchworm.engine.site import Site


class UndoMigration(RunMigration):
    """Take a migration back, as the draft says."""

    repeatable: ClassVar[str] = "The step's mark is in the transaction of the undo script."

    def migration(self, site: Site) -> UndoneMigration:
        """The migration, with its undo script."""
        return next(m for m in site.undone[self.part] if m.ran.name == self.step.item)

    def script(self, site: Site) -> Script:
        """The undo script."""
        migration = self.migration(site)
        return Script(
            name=migration.ran.name,
            file=migration.file,
            sql=migration.undo,
            checksum=Digest(migration.ran.checksum),
        )

    def perform(self, site: Site) -> StepReport:
        """Run the undo script, and record the structure that it leaves."""
        script = self.script(site)
        physical = site.names.schema(self.part.name)
        site.structures.note_before(self.part)

        def take_back() -> None:
            with site.database.transaction():
                self._refuse_losses(site)
                site.run(script.sql)
                site.bookkeeping.forget_migration(self.part.name, script.name)
                self._record_structure(site, physical)
                site.mark(self.number)

        site.database.locking(take_back)
        return StepReport(state=StepState.DONE, message="taken back")

    def undo(self, site: Site, undoing: Undoing) -> bool:
        """Run the migration again, as it ran before."""
        if self.number not in undoing.done:
            return True
        migration = self.migration(site)
        undoing.schemas.add(self.part)
        started = time.monotonic()
        with site.database.transaction():
            site.structures.note_before(self.part)
            site.bookkeeping.leave_unrecorded(site.names.schema(self.part.name))
            site.run(migration.ran.script)
            site.bookkeeping.ran(migration.ran, site.by, time.monotonic() - started)
            site.bookkeeping.forget_steps(site.id.key, [self.number])
        return True


class UndoMigrationAfter(UndoMigration):
    """Take a migration back behind the switch-over of models."""

    phase = Phase.MIGRATE_AFTER
    is_before_switch_over = False
