"""Models: built in staging relations, and switched over to their names in one transaction."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from typing import ClassVar

from msgspec.structs import replace

from inchworm.core.counting import counted
from inchworm.core.errors import TargetError
from inchworm.core.execution import StepReport, StepState
from inchworm.core.identifiers import Kind, PartId, RelationName
from inchworm.core.promotion.states import Phase
from inchworm.core.rendered import Store
from inchworm.engine.actions.base import Action, Undoing
from inchworm.engine.executor import Mode
from inchworm.engine.model_build import ModelBuild
from inchworm.engine.site import Site
from inchworm.targets.databases.bookkeeping.base import AT_ONCE
from inchworm.targets.databases.protocols import Switch

_Names = Mapping[RelationName, RelationName]


class BuildModel(Action):
    """Build a model in its staging relation, where no reader sees it."""

    phase = Phase.BUILD
    mode = Mode.BESIDE
    is_before_switch_over = True
    repeatable: ClassVar[str] = (
        "The step's mark and the record of the staging relation are in the transaction that builds "
        "it."
    )

    def needs(self, site: Site) -> list[int]:
        """It needs the models that it reads."""
        building, upstream = self.plan.building, site.assembly.upstream[self.part]
        return [building[part] for part in upstream if part in building]

    def make_ready(self, site: Site) -> None:
        """Make the schema that it is built in."""
        site.ensure_schema(site.physical(self.part.relation).schema)

    def statements(self, site: Site) -> Iterator[str]:
        """The statements that build the staging relation."""
        return ModelBuild(self.part, site).statements()

    def perform(self, site: Site) -> StepReport:
        """Build it; of a table, say how many rows it has."""
        build = ModelBuild(self.part, site)
        with site.database.transaction():
            rows = build.build()
            site.mark(self.number)
        return build.report(rows)

    undone_at_once = AT_ONCE

    def undo_together(self, others: Sequence[Action], site: Site, undoing: Undoing) -> bool:
        """Remove the staging relations, and the marks of them."""
        actions = [self, *others]
        with site.database.transaction():
            site.staging.discard({site.physical(action.part.relation) for action in actions})
            site.bookkeeping.forget_steps(site.id.key, [action.number for action in actions])
        return True


class TakeBackModel(Action):
    """Have the table go live again that an earlier switch-over replaced: nothing is built."""

    phase = Phase.BUILD
    mode = Mode.BESIDE
    is_before_switch_over = True
    repeatable: ClassVar[str] = "It only looks whether the table is there, and leaves a mark."

    def perform(self, site: Site) -> StepReport:
        """Look whether the table is there, and about how many rows it has."""
        model = site.physical(self.part.relation)
        table = site.staging.replaced_table(model)
        if table is None:
            raise TargetError(
                f"the table that was {model} before is not there any more.",
                next="Draft the rollback again with --build: the table is built then.",
            )
        with site.database.transaction():
            site.mark(self.number)
        rows = site.database.about_rows(table)
        about = f", about {counted(rows, 'row')}" if rows is not None else ""
        return StepReport(state=StepState.DONE, message=f"as it was{about}", rows=rows)

    undone_at_once = AT_ONCE

    def undo_together(self, others: Sequence[Action], site: Site, undoing: Undoing) -> bool:
        """Take the marks back; the tables stay where they are."""
        with site.database.transaction():
            numbers = [action.number for action in (self, *others)]
            site.bookkeeping.forget_steps(site.id.key, numbers)
        return True


class SwitchOver(Action):
    """Put what was built in place, and take what is removed away, in one short transaction."""

    phase = Phase.SWITCH
    mode = Mode.TOGETHER
    is_before_switch_over = True
    repeatable: ClassVar[str] = "The steps' marks are in the transaction of the switch-over."

    def _built(self) -> list[PartId]:
        return list(self.plan.building)

    def _switch(self, site: Site, part: PartId, replaced: _Names) -> Switch:
        model = site.rendered.model(part)
        name, former = site.physical(part.relation), site.former(part)
        return Switch(
            name=name,
            staging=site.staged(part.relation),
            store=Store.VIEW if model.is_view else Store.TABLE,
            view_sql=site.sql(model.sql, site.physical) if model.is_view else None,
            replaced=replaced[name],
            former=former if former != name else None,
            was_live=self._is_taken_back(site, part),
        )

    @staticmethod
    def _is_taken_back(site: Site, part: PartId) -> bool:
        return site.staging.replaced_table(site.physical(part.relation)) is not None

    def perform(self, site: Site) -> StepReport:
        """Switch over by itself: nothing is removed."""
        return self.perform_together((), site)[0]

    def perform_together(self, others: Sequence[int], site: Site) -> list[StepReport]:
        """Switch over and remove, all in one transaction."""
        actions = [self, *(self.plan.numbered[number] for number in others)]
        gone = [action.part for action in actions if isinstance(action, RemoveModel)]
        built = self._built() if any(type(a) is SwitchOver for a in actions) else []
        names = site.staging.replaced_names(site.physical(p.relation) for p in (*gone, *built))
        switches = [
            *(self._removal(site, part, names) for part in gone),
            *(self._switch(site, part, names) for part in built),
        ]
        keep = site.environment.database.keep_replaced
        digests = {
            site.environment.database.physical_table(part.part.relation): part.digest
            for part in site.bookkeeping.parts_of_ours()
            if part.part.kind is Kind.MODEL
        }

        ran: list[str] = []

        def switch_over() -> None:
            with site.database.transaction():
                site.database.take_turn()
                with site.database.noting() as switched:
                    site.staging.drop_replaced()
                    site.database.switch_over(switches)
                    site.staging.switched(switches, keep_replaced=keep, digests=digests)
                ran[:] = [*prepared, *switched]
                site.structures.record_models({s.name: s.former or s.name for s in switches})
                anew = [part for part in built if not self._is_taken_back(site, part)]
                built_on = site.built_on(anew)
                site.bookkeeping.put(site.live_part(part, built_on.get(part, "")) for part in built)
                site.bookkeeping.remove(*gone)
                for action in actions:
                    site.mark(action.number)

        with site.database.noting() as prepared:
            site.database.prepare(switches)
        site.database.locking(switch_over)
        reports = [a.report(len(built)) for a in actions if isinstance(a, SwitchOver)]
        return [replace(reports[0], ran=tuple(ran)), *reports[1:]]

    def report(self, built: int) -> StepReport:
        """How the action ended, when ``built`` models went live."""
        return StepReport(state=StepState.DONE, message=f"{counted(built, 'model')} live")

    def _removal(self, site: Site, part: PartId, replaced: _Names) -> Switch:
        name = site.physical(part.relation)
        return Switch(
            name=name,
            staging=None,
            store=Store.TABLE,
            view_sql=None,
            replaced=replaced[name],
        )


class RemoveModel(SwitchOver):
    """Take a model away that is not in the bundle any more, together with the switch-over."""

    def report(self, built: int) -> StepReport:
        """How the action ended."""
        return StepReport(state=StepState.DONE, message="removed; a table is kept aside")
