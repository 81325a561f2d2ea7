"""The executor: all sites are busy, nothing begins before what it needs, nothing is done twice."""

from __future__ import annotations

import signal
import threading
import time
from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field

import pytest
from hypothesis import given
from hypothesis import strategies as st

from inchworm.core.errors import TargetError
from inchworm.core.execution import StepReport, StepState
from inchworm.engine.deferred import signals_deferred
from inchworm.engine.executor import (
    Crew,
    Ended,
    Executor,
    Mode,
    most_beside,
    perform_beside,
)

DONE = StepReport(state=StepState.DONE)
FAILED = StepReport(state=StepState.FAILED)


class Site:
    """Stands where a connection would, and hears when it is interrupted."""

    def __init__(self) -> None:
        self.stop = threading.Event()


@dataclass
class Act:
    """An action that does what the test wants."""

    number: int
    mode: Mode = Mode.ALONE
    stops_on_failure: bool = True
    needs_success: bool = False
    only_judges: bool = False
    holds_back: bool = False
    after: Collection[int] = ()
    do: Callable[[Site], StepReport] = lambda site: DONE
    ready: Callable[[], None] = lambda: None
    performed: list[int] = field(default_factory=list)

    def needs(self, site: Site) -> Collection[int]:
        return self.after

    def make_ready(self, site: Site) -> None:
        self.ready()

    def perform(self, site: Site) -> StepReport:
        self.performed.append(self.number)
        return self.do(site)

    def perform_together(self, others: Sequence[int], site: Site) -> list[StepReport]:
        self.performed += [self.number, *others]
        return [self.do(site)] * (1 + len(others))


class Journal:
    """A journal in memory, which can be gone on with."""

    def __init__(self, before: Mapping[int, StepState] | None = None) -> None:
        self.before = dict(before or {})
        self.effects: set[int] = set()
        self.events: list[tuple[str, int]] = []
        self.seen: list[tuple[str, int]] = []
        self.settled = threading.Event()

    def state(self, number: int) -> StepState:
        return self.before.get(number, StepState.WAITING)

    def took_effect(self, number: int) -> bool:
        return number in self.effects

    def began(self, numbers: Sequence[int]) -> None:
        self.events += [("began", number) for number in numbers]

    def ended(self, reports: Mapping[int, StepReport]) -> None:
        self.events += [(report.state.value, number) for number, report in reports.items()]

    def settle(self) -> None:
        """Whoever looks sees what has been heard of by now."""
        self.seen = list(self.events)
        self.settled.set()


def _nothing() -> None:
    """For whoever waits for nothing else meanwhile."""


def executor(journal: Journal, size: int = 3) -> Executor[Site]:
    @contextmanager
    def crew(wanted: int) -> Iterator[Sequence[Site]]:
        yield [Site() for _ in range(min(size, wanted))]

    return Executor(site=Site(), journal=journal, crew=crew, interrupt=lambda site: site.stop.set())


@st.composite
def networks(draw: st.DrawFn) -> list[Act]:
    """Actions that need earlier ones."""
    numbers = list(range(1, draw(st.integers(1, 12)) + 1))
    return [
        Act(
            number,
            Mode.BESIDE,
            after=draw(st.lists(st.sampled_from(numbers[:i]), unique=True)) if i else [],
        )
        for i, number in enumerate(numbers)
    ]


@given(networks())
def test_there_are_sites_for_all_that_can_be_at_work_at_a_time(acts: list[Act]) -> None:
    """None of them needs another, by however many steps."""
    needs = {act.number: act.after for act in acts}
    before: dict[int, set[int]] = {}
    for number, those in needs.items():
        before[number] = {*those, *(each for one in those for each in before[one])}
    at_a_time: list[set[int]] = [set()]
    for number in needs:
        at_a_time += [{*those, number} for those in at_a_time if not those & before[number]]
    assert max(map(len, at_a_time)) <= most_beside(needs) <= len(needs)


def test_what_can_only_follow_each_other_needs_one_site() -> None:
    assert most_beside({1: [], 2: [1], 3: [1, 2], 7: [3, 5]}) == 1


