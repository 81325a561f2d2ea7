"""The states of a run, which may follow which, and the kinds of work that its steps do.

These tables are the only place that says so.
"""

from __future__ import annotations

from collections.abc import Mapping
from enum import StrEnum


class RunState(StrEnum):
    """Where a run stands."""

    RUNNING = "running"
    DONE = "done"
    PARTLY_DONE = "partly done"
    """Some of its steps took effect, and some failed."""
    FAILED = "failed"
    """A step failed, and none took effect."""
    STOPPED = "stopped"
    """Somebody stopped it."""
    BROKEN_OFF = "broken off"
    """Its process ended without a word."""

    @property
    def can_go_on(self) -> bool:
        """Whether a later run can do what is left of it."""
        return self not in {RunState.RUNNING, RunState.DONE}


TRANSITIONS: Mapping[RunState, frozenset[RunState]] = {
    RunState.RUNNING: frozenset(RunState) - {RunState.RUNNING},
    **{state: frozenset() for state in RunState if state is not RunState.RUNNING},
}
"""Which state may follow which: whatever ended stays so, and what is left is a run of its own."""


class FlowTask(StrEnum):
    """The rows or files that flows take on in a run."""

    NEW = "new"
    """Those that were not sent or taken before."""
    DEAD_LETTERS = "dead letters"
    """Those that were refused before, and nothing new."""
    ALREADY_TAKEN = "already taken"
    """None: the files that are there are recorded as taken, because they were taken otherwise."""


class Work(StrEnum):
    """The kinds of work that a step of a run does."""

    BUILD = "build"
    """A model is built in its staging relation."""
    CHECK = "check"
    """The data of what was built is checked."""
    SWITCH = "switch over"
    """What was built and checked goes live."""
    NOTEBOOK = "notebook"
    FLOW = "flow"
