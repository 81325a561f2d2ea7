"""The executor: carries out a graph of actions, with a journal.

It knows actions, and neither what they are about nor why they come in this order. Actions come in
the order of their numbers, each when all before it have ended, with two exceptions that an action
declares itself: some may run *beside* each other, each as soon as those that it needs have ended;
and some take effect *together*, in one call that does all of them or none.

The journal hears of every action before it begins and after it ended, in the thread that called
the executor; only the actions themselves run in other threads. An action that failed stops those
that run beside it, unless they only judge, as it does; whether later ones are tried all the same,
it says itself. Where actions are independent of each other, a failure holds back only those that
need the one that failed.
"""

from __future__ import annotations

import time
from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import AbstractContextManager
from enum import StrEnum
from graphlib import TopologicalSorter
from itertools import groupby, takewhile
from queue import SimpleQueue
from threading import Condition
from typing import Generic, Protocol, TypeVar

from msgspec import Struct, field
from msgspec.structs import replace

from inchworm.core.errors import InchwormError
from inchworm.core.execution import StepReport, StepState
from inchworm.engine.deferred import signals_deferred

Site = TypeVar("Site")
"""Where actions are performed: a connection, and all that belongs to it."""
_Site = TypeVar("_Site", contravariant=True)

_PATIENCE = 0.2
"""Seconds between two attempts to interrupt a statement that may only just have begun."""


class Mode(StrEnum):
    """How an action goes with those next to it."""

    ALONE = "alone"
    BESIDE = "beside"
    """It may run at the same time as its neighbours of this mode."""
    TOGETHER = "together"
    """It takes effect with its neighbours of this mode in one call, or not at all."""


class Action(Protocol[_Site]):
    """One thing to do."""

    @property
    def number(self) -> int:
        """Its place in the order; different for every action of a graph."""
        ...

    @property
    def mode(self) -> Mode:
        """How it goes with those next to it."""
        ...

    @property
    def stops_on_failure(self) -> bool:
        """Whether nothing after it is tried once it has failed."""
        ...

    @property
    def needs_success(self) -> bool:
        """Whether it is left out when anything before it has failed."""
        ...

    @property
    def holds_back(self) -> bool:
        """Whether its failure keeps only those beside it from beginning that need it."""
        ...

    @property
    def only_judges(self) -> bool:
        """Whether it only looks: its failure keeps no other one beside it from looking, too."""
        ...

    def needs(self, site: _Site) -> Collection[int]:
        """Among those that may run beside it, the numbers of those that have to end before."""
        ...

    def make_ready(self, site: _Site) -> None:
        """Do what has to be done before it, and those beside it, begin; in the caller's thread.

        Raises:
            InchwormError: when that fails.
        """
        ...

    def perform(self, site: _Site) -> StepReport:
        """Do it.

        Raises:
            InchwormError: when it fails; then it had no effect.
        """
        ...

    def perform_together(self, others: Sequence[int], site: _Site) -> list[StepReport]:
        """Do it and the actions of these numbers behind it, all or none; a report of each.

        Raises:
            InchwormError: when one of them fails; then none had an effect.
        """
        ...


class Journal(Protocol):
    """Hears what happens, and knows what happened before."""

    def state(self, number: int) -> StepState:
        """How an action stood when the graph was stopped, if it was."""
        ...

    def took_effect(self, number: int) -> bool:
        """Whether an action took effect although nobody heard how it ended."""
        ...

    def began(self, numbers: Sequence[int]) -> None:
        """Actions begin."""
        ...

    def ended(self, reports: Mapping[int, StepReport]) -> None:
        """Actions have ended."""
        ...

    def settle(self) -> None:
        """Nothing else may be heard for long: whoever looks now has to see what runs."""
        ...


