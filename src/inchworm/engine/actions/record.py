"""The end of a promotion: everything is read back, and recorded as what is live."""

from __future__ import annotations

from collections.abc import Iterator
from typing import ClassVar

from inchworm.core.counting import counted
from inchworm.core.execution import StepReport, StepState
from inchworm.core.identifiers import Kind, PartId
from inchworm.core.promotion.composition import CompletedPromotion, Mixture
from inchworm.core.promotion.states import Phase
from inchworm.engine.actions.base import Action
from inchworm.engine.site import Site


class Verify(Action):
    """Read everything back from where it was put, and compare."""

    phase = Phase.VERIFY
    leaves_mark = False
    repeatable: ClassVar[str] = "It only reads."

    def perform(self, site: Site) -> StepReport:
        """Compare every part of the bundle, and every schedule."""
        failed = {action.step.part for action in self.plan if action.number in site.failed}
        stays = site.prepared.others.keys() - self.plan.worked_on  # as it is, whatever that is
        parts = [p for p in site.assembly.parts if p not in failed and p not in stays]
        wrong = [*self._parts(site, parts), *self._schedules(site)]
        if wrong:
            return StepReport(state=StepState.FAILED, message="; ".join(wrong))
        others = len((site.changed_by_hand - self.plan.worked_on).intersection(parts))
        right = len(parts) - others
        message = (
            f"{counted(right, 'part')} {'is as it was' if right == 1 else 'are as they were'} put"
        )
        if others:
            was = "was" if others == 1 else "were"
            drift = f"inchworm drift {site.environment.name}"
            message += f"; {others} {was} changed by hand before: {drift}"
        return StepReport(state=StepState.DONE, message=message)

    def _parts(self, site: Site, parts: list[PartId]) -> Iterator[str]:
        models = [site.physical(part.relation) for part in parts if part.kind is Kind.MODEL]
        relations, items = site.database.kinds(models), site.place.items()
        for part in parts:
            if part.kind is Kind.MODEL and site.physical(part.relation) not in relations:
                yield f"{part} is not in the database"
            elif part.kind.is_service:
                item = items.get(part)
                if item is None or item.digest != site.rendered.digest(part):
                    yield f"{part} is not there as it was put"

    def _schedules(self, site: Site) -> Iterator[str]:
        set_here = {
            (action.step.part, action.step.item)
            for action in self.plan
            if action.phase is Phase.RESUME
        }
        states, given = site.place.workspace.schedules(), site.bookkeeping.schedules()
        for pipeline in site.assembly.of_kind(Kind.PIPELINE):
            for schedule in site.assembly.outlines[pipeline].schedule_names:
                name = f"{pipeline.name}.{schedule}"
                declared = site.environment.schedule_state(pipeline.name, schedule)
                state = states.get(name)
                is_overruled = name in given and given[name].is_overruled(state)
                if is_overruled and (pipeline, schedule) not in set_here:
                    continue  # somebody switched it, and the draft said that it stays so
                if state != declared:
                    yield f"schedule {name} is {state}, not {declared}"


class Record(Action):
    """Say in the database what is live: every part of the bundle, also those left alone."""

    phase = Phase.RECORD
    needs_success = True
    repeatable: ClassVar[str] = "The step's mark is in the transaction of the record."

    def perform(self, site: Site) -> StepReport:
        """Record the parts, their structures and the promotion."""
        assembly, bundle = site.assembly, site.prepared.bundle
        live = {part.part: part for part in site.bookkeeping.parts_of_ours()}
        schemas = assembly.of_kind(Kind.SCHEMA)
        schedules = self._schedules(site)
        with site.database.transaction():
            # first, as it asks which parts were live before
            site.structures.record_rest(
                [part for part in schemas if not assembly.outlines[part].managed_outside],
                site.changes.keys(),
            )
            site.bookkeeping.put(
                site.live_part(part, live[part].built_on if part in live else "")
                for part in assembly.parts
                if part not in site.prepared.others or part in self.plan.worked_on
            )
            site.bookkeeping.set_schedules(schedules, site.now())
            gone = site.bookkeeping.schedules().keys() - site.place.workspace.schedules().keys()
            site.bookkeeping.forget_schedules(gone)
            site.bookkeeping.remove(*(live.keys() - set(assembly.parts)))
            site.bookkeeping.completed(
                CompletedPromotion(
                    promotion=site.id.key,
                    bundle=bundle.name,
                    digest=bundle.digest,
                    commit=bundle.commit,
                    by=site.by,
                    at=site.now(),
                    undoes=site.undoes,
                    exception=site.exception,
                    mixture=Mixture(
                        sources={
                            str(part): other.name if other else ""
                            for part, other in site.prepared.others.items()
                        },
                        is_choice=site.is_choice,
                    ),
                    rules=site.rules.text,
                    circumstances=site.circumstances,
                )
            )
            site.mark(self.number)
        return StepReport(state=StepState.DONE, message=f"{len(assembly.parts)} parts")

    def _schedules(self, site: Site) -> dict[str, str]:
        """Schedules that have the state which the environment declares."""
        states = site.place.workspace.schedules()
        declared = {
            f"{pipeline.name}.{schedule}": site.environment.schedule_state(pipeline.name, schedule)
            for pipeline in site.assembly.of_kind(Kind.PIPELINE)
            for schedule in site.assembly.outlines[pipeline].schedule_names
        }
        return {name: state for name, state in declared.items() if states.get(name) == state}
