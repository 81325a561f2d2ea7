"""Rolling back: drafting the way back to what ran in an environment before."""

from __future__ import annotations

from contextlib import closing

from msgspec import Struct, field

from inchworm.application.promoting import draft_prepared, prepare_bundle
from inchworm.application.route import begin_to_look
from inchworm.application.workplace import Workplace
from inchworm.core.environments.environment import Environment
from inchworm.core.errors import BundleError, UsageError
from inchworm.core.identifiers import Kind, promotion_number
from inchworm.core.promotion.composition import Circumstances
from inchworm.core.promotion.promotion import Promotion
from inchworm.core.promotion.rollback import (
    Course,
    Leaving,
    Rollback,
    course_back,
    course_from_unfinished,
)
from inchworm.core.promotion.states import State
from inchworm.core.rendered import Script
from inchworm.engine.connections import Beginning
from inchworm.engine.drafting import Drafted, Wish
from inchworm.engine.route import Passage, read_passage


class RollbackRequest(Struct, frozen=True, kw_only=True):
    """What is asked of a rollback.

    Attributes:
        what: an environment, or the promotion that is to be undone.
        to: the promotion whose state is to come back; the one before by default.
        because: the reason.
        rows_of_then: whether models that keep rows lose those that came since.
        build: whether tables are built from the data of now, although they were kept.
        overwrite: whether changes that were made there by hand may be lost.
        put_back: whether tables of schemas that are missing there are made again, empty.
        resume: schedules and flows that were stopped by hand, and are to run again.
    """

    what: str
    to: str | None = None
    because: str = ""
    rows_of_then: bool = False
    build: bool = False
    overwrite: bool = False
    put_back: bool = False
    resume: frozenset[str] = field(default_factory=frozenset)


def draft_rollback(workplace: Workplace, request: RollbackRequest) -> Drafted:
    """Draft the way back, against the environment as it stands now. Nothing is changed.

    Raises:
        UsageError: when there is nothing to go back to, or others came after what is to be undone.
        BundleError: when the bundle of then is not what ran.
        TargetError: when the environment cannot be reached or a secret is missing.
    """
    promotion: Promotion | None = None
    if promotion_number(request.what) is not None:
        promotion = workplace.ledger.promotion(request.what)
    name = promotion.draft.environment if promotion else request.what
    environment = workplace.project.environment(name)
    with closing(begin_to_look(workplace, environment)) as begun:
        return _drafted(workplace, environment, request, promotion, begun)


def _drafted(
    workplace: Workplace,
    environment: Environment,
    request: RollbackRequest,
    promotion: Promotion | None,
    begun: Beginning,
) -> Drafted:
    name, project = environment.name, workplace.project.settings.name
    passage = read_passage(environment, project, begun.connection.database)
    course = _course(workplace, passage, promotion, request.to)
    bundle = workplace.bundles.get(course.to.bundle)
    if bundle.digest != course.to.digest:
        raise BundleError(
            f"{bundle.name} in the bundle store is not what ran in {name}: {bundle.digest[:19]} "
            f"instead of {course.to.digest[:19]}.",
            next="Put the bundle that ran there back into the bundle store.",
        )
    then = _circumstances(workplace, course)
    today = then.today if then else workplace.today
    prepared = prepare_bundle(workplace, bundle, environment, today, then.overrides if then else {})
    rollback = Rollback(
        to=course.to.promotion,
        undoes=course.undoes,
        because=request.because,
        rows_of_then=request.rows_of_then,
        build=request.build,
    )
    wish = Wish(
        overwrite=request.overwrite,
        back=True,
        put_back=request.put_back,
        resume=request.resume,
        holds_then=then.holds if then else None,
        rollback=rollback,
        leaving=_leaving(workplace, course, environment),
    )
    return draft_prepared(workplace, prepared, wish, begun)


def _course(
    workplace: Workplace, passage: Passage, promotion: Promotion | None, to: str | None
) -> Course:
    """What is undone, and what comes back."""
    ledger, name = workplace.ledger.id, passage.environment
    completed = passage.promotions
    last = completed[-1].promotion if completed else None
    unfinished = _unfinished(workplace, passage, last)
    if to is not None:
        number = promotion_number(to)
        if number is None:
            raise UsageError(
                f"{to} is no promotion.", next=f"See inchworm history --to {name}: --to P12."
            )
        course = course_back(completed, name, workplace.ledger.promotion(to).id.key)
        if unfinished is None:
            return course
        bundle = unfinished.draft.bundle
        leaving = tuple(dict.fromkeys((bundle, *course.leaving)))
        return Course(to=course.to, undoes=(*course.undoes, unfinished.id.key), leaving=leaving)
    if promotion is None:
        if unfinished is not None:
            bundle = unfinished.draft.bundle
            return course_from_unfinished(completed, name, unfinished.id.key, bundle)
        return course_back(completed, name)
    if unfinished is not None and unfinished.id == promotion.id:
        return course_from_unfinished(completed, name, promotion.id.key, promotion.draft.bundle)
    if promotion.id.key == last and unfinished is None:
        return course_back(completed, name)
    if promotion.id.key in {each.promotion for each in completed}:
        came = unfinished.id if unfinished else completed[-1].named(ledger)
        raise UsageError(
            f"{came} went into {name} after {promotion.id}, and would be undone, too.",
            next=f"Say which state is to come back: inchworm rollback {name} --to PROMOTION. "
            f"See inchworm history --to {name}.",
        )
    raise UsageError(
        f"{promotion.id} is {promotion.state}: there is nothing of it in {name} to take back.",
        next=f"See inchworm history --to {name}.",
    )


def _unfinished(workplace: Workplace, passage: Passage, last: str | None) -> Promotion | None:
    """The promotion of this ledger that began in an environment and was not completed.

    One that claimed the environment, and of which the ledger does not say that it runs, was killed
    before its first step: there is nothing of it to take back.
    """
    claimed_by = passage.claimed_by
    if claimed_by in (None, last):
        return None
    for summary in reversed(workplace.ledger.summaries()):
        if summary.id.key == claimed_by:
            promotion = workplace.ledger.promotion(summary.id)
            is_draft = promotion.state in {State.DRAFTED, State.DROPPED} and not promotion.steps
            return None if is_draft or promotion.state is State.UNDONE else promotion
    return None


def _circumstances(workplace: Workplace, course: Course) -> Circumstances | None:
    """With what the state that comes back came about, as the environment's database says.

    A former version did not record it there; then only the ledger of the promotion knows.
    """
    id_ = course.to.id
    if course.to.circumstances is None and id_ is not None and id_.ledger == workplace.ledger.id:
        return workplace.ledger.promotion(id_).draft.circumstances
    return course.to.circumstances


def _leaving(workplace: Workplace, course: Course, environment: Environment) -> Leaving:
    """The migrations of the bundles that the environment leaves, with their undo scripts."""
    scripts: dict[tuple[str, str], Script] = {}
    missing: list[str] = []
    for name in course.leaving:
        try:
            bundle = workplace.bundles.get(name)
        except (UsageError, BundleError):
            missing.append(name)
            continue
        prepared = prepare_bundle(workplace, bundle, environment, workplace.today, {})
        assembly = prepared.reading.assembly
        for part in assembly.of_kind(Kind.SCHEMA):
            if not assembly.outlines[part].managed_outside:
                for script in prepared.rendered.schema(part).migrations:
                    scripts.setdefault((part.name, script.name), script)
    return Leaving(scripts=scripts, missing=tuple(missing))