@given(networks(), st.integers(1, 4))
def test_each_begins_when_all_that_it_needs_has_ended(acts: list[Act], size: int) -> None:
    """And every one is done once."""
    ended: set[int] = set()

    def begin(act: object) -> None:
        assert isinstance(act, Act)
        assert set(act.after) <= ended

    def end(acts: Sequence[tuple[object, StepReport]]) -> bool:
        for act, _ in acts:
            assert isinstance(act, Act)
            ended.add(act.number)
        return True

    perform_beside(
        [Site() for _ in range(size)],
        acts,
        {act.number: act.after for act in acts},
        may_begin=lambda act: True,
        begin=begin,
        perform=lambda act, site: act.perform(site),
        end=end,
        idle=_nothing,
        interrupt=lambda site: None,
    )
    assert [act.performed for act in acts] == [[act.number] for act in acts]


def test_all_sites_are_busy_while_there_is_work() -> None:
    """Eight actions that each wait for three others to be at work with them."""
    meeting = threading.Barrier(4, timeout=30)

    def meet(site: Site) -> StepReport:
        meeting.wait()
        return DONE

    journal = Journal()
    acts = [Act(number, Mode.BESIDE, do=meet) for number in range(1, 9)]
    assert executor(journal, size=4).run(acts)
    assert sorted(n for what, n in journal.events if what == "done") == list(range(1, 9))


@pytest.mark.timeout(30)
@pytest.mark.parametrize("numbers", [[1], [1, 2, 3]])
@pytest.mark.parametrize("mode", [Mode.ALONE, Mode.BESIDE])
def test_whoever_looks_sees_what_runs_before_anything_ends(mode: Mode, numbers: list[int]) -> None:
    """An action may take hours: here it waits until the journal has been written."""
    journal = Journal()

    def wait(site: Site) -> StepReport:
        journal.settled.wait()
        return DONE

    assert executor(journal).run([Act(number, mode, do=wait) for number in numbers])
    first = numbers if mode is Mode.BESIDE else numbers[-1:]
    assert journal.seen[-len(first) :] == [("began", number) for number in first]


def test_what_has_ended_meanwhile_is_heard_of_at_once() -> None:
    """So that the journal is written once for all; a signal behind it raises at the next wait."""
    ended = [Ended(Act(number), DONE) for number in (1, 2)]
    before = signal.signal(signal.SIGINT, signal.default_int_handler)
    try:
        with pytest.raises(KeyboardInterrupt), signals_deferred() as deferred:
            deferred.queue.put(ended[0])
            signal.raise_signal(signal.SIGINT)
            deferred.queue.put(ended[1])
            assert deferred.get(_nothing) == ended
            deferred.get(_nothing)
    finally:
        signal.signal(signal.SIGINT, before)


def test_what_ended_before_an_error_of_ours_is_journalled() -> None:
    """The error is the caller's; what others did is not forgotten for it."""
    journal, others = Journal(), threading.Event()

    def fail(site: Site) -> StepReport:
        others.wait(30)
        raise ZeroDivisionError

    def do(site: Site) -> StepReport:
        others.set()
        return DONE

    acts = [Act(1, Mode.BESIDE, do=do), Act(2, Mode.BESIDE, do=fail)]
    with pytest.raises(ZeroDivisionError):
        executor(journal, size=2).run(acts)
    assert ("done", 1) in journal.events


def test_the_first_failure_interrupts_those_beside_it() -> None:
    """What runs is told to stop, and what waits does not begin."""

    def wait(site: Site) -> StepReport:
        return DONE if site.stop.wait(timeout=30) else FAILED

    journal = Journal()
    acts = [Act(n, Mode.BESIDE, do=wait if n != 2 else lambda site: FAILED) for n in range(1, 6)]
    acts.append(Act(6))
    at_work = executor(journal, size=2)
    assert not at_work.run(acts)
    assert journal.events == [("began", 1), ("began", 2), ("failed", 2)]
    assert (at_work.failed, at_work.running) == ([2], [1])