class Executor(Struct, Generic[Site], kw_only=True):
    """Carries out actions at a site.

    Attributes:
        site: where actions are performed, unless they run beside each other.
        crew: opens up to so many sites that can be worked at the same time, ``site`` first.
        interrupt: has what runs at a site fail now; called from another thread.
        seconds: a clock that only runs forward.
        failed: numbers of the actions that failed.
        running: numbers of the actions that have begun and not ended.
    """

    site: Site
    journal: Journal
    crew: Callable[[int], AbstractContextManager[Sequence[Site]]]
    interrupt: Callable[[Site], None]
    seconds: Callable[[], float] = time.monotonic
    failed: list[int] = field(default_factory=list)
    running: list[int] = field(default_factory=list)

    def run(self, actions: Sequence[Action[Site]]) -> bool:
        """Carry out what is not done yet.

        Returns:
            Whether the end was reached, with or without failures behind it.

        Raises:
            KeyboardInterrupt: after what ran has been interrupted.
        """
        for mode, group in self._outstanding(actions):
            if self.failed:
                group = [action for action in group if not action.needs_success]
            if not group:
                continue
            if mode is Mode.BESIDE and len(group) > 1:
                failed = self._beside(group)
            elif mode is Mode.TOGETHER:
                failed = self._together(group)
            else:
                failed = self._one(group[0])
            if failed is not None and failed.stops_on_failure:
                return False
        return True

    def _outstanding(
        self, actions: Sequence[Action[Site]]
    ) -> Iterator[tuple[Mode, list[Action[Site]]]]:
        """The actions not done yet; neighbours of one mode as one group, any other alone."""
        left: list[Action[Site]] = []
        for action in sorted(actions, key=lambda action: action.number):
            if self.journal.state(action.number).is_over:
                continue
            if self.journal.took_effect(action.number):
                report = StepReport(state=StepState.DONE, message="took effect before")
                self.journal.ended({action.number: report})
                continue
            left.append(action)
        for mode, group in groupby(left, key=lambda action: action.mode):
            if mode is Mode.ALONE:
                yield from ((mode, [action]) for action in group)
            else:
                yield mode, list(group)

    def _one(self, action: Action[Site]) -> Action[Site] | None:
        """Do an action; the action itself if it failed."""
        self._begin([action])
        self.journal.settle()
        failed = self._end((action, self._performed(action, self.site, make_ready=True)))
        return failed[0] if failed else None

    def _together(self, actions: Sequence[Action[Site]]) -> Action[Site] | None:
        """Do actions that take effect together; the first of them if they failed."""
        first, *others = actions
        self._begin(actions)
        self.journal.settle()
        started = self.seconds()
        try:
            reports = first.perform_together([other.number for other in others], self.site)
        except InchwormError as error:
            reports = [_failure(error)] * len(actions)
        taken = self.seconds() - started
        timed = [replace(report, seconds=taken) for report in reports]
        failed = self._end(*zip(actions, timed, strict=True))
        return failed[0] if failed else None

    def _beside(self, actions: Sequence[Action[Site]]) -> Action[Site] | None:
        """Do actions at several sites; the first one that failed."""
        for action in actions:
            try:
                action.make_ready(self.site)
            except InchwormError as error:
                self._begin([action])
                return self._end((action, _failure(error)))[0]
        failed: list[Action[Site]] = []

        def end(ended: Sequence[tuple[Action[Site], StepReport]]) -> bool:
            failed.extend(self._end(*ended))
            return all(each.only_judges or each.holds_back for each in failed)

        needs = {action.number: action.needs(self.site) for action in actions}
        with self.crew(most_beside(needs)) as sites:
            perform_beside(
                sites,
                actions,
                needs,
                may_begin=lambda action: not failed or action.only_judges or action.holds_back,
                begin=lambda action: self._begin([action]),
                perform=self._performed,
                end=end,
                idle=self.journal.settle,
                interrupt=self.interrupt,
            )
        return failed[0] if failed else None

    def _performed(
        self, action: Action[Site], site: Site, *, make_ready: bool = False
    ) -> StepReport:
        """How an action ended, and how long it took."""
        started = self.seconds()
        try:
            if make_ready:
                action.make_ready(site)
            report = action.perform(site)
        except InchwormError as error:
            report = _failure(error)
        return replace(report, seconds=self.seconds() - started)

    def _begin(self, actions: Sequence[Action[Site]]) -> None:
        numbers = [action.number for action in actions]
        self.running += numbers
        self.journal.began(numbers)

    def _end(self, *ended: tuple[Action[Site], StepReport]) -> list[Action[Site]]:
        """Journal how actions ended, all at once; those of them that failed."""
        for action, _ in ended:
            self.running.remove(action.number)
        self.journal.ended({action.number: report for action, report in ended})
        failed = [action for action, report in ended if report.state is StepState.FAILED]
        self.failed += [action.number for action in failed]
        return failed


def _failure(error: InchwormError) -> StepReport:
    message = f"{error.what} {error.next or ''}".strip()
    return StepReport(state=StepState.FAILED, message=message)


def most_beside(needs: Mapping[int, Collection[int]]) -> int:
    """A number that is at least how many actions can be at work at the same time.

    Actions are laid in chains, each of which needs the one before: of a chain, one is at work.

    Args:
        needs: for each action by its number, those that have to end before.
    """
    last_of_chains: set[int] = set()
    for number, before in needs.items():
        followed = next((each for each in before if each in last_of_chains), number)
        last_of_chains.discard(followed)
        last_of_chains.add(number)
    return len(last_of_chains)


