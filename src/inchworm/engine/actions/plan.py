"""From the steps of a draft to actions: the table of what each phase does."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from types import MappingProxyType

from inchworm.core.identifiers import Kind, PartId
from inchworm.core.promotion.promotion import Step
from inchworm.core.promotion.states import Phase
from inchworm.engine.actions.base import Action, Plan
from inchworm.engine.actions.checks import CheckFile, CheckModel
from inchworm.engine.actions.holds import SetHolds
from inchworm.engine.actions.migrations import (
    AssumeMigration,
    AssumeMigrationAfter,
    RunMigration,
    RunMigrationAfter,
)
from inchworm.engine.actions.models import BuildModel, RemoveModel, SwitchOver, TakeBackModel
from inchworm.engine.actions.put_back import PutBack
from inchworm.engine.actions.record import Record, Verify
from inchworm.engine.actions.schedules import PauseSchedule, SetSchedule
from inchworm.engine.actions.scripts import RunScriptAfter, RunScriptBefore
from inchworm.engine.actions.services import Deliver, Forget, Withdraw
from inchworm.engine.actions.stored_tables import PrepareTable
from inchworm.engine.actions.structures import ChangeStructure, ChangeStructureLate
from inchworm.engine.actions.undone import UndoMigration, UndoMigrationAfter
from inchworm.engine.actions.verifications import AskVerification

ACTIONS: Mapping[Phase, type[Action]] = MappingProxyType(
    {
        Phase.PAUSE: PauseSchedule,
        Phase.PUT_BACK: PutBack,
        Phase.BEFORE: RunScriptBefore,
        Phase.MIGRATE: RunMigration,
        Phase.PREPARE: PrepareTable,
        Phase.BUILD: BuildModel,
        Phase.CHECK: CheckModel,
        Phase.SWITCH: SwitchOver,
        Phase.MIGRATE_AFTER: RunMigrationAfter,
        Phase.DELIVER: Deliver,
        Phase.WITHDRAW: Withdraw,
        Phase.AFTER: RunScriptAfter,
        Phase.RESUME: SetSchedule,
        Phase.HOLD: SetHolds,
        Phase.VERIFY: Verify,
        Phase.RECORD: Record,
    }
)
"""The action of a step, by phase."""

SPECIAL: Mapping[tuple[Phase, str], type[Action]] = MappingProxyType(
    {
        (Phase.MIGRATE, "assume"): AssumeMigration,
        (Phase.MIGRATE, "change"): ChangeStructure,
        (Phase.MIGRATE_AFTER, "assume"): AssumeMigrationAfter,
        (Phase.MIGRATE_AFTER, "change"): ChangeStructureLate,
        (Phase.MIGRATE, "undo"): UndoMigration,
        (Phase.MIGRATE_AFTER, "undo"): UndoMigrationAfter,
        (Phase.BUILD, "take back"): TakeBackModel,
        (Phase.SWITCH, "remove"): RemoveModel,
        (Phase.VERIFY, "ask"): AskVerification,
    }
)
"""The action of a step that has a certain word for it, by phase and word."""


def planned(steps: Iterable[Step]) -> Plan:
    """The actions of some steps, in their order."""
    return Plan(tuple(steps), _action)


def _action(step: Step) -> type[Action]:
    is_of_record = isinstance(step.part, PartId) and not step.part.kind.is_service
    if step.phase is Phase.WITHDRAW and is_of_record:
        return Forget
    is_check = isinstance(step.part, PartId) and step.part.kind is Kind.CHECK
    if step.phase is Phase.CHECK and is_check:
        return CheckFile
    return SPECIAL.get((step.phase, step.action), ACTIONS[step.phase])