@pytest.mark.parametrize("size", [1, 3])
def test_a_judgement_keeps_no_other_one_from_being_made(size: int) -> None:
    """What judges is done to the end; what changes something does not begin any more."""
    journal = Journal()
    acts = [
        Act(1, Mode.BESIDE),
        Act(2, Mode.BESIDE, only_judges=True, after=[1], do=lambda site: FAILED),
        Act(3, Mode.BESIDE, only_judges=True, after=[1], do=lambda site: FAILED),
        Act(4, Mode.BESIDE, after=[2]),
        Act(5, Mode.BESIDE, only_judges=True, after=[4]),
        Act(6, Mode.BESIDE, after=[3]),
        Act(7, Mode.BESIDE, only_judges=True, after=[1]),
        Act(8),
    ]
    at_work = executor(journal, size=size)
    assert not at_work.run(acts)
    assert [act.number for act in acts if act.performed] == [1, 2, 3, 7]
    assert (sorted(at_work.failed), at_work.running) == ([2, 3], [])


@pytest.mark.parametrize("size", [1, 3])
def test_a_failure_holds_back_only_what_needs_it(size: int) -> None:
    """What is independent goes on, also where it began later."""
    journal = Journal()
    acts = [
        Act(1, Mode.BESIDE, holds_back=True, stops_on_failure=False, do=lambda site: FAILED),
        Act(2, Mode.BESIDE, holds_back=True, stops_on_failure=False, after=[1]),
        Act(3, Mode.BESIDE, holds_back=True, stops_on_failure=False),
        Act(4, Mode.BESIDE, holds_back=True, stops_on_failure=False, after=[3]),
        Act(5, Mode.BESIDE, holds_back=True, stops_on_failure=False, after=[2, 4]),
    ]
    at_work = executor(journal, size=size)
    assert at_work.run(acts)
    assert [act.number for act in acts if act.performed] == [1, 3, 4]
    assert at_work.failed == [1]


def two_that_wait(
    sites: list[Site], begin: Callable[[object], None], at_work: threading.Event
) -> None:
    """Two actions beside each other that work until they are interrupted."""

    def wait(site: Site) -> StepReport:
        at_work.set()
        site.stop.wait()
        return FAILED

    perform_beside(
        sites,
        [Act(1, Mode.BESIDE, do=wait), Act(2, Mode.BESIDE, do=wait)],
        {1: [], 2: []},
        may_begin=lambda act: True,
        begin=begin,
        perform=lambda act, site: act.perform(site),
        end=lambda ended: True,
        idle=_nothing,
        interrupt=lambda site: site.stop.set(),
    )


def test_ctrl_c_while_an_action_begins_interrupts_what_is_at_work() -> None:
    """It may come between handing over an action and knowing of it."""
    at_work, sites = threading.Event(), [Site(), Site()]

    def begin(act: object) -> None:
        assert isinstance(act, Act)
        if act.number == 2:
            at_work.wait()
            raise KeyboardInterrupt

    with pytest.raises(KeyboardInterrupt):
        two_that_wait(sites, begin, at_work)
    assert all(site.stop.is_set() for site in sites)


def test_a_signal_raises_where_the_caller_waits_and_nowhere_else() -> None:
    """What takes locks of threads is never left in the middle, or all would wait for ever."""
    sites, got_on = [Site(), Site()], []

    def begin(act: object) -> None:
        assert isinstance(act, Act)
        if act.number == 1:
            signal.raise_signal(signal.SIGINT)
        got_on.append(act.number)

    before = signal.getsignal(signal.SIGINT)
    signal.signal(signal.SIGINT, signal.default_int_handler)
    try:
        with pytest.raises(KeyboardInterrupt):
            two_that_wait(sites, begin, threading.Event())
        assert signal.getsignal(signal.SIGINT) is signal.default_int_handler
    finally:
        signal.signal(signal.SIGINT, before)
    assert got_on == [1, 2]
    assert all(site.stop.is_set() for site in sites)


