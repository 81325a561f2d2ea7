"""The page ``docs/states.md``, made from the tables of states, phases and actions.

``python -m inchworm.report.states_page > docs/states.md``
"""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping
from typing import TypeVar

from inchworm.core.promotion.states import TRANSITIONS, Phase, State
from inchworm.core.running.states import TRANSITIONS as RUN_TRANSITIONS
from inchworm.core.running.states import RunState
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

_RUNS = """\
## The states of a run

From `core/running/states.py`. Whatever ended stays so: what is left of it is a run of its own,
which goes on with it.
"""


def states_page() -> str:
    """The page in Markdown, with the states as a diagram in Mermaid."""
    promotions = _diagram(State.DRAFTED, TRANSITIONS)
    runs = _diagram(RunState.RUNNING, RUN_TRANSITIONS)
    steps = [_STEPS.rstrip(), *_steps(), "", _RUNS, *runs]
    return "\n".join([_HEAD, *promotions, "", *steps, ""])


S = TypeVar("S", State, RunState)


def _diagram(first: S, transitions: Mapping[S, Collection[S]]) -> Iterator[str]:
    yield "```mermaid"
    yield "stateDiagram-v2"
    yield f"    [*] --> {_id(first)}"
    for state in transitions:
        yield f"    {_id(state)}: {state.value}"
    for state, following in transitions.items():
        for other in transitions:
            if other in following:
                yield f"    {_id(state)} --> {_id(other)}"
        if not following:
            yield f"    {_id(state)} --> [*]"
    yield "```"


def _id(state: State | RunState) -> str:
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
