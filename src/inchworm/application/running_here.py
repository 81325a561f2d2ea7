"""Running the working tree in one's own corner: packed, put into place there, and run."""

from __future__ import annotations

from inchworm.application.packing import pack_tree
from inchworm.application.promoting import (
    PromotionRequest,
    carry_out_promotion,
    draft_promotion,
    record_draft,
)
from inchworm.application.workplace import Workplace
from inchworm.core.checks.findings import has_errors
from inchworm.core.environments.environment import Environment
from inchworm.core.errors import UsageError
from inchworm.core.identifiers import Kind
from inchworm.core.promotion.choosing import Choice
from inchworm.core.promotion.promotion import Promotion
from inchworm.core.promotion.states import State
from inchworm.core.running.planning import subject_of
from inchworm.engine.reporter import Reporter


def own_corner(workplace: Workplace, name: str | None) -> Environment:
    """The environment in which somebody has a corner: that of a name, or else the first one.

    Raises:
        UsageError: when there is none.
    """
    environments = workplace.project.environments
    chosen = [workplace.project.environment(name)] if name else environments
    corners = [each for each in chosen if each.corner]
    if not corners:
        raise UsageError(
            f"{name} has no corner of your own."
            if name
            else "You have a corner in no environment.",
            where=chosen[0].file if chosen else None,
            next='Write [databases.main] schema_pattern = "{schema}__{owner}", and {owner} into '
            "the url of [workspace] and [gateway], such as sim:dev-{owner}.",
        )
    return corners[0]


def put_here(
    workplace: Workplace, name: str, environment: Environment, reporter: Reporter
) -> Promotion | None:
    """Put the working tree into one's own corner, as far as something there needs it.

    Of a model, that is the model and everything upstream of it; of anything else, the whole tree.

    Args:
        workplace: the workplace.
        name: what is going to run.
        environment: where the corner is.
        reporter: hears of each step.

    Returns:
        The promotion; None where nothing differs.

    Raises:
        UsageError: when check finds errors, or the environment does not take it.
    """
    packed = pack_tree(workplace)
    if packed.bundle is None:
        first = packed.checked.findings[0]
        raise UsageError(
            f"check finds errors: {first.message}.", where=first.place, next="See inchworm check."
        )
    reading, _ = workplace.read()
    subject = subject_of(name, reading.assembly)
    choice = Choice(only=(str(subject),), upstream=True) if subject.kind is Kind.MODEL else Choice()
    request = PromotionRequest(
        bundle=packed.bundle.name, environment=environment.name, choice=choice
    )
    drafted = draft_promotion(workplace, request)
    if has_errors(drafted.draft.findings):
        first_error = drafted.draft.findings[0]
        raise UsageError(
            f"the corner does not take it: {first_error.message}.",
            where=first_error.place,
            next=first_error.remedy,
        )
    if not drafted.draft.steps:
        return None
    promotion = carry_out_promotion(
        workplace, drafted.prepared, record_draft(workplace, drafted), reporter
    )
    if promotion.state is not State.DONE:
        raise UsageError(
            f"{promotion.id} into the corner is {promotion.state.value}: {promotion.message}.",
            next=f"See inchworm history {promotion.id}.",
        )
    return promotion