def test_a_crew_that_is_closed_interrupts_what_it_was_handed_and_begins_nothing() -> None:
    """Whether or not the caller still knows of it."""
    site, begun = Site(), threading.Event()

    def wait(act: object, site: Site) -> StepReport:
        begun.set()
        site.stop.wait()
        return DONE

    crew = Crew([site], wait)
    thread = threading.Thread(target=crew.work, args=[Act(1)])
    thread.start()
    begun.wait()
    crew.close(lambda site: site.stop.set())
    thread.join()
    assert crew.work(Act(2)).state is StepState.WAITING


@pytest.mark.timeout(30)
def test_a_signal_is_heard_that_does_not_end_the_wait() -> None:
    """As one in the instant before the wait: here another thread is the one that it interrupts."""
    waits = threading.Event()

    def press_ctrl_c() -> None:
        waits.wait()
        time.sleep(0.1)  # if the wait has not begun by then, the signal is heard even so
        signal.pthread_kill(threading.get_ident(), signal.SIGINT)

    thread = threading.Thread(target=press_ctrl_c)
    thread.start()
    # whoever started the tests in the background had Ctrl-C ignored for all of them
    before = signal.signal(signal.SIGINT, signal.default_int_handler)
    try:
        with signals_deferred() as deferred:
            waits.set()
            with pytest.raises(KeyboardInterrupt):
                deferred.get(_nothing)
    finally:
        signal.signal(signal.SIGINT, before)
    thread.join()


def test_what_takes_effect_together_is_done_in_one_call() -> None:
    """All of them begin before it, and end after it, in one time."""
    journal = Journal()
    acts = [Act(1), Act(2, Mode.TOGETHER), Act(3, Mode.TOGETHER), Act(4)]
    assert executor(journal).run(acts)
    assert acts[1].performed == [2, 3]
    assert acts[2].performed == []
    assert [event for event in journal.events if event[1] in {2, 3}] == [
        ("began", 2),
        ("began", 3),
        ("done", 2),
        ("done", 3),
    ]


def test_a_refusal_fails_all_that_would_have_taken_effect_together() -> None:
    """With the words of the refusal, and what to do next."""

    def refuse(site: Site) -> StepReport:
        raise TargetError("it cannot be.", next="Wait.")

    journal = Journal()
    at_work = executor(journal)
    assert not at_work.run([Act(1, Mode.TOGETHER, do=refuse), Act(2, Mode.TOGETHER), Act(3)])
    assert at_work.failed == [1, 2]
    assert ("began", 3) not in journal.events


def test_going_on_does_only_what_is_left() -> None:
    """What is over stays over; what took effect unheard is journalled, and not done again."""
    journal = Journal({1: StepState.DONE, 2: StepState.NOTHING_CHECKED, 3: StepState.RUNNING})
    journal.effects = {3}
    acts = [Act(number) for number in range(1, 6)]
    assert executor(journal).run(acts)
    assert [act.performed for act in acts] == [[], [], [], [4], [5]]
    assert journal.events[0] == ("done", 3)


@pytest.mark.parametrize(("stops", "performed"), [(True, [1, 2]), (False, [1, 2, 3])])
def test_a_failure_stops_or_is_gone_past(stops: bool, performed: list[int]) -> None:
    """As the action says; what needs success before it is left out."""
    journal = Journal()
    acts = [
        Act(1),
        Act(2, stops_on_failure=stops, do=lambda site: FAILED),
        Act(3),
        Act(4, needs_success=True),
    ]
    at_work = executor(journal)
    assert at_work.run(acts) is not stops
    assert [act.number for act in acts if act.performed] == performed
    assert at_work.failed == [2]


def test_what_has_to_be_made_ready_first_can_fail() -> None:
    """Then none of those beside it begins."""

    def refuse() -> None:
        raise TargetError("there is no room.")

    journal = Journal()
    acts = [Act(1, Mode.BESIDE), Act(2, Mode.BESIDE, ready=refuse)]
    at_work = executor(journal)
    assert not at_work.run(acts)
    assert journal.events == [("began", 2), ("failed", 2)]
    assert acts[0].performed == []
