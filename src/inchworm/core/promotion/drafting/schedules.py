"""Which schedules pause during a promotion, and which state they get after it."""

from __future__ import annotations

from collections.abc import Container

from inchworm.core.identifiers import Kind, PartId
from inchworm.core.promotion.drafting.request import Request
from inchworm.core.promotion.promotion import Step, step_of
from inchworm.core.promotion.states import Phase


def schedule_steps(request: Request, changed: Container[PartId]) -> tuple[list[Step], list[Step]]:
    """Which schedules pause, and which state they get: only those touched, or differing.

    Args:
        request: what the draft is made from.
        changed: the parts that the promotion works on.
    """
    pausing: list[Step] = []
    setting: list[Step] = []
    for pipeline in request.assembly.of_kind(Kind.PIPELINE):
        touching = _touching(request, pipeline, changed)
        for schedule in request.assembly.outlines[pipeline].schedule_names:
            state = request.live.schedules.get(f"{pipeline.name}.{schedule}")
            declared = request.environment.schedule_state(pipeline.name, schedule)
            if touching and state == "on":
                why = f"{touching} changes"
                pausing.append(step_of(Phase.PAUSE, pipeline, "pause", why, schedule))
            action = _action(state, declared, is_paused=bool(touching) and state == "on")
            if action is not None:
                reason = f"{request.environment.name} declares it {declared}"
                setting.append(step_of(Phase.RESUME, pipeline, action, reason, schedule))
    return pausing, setting


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
