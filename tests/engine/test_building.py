"""Steps beside each other: all workers are busy, and nothing begins before what it needs."""

from __future__ import annotations

import threading
from collections.abc import Mapping, Sequence
from types import SimpleNamespace
from typing import Any, cast

from hypothesis import given
from hypothesis import strategies as st

from inchworm.core.promotion import Phase, Step, StepReport, StepState
from inchworm.engine.building import together
from inchworm.engine.steps import Steps

DONE = StepReport(state=StepState.DONE)


class Worker(SimpleNamespace):
    """Stands where a connection would, and hears when it is interrupted."""

    def __init__(self) -> None:
        stop = threading.Event()
        super().__init__(stop=stop, database=SimpleNamespace(interrupt=stop.set))


def workers(number: int) -> list[Steps]:
    return cast("list[Steps]", [Worker() for _ in range(number)])


def step(number: int) -> Step:
    return Step(number=number, phase=Phase.BUILD, part=f"model:m{number}", action="add", reason="")


@st.composite
def networks(draw: st.DrawFn) -> Mapping[Step, Sequence[Step]]:
    """Steps that need earlier ones."""
    steps = [step(i) for i in range(1, draw(st.integers(1, 12)) + 1)]
    return {
        each: draw(st.lists(st.sampled_from(steps[:i]), unique=True)) if i else []
        for i, each in enumerate(steps)
    }


@given(networks(), st.integers(1, 4))
def test_each_begins_when_all_that_it_needs_has_ended(
    needs: Mapping[Step, Sequence[Step]], size: int
) -> None:
    """And every one is done once."""
    ended: list[Step] = []

    def begin(one: Step) -> None:
        assert set(needs[one]) <= set(ended)

    def end(one: Step, report: StepReport) -> bool:
        ended.append(one)
        return True

    together(workers(size), needs, begin, lambda worker, one: DONE, end)
    assert sorted(s.number for s in ended) == sorted(s.number for s in needs)


def test_all_workers_are_busy_while_there_is_work() -> None:
    """Eight steps that each wait for three others to be at work with them."""
    meeting = threading.Barrier(4, timeout=30)

    def do(worker: Steps, one: Step) -> StepReport:
        meeting.wait()
        return DONE

    ended: list[int] = []

    def end(one: Step, report: StepReport) -> bool:
        ended.append(one.number)
        return True

    together(workers(4), {step(i): [] for i in range(1, 9)}, lambda one: None, do, end)
    assert sorted(ended) == list(range(1, 9))


def test_the_first_failure_interrupts_the_others() -> None:
    """What runs is told to stop, and what waits does not begin."""
    begun: list[int] = []

    def do(worker: Steps, one: Step) -> StepReport:
        if one.number == 2:
            return StepReport(state=StepState.FAILED)
        is_told = cast("Any", worker).stop.wait(timeout=30)
        return DONE if is_told else StepReport(state=StepState.FAILED)

    ended: list[tuple[int, StepState]] = []

    def end(one: Step, report: StepReport) -> bool:
        ended.append((one.number, report.state))
        return report.state is not StepState.FAILED

    together(
        workers(2),
        {step(i): [] for i in range(1, 6)},
        lambda one: begun.append(one.number),
        do,
        end,
    )
    assert begun == [1, 2]
    assert ended == [(2, StepState.FAILED)]
