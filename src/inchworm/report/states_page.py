"""The page ``docs/states.md``, made from the tables of states, phases and actions.

``python -m inchworm.report.states_page > docs/states.md``
"""

from __future__ import annotations

from collections.abc import Iterator

from inchworm.core.promotion.states import TRANSITIONS, Phase, State
from inchworm.engine.actions.base import Action
from inchworm.engine.actions.plan import ACTIONS, SPECIAL

_HEAD = """\
# States and steps of a promotion

This page is made from the tables in `core/promotion/states.py` and `engine/actions`, by
`python -m inchworm.report.states_page > docs/states.md`; a test holds it to them.

## Which state may follow which
"""
_STEPS = """\
## The steps, in their order

A failure of a step that *stops* leaves the environment as it was: what was done is undone, as far
as it can be, and readers have seen nothing. After the others the remaining steps are tried all the
same. Steps that go *beside* each other run at the same time, those that go *together* take effect
in one transaction.

| phase | step | goes | a failure | why it can be repeated after a crash |
|---|---|---|---|---|
"""


def states_page() -> str:
    """The page in Markdown, with the states as a diagram in Mermaid."""
    return "\n".join([_HEAD, *_diagram(), "", _STEPS.rstrip(), *_steps(), ""])


def _diagram() -> Iterator[str]:
    yield "```mermaid"
    yield "stateDiagram-v2"
    yield f"    [*] --> {_id(State.DRAFTED)}"
    for state in State:
        yield f"    {_id(state)}: {state.value}"
    for state, following in TRANSITIONS.items():
        for other in State:
            if other in following:
                yield f"    {_id(state)} --> {_id(other)}"
        if not following:
            yield f"    {_id(state)} --> [*]"
    yield "```"


def _id(state: State) -> str:
    return state.value.replace(" ", "_")


def _steps() -> Iterator[str]:
    for phase in Phase:
        special = [action for (of, _), action in SPECIAL.items() if of is phase]
        for action in (ACTIONS[phase], *special):
            yield f"| {phase.value} | {' | '.join(_cells(action))} |"


def _cells(action: type[Action]) -> tuple[str, str, str, str]:
    what = (action.__doc__ or "").strip().splitlines()[0].rstrip(".")
    failure = "stops" if action.is_before_switch_over else "goes on"
    return what, action.mode.value, failure, action.repeatable


if __name__ == "__main__":
    print(states_page(), end="")
