"""Building a model in its staging relation, where no reader sees it."""

from __future__ import annotations

from collections.abc import Iterator

from inchworm.core.counting import counted
from inchworm.core.execution import StepReport, StepState
from inchworm.core.identifiers import PartId, RelationName
from inchworm.core.promotion.increments import OneDay, kept_rows, new_rows
from inchworm.core.rendered import Store
from inchworm.engine.site import Site
from inchworm.targets.databases.quoting import quoted


class ModelBuild:
    """The build of one model at a site.

    Args:
        part: the model.
        site: where it is built.
    """

    def __init__(self, part: PartId, site: Site) -> None:
        self._site = site
        self._part = part
        self._model = site.rendered.model(part)
        self._staged = site.staged(part.relation)

    def statements(self) -> Iterator[str]:
        """The statements that build the staging relation."""
        kind = "VIEW" if self._model.is_view else "TABLE"
        growing = self._growing
        yield f"CREATE {kind} {quoted(self._staged)} AS {self._query(growing)}"
        if growing is not None:
            yield self._kept(growing)

    def build(self) -> int | None:
        """Build it, and record it as built; the rows of a table. Called inside a transaction."""
        database = self._site.database
        store = Store.VIEW if self._model.is_view else Store.TABLE
        growing = self._growing
        rows = database.build(self._staged, store, self._query(growing))
        if growing is not None:
            database.execute(self._kept(growing))
            rows = int(database.rows(f"SELECT count(*) FROM {quoted(self._staged)}")[0][0])
        self._site.staging.built(self._site.physical(self._part.relation))
        return rows

    def report(self, rows: int | None) -> StepReport:
        """How the build ended; of a table, with its rows and size."""
        if rows is None:
            return StepReport(state=StepState.DONE, message="view")
        size = self._site.database.size(self._staged)
        message = counted(rows, "row")
        message += f", {_spell_size(size)}" if size is not None else ""
        state = StepState.DONE
        if self._site.day is not None and self._model.keeps_rows and not self._model.day:
            state = StepState.WARNED
            message += f"; its rows of {self._site.day} stay: the model has no day = ..."
        return StepReport(state=state, message=message, rows=rows, size=size)

    @property
    def _growing(self) -> RelationName | None:
        """The table whose rows the model keeps; None where it has none to keep."""
        if not self._model.keeps_rows and self._anew is None:
            return None  # asking what there is takes long where there is much
        former = self._site.former(self._part)
        if former is None or self._site.database.kinds([former]).get(former) != "table":
            return None
        return former

    def _query(self, growing: RelationName | None) -> str:
        sql = self._site.sql(self._model.sql, self._site.present)
        if growing is None:
            return sql
        if self._anew is not None:
            return self._anew.rows(sql)
        return new_rows(sql, growing, self._model.since or "", self._model.key)

    def _kept(self, live: RelationName) -> str:
        """The statement that puts the rows that stay to the new ones."""
        site, staged = self._site, self._staged
        tables = site.database.tables([live, staged])
        has = tables[live].by_name
        new = site.assembly.tables[self._part.relation].columns if staged not in tables else ()
        columns = tables[staged].columns if staged in tables else new
        names = [c.name for c in columns if c.name.lower() in has]
        return kept_rows(staged, live, names, self._model.key, self._anew)

    @property
    def _anew(self) -> OneDay | None:
        """The day whose rows a run is asked to tell anew, where the model says which they are."""
        if self._site.day is None or not self._model.day:
            return None
        dialect = self._site.database.dialect
        return OneDay(column=self._model.day, day=self._site.day, dialect=dialect)


def _spell_size(size: int) -> str:
    """Bytes in the largest unit of which there is at least one: ``3.4 MB``."""
    amount, unit = float(size), "bytes"
    for larger in ("kB", "MB", "GB", "TB"):
        if amount < 1000:
            break
        amount, unit = amount / 1000, larger
    return f"{amount:.0f} {unit}" if unit == "bytes" else f"{amount:.1f} {unit}"