def perform_beside(
    sites: Sequence[Site],
    actions: Sequence[Action[Site]],
    needs: Mapping[int, Collection[int]],
    *,
    may_begin: Callable[[Action[Site]], bool],
    begin: Callable[[Action[Site]], None],
    perform: Callable[[Action[Site], Site], StepReport],
    end: Callable[[Sequence[tuple[Action[Site], StepReport]]], bool],
    idle: Callable[[], None],
    interrupt: Callable[[Site], None],
) -> None:
    """Perform actions, each when all that it needs has ended, one at a time at each site.

    Args:
        sites: where they are performed.
        actions: the actions.
        needs: for each by its number, those that have to end before; others do not count.
        may_begin: whether an action is still to be done, now that others have ended; one that is
            not is left, with all that need it.
        begin: hears that an action begins.
        perform: performs an action; called in other threads.
        end: hears how actions ended, of all at once that have ended by then, and says whether to
            go on. If not, what still runs is interrupted, and nothing more is heard of it.
        idle: hears that for half a second nothing has begun or ended.
        interrupt: has what runs at a site fail now.
    """
    by_number = {action.number: action for action in actions}
    order = TopologicalSorter(
        {action.number: by_number.keys() & set(needs[action.number]) for action in actions}
    )
    order.prepare()
    crew = Crew(sites, perform)
    running = 0
    waiting: list[int] = []

    def work(action: Action[Site]) -> None:
        try:
            outcome: StepReport | BaseException = crew.work(action)
        except BaseException as error:  # the caller raises it
            outcome = error
        deferred.queue.put(Ended(action, outcome))

    with signals_deferred() as deferred, ThreadPoolExecutor(len(sites)) as pool:
        try:
            while order.is_active():
                waiting = sorted([*waiting, *order.get_ready()])
                while waiting and running < len(sites):
                    action = by_number[waiting.pop(0)]
                    if may_begin(action):
                        begin(action)
                        pool.submit(work, action)
                        running += 1
                if not running:
                    return  # what is left waits for what is not done any more
                came = deferred.get(idle)
                running -= len(came)
                ended = [(each.action, each.report()) for each in takewhile(Ended.has_report, came)]
                if ended and not end(ended):
                    return
                for action, report in ended:
                    if report.state is not StepState.FAILED or not action.holds_back:
                        order.done(action.number)
                for each in came[len(ended) :]:
                    each.report()  # it raises what the action ended with
        finally:
            crew.close(interrupt)


class Ended(Struct, Generic[Site], frozen=True):
    """An action that has ended in another thread: with a report, or an error of ours."""

    action: Action[Site]
    outcome: StepReport | BaseException

    def has_report(self) -> bool:
        """Whether it ended with a report."""
        return isinstance(self.outcome, StepReport)

    def report(self) -> StepReport:
        """How it ended.

        Raises:
            BaseException: what it ended with, where that was no report.
        """
        if isinstance(self.outcome, BaseException):
            raise self.outcome
        return self.outcome


class Crew(Generic[Site]):
    """Sites at which actions are performed in other threads, one at a time at each.

    Which of them are at work is counted where the work is done. Ctrl-C can come between any two
    steps of the caller, who may then not know of work that it has just handed over.
    """

    def __init__(
        self, sites: Sequence[Site], perform: Callable[[Action[Site], Site], StepReport]
    ) -> None:
        self._sites = sites
        self._perform = perform
        self._free: SimpleQueue[Site] = SimpleQueue()
        for site in sites:
            self._free.put(site)
        self._at_work = 0
        self._is_closed = False
        self._changed = Condition()

    def work(self, action: Action[Site]) -> StepReport:
        """Perform an action, unless the crew has been closed."""
        with self._changed:
            if self._is_closed:
                return StepReport(state=StepState.WAITING)
            self._at_work += 1
        site = self._free.get()
        try:
            return self._perform(action, site)
        finally:
            self._free.put(site)
            with self._changed:
                self._at_work -= 1
                self._changed.notify_all()

    def close(self, interrupt: Callable[[Site], None]) -> None:
        """Begin nothing more, and interrupt what is at work until nothing is."""
        with self._changed:
            self._is_closed = True
        while self._at_work:
            for site in self._sites:
                interrupt(site)
            with self._changed:
                self._changed.wait_for(lambda: not self._at_work, timeout=_PATIENCE)
