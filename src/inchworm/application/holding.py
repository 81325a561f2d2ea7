"""Holding: keeping a part as it is in an environment, or out of it, until that is lifted."""

from __future__ import annotations

import datetime as dt
from contextlib import closing

from msgspec import Struct

from inchworm.application.promoting import draft_prepared, prepare_bundle
from inchworm.application.route import begin_to_look
from inchworm.application.workplace import Workplace
from inchworm.core.environments.environment import Environment
from inchworm.core.errors import BundleError, UsageError, did_you_mean
from inchworm.core.identifiers import PartId
from inchworm.core.promotion.holds import Hold
from inchworm.engine.connections import Beginning
from inchworm.engine.drafting import Drafted, Wish
from inchworm.engine.route import read_passage


class HoldRequest(Struct, frozen=True, kw_only=True):
    """What is asked of a hold.

    Attributes:
        part: the part, as somebody wrote it.
        because: the reason.
        until: the last day; None of one that somebody has to lift.
        lift: whether the hold goes, rather than comes.
    """

    part: str
    environment: str
    because: str = ""
    until: dt.date | None = None
    lift: bool = False


def draft_hold(workplace: Workplace, request: HoldRequest) -> Drafted:
    """Draft a promotion of what runs in an environment, with one hold more or less.

    Raises:
        UsageError: when there is no such part or hold, or nothing runs there yet.
        BundleError: when the bundle that runs there is not in the bundle store.
        TargetError: when the environment cannot be reached.
    """
    environment = workplace.project.environment(request.environment)
    with closing(begin_to_look(workplace, environment)) as begun:
        return _drafted(workplace, environment, request, begun)


def _drafted(
    workplace: Workplace, environment: Environment, request: HoldRequest, begun: Beginning
) -> Drafted:
    name, project = environment.name, workplace.project.settings.name
    passage = read_passage(environment, project, begun.connection.database)
    if not passage.promotions:
        raise UsageError(
            f"Nothing runs in {name} yet.", next="Leave it out of the first promotion: --except."
        )
    if not request.lift and not request.because:
        raise UsageError("The record needs a reason.", next="Give it: --because TEXT.")
    if request.until is not None and request.until < workplace.today:
        raise UsageError(f"{request.until} is over.", next="Give a day that is still to come.")
    last = passage.promotions[-1]
    bundle = workplace.bundles.get(last.bundle)
    if bundle.digest != last.digest:
        raise BundleError(
            f"{last.bundle} in the bundle store is not the one that runs in {name}.",
            next="Put the bundle that runs there back into the bundle store.",
        )
    overrides = {}
    if last.id is not None and last.id.ledger == workplace.ledger.id:
        overrides = workplace.ledger.overrides(last.id)
    prepared = prepare_bundle(workplace, bundle, environment, workplace.today, overrides)
    known = {*prepared.reading.assembly.parts, *workplace.read_remembered().assembly.parts}
    known |= {PartId.parse(part) for part in last.mixture.sources}
    part = _part(request.part, known)
    if request.lift:
        return draft_prepared(workplace, prepared, Wish(lift=part, back=True), begun)
    hold = Hold(part=part, because=request.because, until=request.until, by=workplace.user)
    return draft_prepared(workplace, prepared, Wish(hold=hold, back=True), begun)


def _part(text: str, known: set[PartId]) -> PartId:
    """The part that a text means; the kind may be left out where the name is one part's."""
    folded = text.strip().lower()
    meant = [p for p in known if folded in {str(p).lower(), p.name.lower()}]
    if len(meant) == 1:
        return meant[0]
    if meant:
        listed = ", ".join(sorted(map(str, meant)))
        raise UsageError(f"{text} may be {listed}.", next="Say which: KIND:NAME.")
    names = [*map(str, known), *(part.name for part in known)]
    raise UsageError(f"There is no part {text}.", next=did_you_mean(text, names, "KIND:NAME."))
