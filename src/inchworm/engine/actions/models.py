"""Models: built in staging relations, and switched over to their names in one transaction."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from typing import ClassVar

from inchworm.core.counting import counted
from inchworm.core.execution import StepReport, StepState
from inchworm.core.identifiers import PartId, RelationName
from inchworm.core.promotion.increments import kept_rows, new_rows
from inchworm.core.promotion.states import Phase
from inchworm.core.rendered import RenderedModel, Store
from inchworm.engine.actions.base import Action, Undoing
from inchworm.engine.executor import Mode
from inchworm.engine.site import Site
from inchworm.targets.databases.protocols import Switch
from inchworm.targets.databases.quoting import quoted

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
        model = site.rendered.model(self.part)
        staged = site.staged(self.part.relation)
        kind = "VIEW" if model.is_view else "TABLE"
        yield f"CREATE {kind} {quoted(staged)} AS {self._query(site, model)}"
        if self._grows(site, model):
            yield self._kept(site, model)

    def perform(self, site: Site) -> StepReport:
        """Build it; of a table, say how many rows it has."""
        model = site.rendered.model(self.part)
        staged = site.staged(self.part.relation)
        store = Store.VIEW if model.is_view else Store.TABLE
        with site.database.transaction():
            rows = site.database.build(staged, store, self._query(site, model))
            if self._grows(site, model):
                site.database.execute(self._kept(site, model))
                rows = int(site.database.rows(f"SELECT count(*) FROM {quoted(staged)}")[0][0])
            site.staging.built(site.physical(self.part.relation))
            site.mark(self.number)
        if rows is None:
            return StepReport(state=StepState.DONE, message="view")
        size = site.database.size(staged)
        message = counted(rows, "row")
        message += f", {_spell_size(size)}" if size is not None else ""
        return StepReport(state=StepState.DONE, message=message, rows=rows, size=size)

    def undo(self, site: Site, undoing: Undoing) -> bool:
        """Remove the staging relation, and the mark of it."""
        with site.database.transaction():
            site.staging.discard([site.physical(self.part.relation)])
            site.bookkeeping.forget_step(site.id.key, self.number)
        return True

    def _grows(self, site: Site, model: RenderedModel) -> bool:
        """Whether the model keeps the rows that it has."""
        return model.keeps_rows and site.database.kinds().get(site.former(self.part)) == "table"

    def _query(self, site: Site, model: RenderedModel) -> str:
        sql = site.sql(model.sql, site.present)
        if not self._grows(site, model):
            return sql
        return new_rows(sql, site.former(self.part), model.since or "", model.key)

    def _kept(self, site: Site, model: RenderedModel) -> str:
        """The statement that puts the rows that stay to the new ones."""
        live, staged = site.former(self.part), site.staged(self.part.relation)
        tables = site.database.structure({live.schema, staged.schema})
        has = tables[live].by_name
        new = site.assembly.tables[self.part.relation].columns if staged not in tables else ()
        columns = tables[staged].columns if staged in tables else new
        return kept_rows(
            staged, live, [c.name for c in columns if c.name.lower() in has], model.key
        )


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
        name = site.physical(part.relation)
        return Switch(
            name=name,
            staging=site.staged(part.relation),
            store=Store.VIEW if model.is_view else Store.TABLE,
            view_sql=site.sql(model.sql, site.physical) if model.is_view else None,
            replaced=replaced[name],
            former=None if (former := site.former(part)) == name else former,
        )

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

        def switch_over() -> None:
            with site.database.transaction():
                site.staging.drop_replaced()
                site.database.switch_over(switches)
                site.staging.switched(switches, keep_replaced=keep)
                site.structures.record_models({switch.name for switch in switches})
                site.bookkeeping.put(site.live_part(part) for part in built)
                site.bookkeeping.remove(*gone)
                for action in actions:
                    site.mark(action.number)

        site.database.prepare(switches)
        site.database.locking(switch_over)
        return [action.report(len(built)) for action in actions if isinstance(action, SwitchOver)]

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


def _spell_size(size: int) -> str:
    """Bytes in the largest unit of which there is at least one: ``3.4 MB``."""
    amount, unit = float(size), "bytes"
    for larger in ("kB", "MB", "GB", "TB"):
        if amount < 1000:
            break
        amount, unit = amount / 1000, larger
    return f"{amount:.0f} {unit}" if unit == "bytes" else f"{amount:.1f} {unit}"
