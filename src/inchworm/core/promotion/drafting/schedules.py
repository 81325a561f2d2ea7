"""Which schedules pause during a promotion, and which state they get after it."""

from __future__ import annotations

from collections.abc import Container, Iterable, Iterator

from inchworm.core.checks import rules
from inchworm.core.checks.findings import Finding
from inchworm.core.identifiers import Kind, PartId
from inchworm.core.promotion.drafting.request import Request
from inchworm.core.promotion.promotion import Step, step_of
from inchworm.core.promotion.states import Phase


def schedule_steps(
    request: Request, changed: Container[PartId], removed: Iterable[PartId] = ()
) -> tuple[list[Step], list[Step]]:
    """Which schedules pause, and which state they get: only those touched, or differing.

    One that somebody switched off by hand stays off unless its resumption is asked for.

    Args:
        request: what the draft is made from.
        changed: the parts that the promotion works on.
        removed: parts that are live, and not in the bundle any more; a pipeline among them is
            paused before what it works on changes.
    """
    pausing: list[Step] = []
    setting: list[Step] = []
    gone = {part.name: part for part in removed if part.kind is Kind.PIPELINE}
    for name, is_now in request.live.schedules.items():
        pipeline_name, _, schedule = name.rpartition(".")
        if pipeline_name in gone and is_now == "on":
            why = "the pipeline goes"
            pausing.append(step_of(Phase.PAUSE, gone[pipeline_name], "pause", why, schedule))
    for pipeline in request.assembly.of_kind(Kind.PIPELINE):
        touching = _touching(request, pipeline, changed)
        for schedule in request.assembly.outlines[pipeline].schedule_names:
            name = f"{pipeline.name}.{schedule}"
            state = request.live.schedules.get(name)
            declared = request.environment.schedule_state(pipeline.name, schedule)
            if touching and state == "on":
                why = f"{touching} changes"
                pausing.append(step_of(Phase.PAUSE, pipeline, "pause", why, schedule))
            if stays_off(request, pipeline, schedule):
                continue
            action = _action(state, declared, is_paused=bool(touching) and state == "on")
            if action is not None:
                reason = f"{request.environment.name} declares it {declared}"
                given = request.live.switched_by_hand(name)
                if given is not None:
                    reason = f"was switched {state} by hand since {_day(given.at)}; {reason}"
                setting.append(step_of(Phase.RESUME, pipeline, action, reason, schedule))
    return pausing, setting


def stays_off(request: Request, pipeline: PartId, schedule: str) -> bool:
    """Whether a schedule was switched off by hand, and nobody asks that it be resumed."""
    name = f"{pipeline.name}.{schedule}"
    given = request.live.switched_by_hand(name)
    is_off = given is not None and given.state == "on"
    return is_off and request.resume.isdisjoint({name, schedule, pipeline.name, str(pipeline)})


def stays_stopped(request: Request, flow: PartId) -> bool:
    """Whether a flow was stopped by hand, and nobody asks that it be resumed."""
    is_stopped = request.live.stopped_by_hand(flow)
    return is_stopped and request.resume.isdisjoint({flow.name, str(flow)})


def switched_off(request: Request, changed: Container[PartId]) -> Iterator[Finding]:
    """What somebody switched off by hand, and what stays so.

    Args:
        request: what the draft is made from.
        changed: the parts that the promotion works on; a flow among them is switched on again.
    """
    for pipeline in request.assembly.of_kind(Kind.PIPELINE):
        for schedule in request.assembly.outlines[pipeline].schedule_names:
            if stays_off(request, pipeline, schedule):
                given = request.live.set_schedules[f"{pipeline.name}.{schedule}"]
                declared = request.environment.schedule_state(pipeline.name, schedule)
                yield rules.SWITCHED_BY_HAND.finding(
                    f"the schedule {schedule} was switched off by hand after {_day(given.at)}; it "
                    "stays off",
                    part=pipeline,
                    remedy=f"If it is to run again: --resume {schedule}."
                    if declared == "on"
                    else f"{request.environment.name} declares it off now; nothing has to be done.",
                )
    for flow in request.assembly.of_kind(Kind.FLOW):
        if flow in request.live.parts and flow not in changed and stays_stopped(request, flow):
            yield rules.SWITCHED_BY_HAND.finding(
                "it was stopped by hand; it stays stopped",
                part=flow,
                remedy=f"If it is to run again: --resume {flow.name}.",
            )


def _day(at: str) -> str:
    return at[:16].replace("T", " ")


def _action(state: str | None, declared: str, *, is_paused: bool) -> str | None:
    """The word for what gives a schedule its declared state; None if it has it."""
    if declared == "on" and (is_paused or state != "on"):
        return "resume" if state == "on" else "switch on"
    if declared == "off" and state not in {None, "off"}:
        return "switch off"
    return None


def _touching(request: Request, pipeline: PartId, changed: Container[PartId]) -> str | None:
    """The first part by which a promotion touches a pipeline."""
    if pipeline in changed:
        return "the pipeline"
    assembly = request.assembly
    waiting = [p for stage in assembly.outlines[pipeline].stages for p in stage.works_on]
    seen: set[PartId] = set()
    while waiting:
        part = waiting.pop(0)
        if part in seen or part not in assembly.upstream:
            continue
        seen.add(part)
        if part in changed:
            return str(part)
        waiting += sorted(assembly.upstream[part])
    return None
