"""The states of a promotion, which may follow which, and the phases that its steps come in.

These tables are the only place that says so; the diagram in ``docs/architecture.md`` is made from
them.
"""

from __future__ import annotations

from collections.abc import Mapping
from enum import StrEnum


class State(StrEnum):
    """Where a promotion stands."""

    DRAFTED = "drafted"
    RUNNING = "running"
    DONE = "done"
    PARTLY_DONE = "partly done"
    FAILED = "failed"
    UNDONE = "undone"
    """A rollback took it back."""
    DROPPED = "dropped"

    @property
    def may_go_on(self) -> bool:
        """Whether it can be carried out, or go on where it stopped."""
        return State.RUNNING in TRANSITIONS[self]


TRANSITIONS: Mapping[State, frozenset[State]] = {
    State.DRAFTED: frozenset({State.RUNNING, State.DROPPED}),
    State.RUNNING: frozenset({State.RUNNING, State.DONE, State.PARTLY_DONE, State.FAILED}),
    State.FAILED: frozenset({State.RUNNING, State.UNDONE, State.DROPPED}),
    State.PARTLY_DONE: frozenset({State.RUNNING, State.UNDONE, State.DROPPED}),
    State.DONE: frozenset({State.UNDONE}),
    State.UNDONE: frozenset(),
    State.DROPPED: frozenset(),
}
"""Which state may follow which. Running may follow running: a crash leaves no entry behind."""


class Phase(StrEnum):
    """The kinds of step, in the order in which they are carried out."""

    PAUSE = "pause"
    PUT_BACK = "put back"
    BEFORE = "before"
    MIGRATE = "migrate"
    PREPARE = "prepare"
    BUILD = "build"
    CHECK = "check"
    SWITCH = "switch"
    MIGRATE_AFTER = "migrate after"
    DELIVER = "deliver"
    WITHDRAW = "withdraw"
    AFTER = "after"
    RESUME = "resume"
    HOLD = "hold"
    VERIFY = "verify"
    RECORD = "record"
