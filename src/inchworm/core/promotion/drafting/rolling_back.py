"""The part of a draft that makes it a rollback: tables that are taken back, migrations undone."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from inchworm.core.checks.findings import Finding
from inchworm.core.identifiers import Kind, PartId, promotion_key
from inchworm.core.promotion.aside import Aside
from inchworm.core.promotion.drafting.request import Request
from inchworm.core.promotion.migrations import Pending
from inchworm.core.promotion.promotion import Step, step_of
from inchworm.core.promotion.rollback import Undone, lacking_columns, undone_migrations
from inchworm.core.promotion.states import Phase

TAKE_BACK = "take back"
UNDO = "undo"


def undone_here(request: Request, pending: Sequence[Pending]) -> tuple[Undone, list[Finding]]:
    """The migrations that a rollback takes back, and what is to be said about the structure.

    Args:
        request: what the draft is made from.
        pending: the migrations that are going to run or to be assumed.
    """
    if request.rollback is None:
        return {}, []
    undone, findings = undone_migrations(
        request.assembly,
        request.rendered,
        request.live,
        request.leaving,
        request.assembly.dialect,
    )
    physical = {
        name: request.physical(name)
        for name, provider in request.assembly.provider.items()
        if provider.kind is Kind.SCHEMA
    }
    changing = undone.keys() | {migration.schema for migration in pending}
    findings += lacking_columns(request.assembly, request.live, changing, physical)
    return undone, findings


def taken_back(request: Request, built: Sequence[PartId]) -> dict[PartId, Aside]:
    """Models, in their order, whose replaced table is just what is to be live again.

    One that reads something which is built from the data of now is built, too; and so is one that
    keeps rows, unless the rows of then are asked for: those that came since are nowhere else.

    Args:
        request: what the draft is made from.
        built: the models that the promotion works on, each after those that it reads.
    """
    if request.rollback is None:
        return {}
    usable: dict[PartId, Aside] = {}
    anew: set[PartId] = set()
    for part in built:
        model = request.rendered.model(part)
        replaced = request.replaced.get(request.physical(part.name))
        is_upstream_anew = not anew.isdisjoint(request.assembly.upstream[part])
        is_same = replaced is not None and replaced.digest == request.rendered.digest(part)
        is_same = is_same and _has_its_columns(request, part)
        may = request.rollback.rows_of_then or not model.keeps_rows
        if replaced is not None and is_same and may and not is_upstream_anew:
            usable[part] = replaced
        elif not model.is_view or is_upstream_anew:
            anew.add(part)
    return usable


def _has_its_columns(request: Request, part: PartId) -> bool:
    """Whether a replaced table still has the columns of the model: nobody changed it since."""
    table = request.assembly.tables[part.relation]
    columns = request.replaced_columns.get(request.physical(part.name), frozenset())
    return table.open or {column.name.lower() for column in table.columns} == columns


def taken_back_step(part: PartId, reason: str, replaced: Aside) -> Step:
    """The step that takes a replaced table back, with its rows of then."""
    by = promotion_key(replaced.promotion)
    why = f"{reason}; the table that {by or 'a promotion'} replaced comes back, with its rows"
    return step_of(Phase.BUILD, part, TAKE_BACK, why)


def undo_steps(undone: Undone, phase: Phase, *, late: bool) -> Iterator[Step]:
    """The steps that take migrations back, the latest first."""
    for schema, those in undone.items():
        for each in those:
            if each.late is late:
                by = promotion_key(each.ran.promotion)
                reason = f"{by} ran it" if by else "it ran since"
                yield step_of(phase, schema, UNDO, reason, each.ran.name)
