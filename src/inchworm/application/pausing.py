"""Pausing schedules of an environment, and resuming them."""

from __future__ import annotations

import datetime as dt

from inchworm.application.workplace import Workplace
from inchworm.core.errors import UsageError, did_you_mean
from inchworm.core.identifiers import Kind, PartId
from inchworm.core.running.pauses import Pause
from inchworm.engine.open_environment import OpenEnvironment


def pause(
    workplace: Workplace, environment: str, what: str, because: str, until: dt.datetime | None
) -> Pause:
    """Have schedules start nothing for a while. Runs that are at work go on.

    Args:
        workplace: where the project is.
        environment: the environment.
        what: a pipeline, ``pipeline.schedule``, or empty text for all of the environment.
        because: the reason.
        until: when it ends by itself; None where somebody has to resume it.

    Raises:
        UsageError: when there is no such schedule, no reason, or the time is over.
        TargetError: when the environment cannot be reached.
    """
    if not because:
        raise UsageError("A pause needs a reason.", next="Say --because TEXT.")
    if until is not None and until <= workplace.clock():
        raise UsageError(f"--until {until:%Y-%m-%d %H:%M} is over.", next="Name a later time.")
    declared = workplace.project.environment(environment)
    with workplace.opened(declared, read_only=False) as place:
        begun = Pause(
            what=_named(what, place),
            because=because,
            by=workplace.user,
            at=workplace.now(),
            until=until.astimezone(dt.UTC).isoformat(timespec="seconds") if until else "",
        )
        place.bookkeeping.ensure()
        with place.database.transaction():
            place.bookkeeping.resume(begun.what, begun.at, begun.by)  # one takes another's place
            place.bookkeeping.pause(begun)
    return begun


def resume(workplace: Workplace, environment: str, what: str) -> list[Pause]:
    """Have schedules start what is due again; the pauses that end by it.

    Raises:
        UsageError: when nothing of that is paused.
        TargetError: when the environment cannot be reached.
    """
    now, declared = workplace.clock(), workplace.project.environment(environment)
    with workplace.opened(declared, read_only=False) as place:
        in_force = [each for each in place.bookkeeping.pauses() if each.is_in_force(now)]
        named = _named(what, place)
        ending = [each for each in in_force if each.what == named]
        if not ending:
            paused = ", ".join(each.what or "all of it" for each in in_force) or "nothing"
            raise UsageError(
                f"{what or environment} is not paused.", next=f"In {environment}, {paused} is."
            )
        with place.database.transaction():
            place.bookkeeping.resume(named, workplace.now(), workplace.user)
    return ending


def _named(what: str, place: OpenEnvironment) -> str:
    """What is paused, as the record names it.

    Raises:
        UsageError: when there is no such pipeline or schedule.
    """
    if not what:
        return ""
    known: dict[str, str] = {}
    for schedule in place.workspace.schedules():
        pipeline = PartId(Kind.PIPELINE, schedule.rpartition(".")[0])
        known |= {schedule.lower(): schedule}
        known |= dict.fromkeys((pipeline.name.lower(), str(pipeline).lower()), str(pipeline))
    if what.lower() not in known:
        near = did_you_mean(what, known, "See inchworm status --schedules.")
        raise UsageError(f"{place.environment.name} has no schedule of {what}.", next=near)
    return known[what.lower()]
