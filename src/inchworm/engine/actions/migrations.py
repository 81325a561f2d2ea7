"""Migrations: run once, each in a transaction of its own; or assumed, where its effect is there."""

from __future__ import annotations

import time
from collections.abc import Iterator
from typing import ClassVar

from inchworm.core.errors import TargetError
from inchworm.core.execution import StepReport, StepState
from inchworm.core.identifiers import Kind
from inchworm.core.promotion.composition import RanMigration
from inchworm.core.promotion.states import Phase
from inchworm.core.rendered import Script
from inchworm.core.sql.parse import only_defines
from inchworm.core.structure.losing import Loss
from inchworm.engine.actions.base import Action, Undoing
from inchworm.engine.losses import logical_tables, lost_rows, undo_losses
from inchworm.engine.site import Site


class RunMigration(Action):
    """Run a migration."""

    phase = Phase.MIGRATE
    is_before_switch_over = True
    repeatable: ClassVar[str] = (
        "The step's mark and the migration's record are in its transaction; one that no "
        "transaction can hold first removes what a broken attempt left."
    )

    def script(self, site: Site) -> Script:
        """The migration."""
        return site.migration(self.part, self.step.item)

    def statements(self, site: Site) -> Iterator[str]:
        """The migration, under this environment's names."""
        return site.statements(self.script(site).sql)

    def perform(self, site: Site) -> StepReport:
        """Run it, and record it and the structure that it leaves."""
        script = self.script(site)
        started = time.monotonic()
        physical = site.names.schema(self.part.name)
        site.database.create_schema(physical)
        site.structures.note_before(self.part)
        if not script.in_transaction:
            site.bookkeeping.leave_unrecorded(physical)
            for statement in site.statements(script.sql):
                site.database.execute_without_transaction(statement)

        def migrate() -> None:
            with site.database.transaction():
                if script.in_transaction:
                    self._refuse_losses(site)
                    site.run(script.sql)
                    self._note_rows_left(site, script)
                self._record(site, script, "ran", time.monotonic() - started)
                self._record_structure(site, physical)
                site.mark(self.number)

        site.database.locking(migrate, brief=only_defines(script.sql, site.assembly.dialect))
        return StepReport(state=StepState.DONE, message="ran")

    def _refuse_losses(self, site: Site) -> None:
        """Fail where rows have come, since the draft, that the script takes away.

        Raises:
            TargetError: with what is lost.
        """
        for loss in site.stakes.get(self.number, ()):
            rows = _lost(site, loss)
            if rows is not None:
                raise _rows_came(loss, rows)

    def _note_rows_left(self, site: Site, script: Script) -> None:
        """Note what there is after the migration of what its undo script takes away."""
        if script.undo and site.environment.database.undo_migrations:
            losses = _undo_losses(site, script)
            site.rows_left[self.number] = {loss.name: _lost(site, loss) for loss in losses}

    def undo(self, site: Site, undoing: Undoing) -> bool:
        """Take it back by its undo script, where the environment says so.

        One that has no undo script, or whose undo script fails, stays, with all before it.
        """
        if self.number not in undoing.done:
            return True
        name = self.step.item
        undoing.schemas.add(self.part)
        is_first = not undoing.stayed
        script = self.script(site)
        if not (is_first and site.environment.database.undo_migrations and script.undo):
            undoing.stayed.insert(0, name)
            return False
        try:
            self._take_back(site, script)
        except TargetError as error:
            undoing.undone.append(f"{name} not, because {error.what}")
            undoing.stayed.insert(0, name)
            return False
        undoing.undone.append(name)
        return True

    def _take_back(self, site: Site, script: Script) -> None:
        with site.database.transaction():
            left = site.rows_left.get(self.number, {})
            for loss in _undo_losses(site, script):
                rows = _lost(site, loss)
                if rows not in {None, left.get(loss.name)}:
                    raise _rows_came(loss, str(rows))
            site.structures.note_before(self.part)
            site.bookkeeping.leave_unrecorded(site.names.schema(self.part.name))
            site.run(script.undo)
            site.bookkeeping.forget_migration(self.part.name, script.name)
            site.bookkeeping.forget_steps(site.id.key, [self.number])

    def _record_structure(self, site: Site, physical: str) -> None:
        """Record what the migrations in a row changed, with the last of them."""
        if self._is_last_in_row():
            site.structures.record_migrations(self.part)
        else:
            site.bookkeeping.leave_unrecorded(physical)

    def _is_last_in_row(self) -> bool:
        """Whether the next step is no migration of the same schema."""
        following = self.plan.numbered.get(self.number + 1)
        return following is None or (following.step.part, following.phase) != (
            self.step.part,
            self.phase,
        )

    def _record(self, site: Site, script: Script, outcome: str, seconds: float) -> None:
        migration = RanMigration(
            schema=self.part.name,
            name=script.name,
            checksum=script.checksum,
            outcome=outcome,
            promotion=site.id.key,
            ran_at=site.now(),
            script=script.sql,
        )
        site.bookkeeping.ran(migration, site.by, seconds)


class RunMigrationAfter(RunMigration):
    """Run a migration behind the switch-over of models."""

    phase = Phase.MIGRATE_AFTER
    is_before_switch_over = False


class AssumeMigration(RunMigration):
    """Record a migration whose effect is there already, without running it."""

    repeatable: ClassVar[str] = "The step's mark is in the transaction of the record."

    def statements(self, site: Site) -> Iterator[str]:
        """No statement: nothing is run."""
        return iter(())

    def perform(self, site: Site) -> StepReport:
        """Record it, and the structure that it stands for."""
        script = self.script(site)
        with site.database.transaction():
            site.structures.record_assumed(self.part, script)
            self._record(site, script, "assumed", 0.0)
            site.mark(self.number)
        return StepReport(state=StepState.DONE, message="assumed")

    def undo(self, site: Site, undoing: Undoing) -> bool:
        """It stays: its effect was there before."""
        if self.number not in undoing.done:
            return True
        undoing.stayed.insert(0, self.step.item)
        return False


class AssumeMigrationAfter(AssumeMigration):
    """Record a migration behind the switch-over of models."""

    phase = Phase.MIGRATE_AFTER
    is_before_switch_over = False


def _lost(site: Site, loss: Loss) -> str | None:
    """How much would go now, as nobody else writes to the table any more."""
    physical = site.names.table(loss.table)
    if not site.database.tables([physical]):
        return None  # an earlier script gave it another name
    site.database.keep_writers_out(physical)
    return lost_rows(site.database, site.names, loss)


def _undo_losses(site: Site, script: Script) -> tuple[Loss, ...]:
    schemas = [site.names.schema(part.name) for part in site.assembly.of_kind(Kind.SCHEMA)]
    tables = logical_tables(site.database.structure(schemas), site.assembly, site.names)
    return undo_losses(script, tables, site.environment, site.assembly.dialect)


def _rows_came(loss: Loss, rows: str) -> TargetError:
    what = "values" if loss.column else "rows"
    return TargetError(
        f"it {loss.way.value} {loss.name}, where {rows} {what} have come since.",
        next=f"Keep them elsewhere, or list {loss.name} under may_lose in [databases.main] of the "
        "environment file; then draft again.",
    )
