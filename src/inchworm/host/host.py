"""The host at work: it watches environments, starts runs as processes, and waits for them.

A run is a process of its own, the same that ``inchworm run`` is: it takes the environment's locks,
takes the due time in the environment's database so that no other host runs it too, and records how
it ended. So a host that is killed loses nothing but its watch.
"""

from __future__ import annotations

import datetime as dt
import subprocess
import threading
import time
from collections import defaultdict, deque
from collections.abc import Callable, Sequence
from functools import partial

from msgspec import Struct, field
from msgspec.structs import replace

from inchworm.application.schedules import LiveEnvironment, can_be_shared, read_live
from inchworm.application.workplace import Workplace
from inchworm.core.errors import InchwormError, UsageError
from inchworm.core.ledger.runs import RunsAsked
from inchworm.core.running.copying import ListedFile
from inchworm.host.scheduling import Job, jobs_due

_LOOK = 15.0
"""Seconds between two looks at an environment."""

_PAUSE = 60.0

_UNKNOWN = 2
"""The exit code of the program where it is asked for something that is not there."""

_BEGAN = frozenset({0, 5})
"""Exit codes of runs that are done, and partly done."""

_MOST_NOT_BEGUN = 10
"""Runs that could not begin that an environment tells of, the latest ones."""

_AT_ONCE = 8
"""How many runs are at work at a time in an environment whose database can be shared."""


class AtWork(Struct, frozen=True, kw_only=True):
    """A run that the host has started, and when."""

    job: Job
    began: dt.datetime


class NotBegun(Struct, frozen=True, kw_only=True):
    """A run that was due, or called for, and could not begin: no record tells of it.

    Attributes:
        at: when it was tried last.
        why: what kept it, in a line.
        is_tried_again: whether it may begin later; not where nobody knows what it is to run.
    """

    job: Job
    at: dt.datetime
    why: str
    is_tried_again: bool


class Watched(Struct, frozen=True, kw_only=True):
    """An environment as the host saw it last.

    Attributes:
        live: None where it could not be read yet.
        is_shared: whether several runs can be at work there at a time.
        problem: why it could not be read at the last look.
        jobs: the runs that are at work there.
        not_begun: those that could not begin, the latest first, each until the same begins for the
            same reason.
    """

    name: str
    live: LiveEnvironment | None = None
    is_shared: bool = False
    problem: str = ""
    jobs: tuple[AtWork, ...] = ()
    not_begun: tuple[NotBegun, ...] = ()


class _Considered(Struct):
    """What the host has dealt with already, by schedule: the latest due time, and files."""

    times: dict[str, dt.datetime] = field(default_factory=dict)
    files: dict[str, frozenset[ListedFile]] = field(default_factory=dict)
    since: dt.datetime | None = None
    """When the host began to watch, by the clock of the environment."""
    _ahead: dt.timedelta = dt.timedelta()

    def go_by(self, ahead: dt.timedelta, began: dt.datetime, now: dt.datetime) -> None:
        """Go by a clock that is moved by so much; from anew where it was put back."""
        if self.since is None:
            self.since = began + ahead
        elif ahead < self._ahead:
            since = self.since = now + ahead
            self.times = {name: time for name, time in self.times.items() if time <= since}
        self._ahead = ahead

    def take(self, schedule: str, due: dt.datetime, files: frozenset[ListedFile]) -> None:
        """Deal with a due time, and with files."""
        self.times[schedule], self.files[schedule] = due, files

    def forget(self, schedule: str) -> None:
        """Deal with it again: nothing came of it."""
        self.times.pop(schedule, None)
        self.files.pop(schedule, None)


class Host(Struct):
    """Watches environments, and starts what is due there.

    Where a database can be shared, several runs are at work at a time: they know of each other by
    the locks of their parts. Where it cannot, there is one.

    Attributes:
        names: the environments.
        workplace: a new workplace: files of the project may have changed.
        start: starts the program with arguments.
        say: hears, in a line, what the host does.
    """

    names: Sequence[str]
    workplace: Callable[[], Workplace]
    start: Callable[[Sequence[str]], subprocess.Popen[str]]
    say: Callable[[str], None]
    patience: float = 600.0
    """Seconds that runs have to end once the host is stopped; then they are stopped, too."""
    pause: float = _PAUSE
    """Seconds until a run that could not begin is tried again."""
    _watched: dict[str, Watched] = field(default_factory=dict)
    _called: dict[str, deque[Job]] = field(default_factory=dict)
    _lock: threading.Lock = field(default_factory=threading.Lock)
    _stopping: threading.Event = field(default_factory=threading.Event)
    _woken: dict[str, threading.Event] = field(default_factory=lambda: defaultdict(threading.Event))
    """Set where there is something to do before the time of the next look."""
    _threads: list[threading.Thread] = field(default_factory=list)
    _running: list[threading.Thread] = field(default_factory=list)
    _processes: list[subprocess.Popen[str]] = field(default_factory=list)
    _is_overdue: bool = False
    """Whether what runs has had the time that it may take once the host is stopped."""

    def take_calls(self) -> None:
        """Take calls from now on; what is called for begins once the host does.

        Raises:
            UsageError: when there is no environment of a name.
        """
        project = self.workplace().project
        for name in self.names:
            declared = project.environment(name).name
            self._watched[declared] = Watched(name=declared)
            self._called[declared] = deque()

    def begin(self) -> None:
        """Watch each environment in a thread of its own; calls are taken by now."""
        for name in self._watched:
            thread = threading.Thread(target=self._watch, args=[name], name=f"watch {name}")
            thread.start()
            self._threads.append(thread)

    def stop(self) -> None:
        """Start nothing more, and wait for what runs; what takes too long is stopped."""
        self._stopping.set()
        for woken in list(self._woken.values()):
            woken.set()
        for thread in self._threads:  # which start nothing any more
            thread.join()
        until = time.monotonic() + self.patience
        for thread in self._running:
            thread.join(max(until - time.monotonic(), 0))
        with self._lock:
            self._is_overdue = True
            for process in self._processes:
                process.terminate()
        for thread in self._running:
            thread.join()

    def watched(self) -> list[Watched]:
        """The environments as they were seen last."""
        with self._lock:
            return list(self._watched.values())

    def call(self, environment: str, name: str) -> None:
        """Have something run as soon as there is room for it.

        Raises:
            UsageError: when the host does not watch that environment, or is being stopped.
        """
        with self._lock:
            if self._stopping.is_set() or environment not in self._called:
                raise UsageError(
                    f"Nothing can be run in {environment} here.",
                    next=f"Environments: {', '.join(self._called)}.",
                )
            self._called[environment].append(Job(environment=environment, name=name))
            self._woken[environment].set()

    # ---- one environment ----------------------------------------------------------------------

    def _watch(self, name: str) -> None:
        since = self.workplace().clock()
        considered = _Considered()
        while not self._stopping.is_set():
            self._woken[name].clear()
            self._see_whether_shared(name)
            if self._has_room(name):
                self._start_called(name)
            if self._has_room(name):  # a file that one process has open cannot be looked at
                self._look(name)
                self._start_due(name, since, considered)
            self._woken[name].wait(_LOOK)

    def _has_room(self, name: str) -> bool:
        """Whether another run may begin there now."""
        watched = self._watched[name]
        return len(watched.jobs) < (_AT_ONCE if watched.is_shared else 1)

    def _see_whether_shared(self, name: str) -> None:
        """See it by its address: what is at work there may keep it from being looked at."""
        workplace = self.workplace()
        try:
            is_shared = can_be_shared(workplace, workplace.project.environment(name))
        except InchwormError as error:
            self._note(name, problem=str(error))
        else:
            self._note(name, is_shared=is_shared)

    def _start_called(self, name: str) -> None:
        """Start what somebody called for, in the order of the calls, as far as there is room."""
        while self._has_room(name) and not self._stopping.is_set():
            with self._lock:
                if not self._called[name]:
                    return
                job = self._called[name].popleft()
            self._begin(job, partial(self._called[name].appendleft, job))

    def _start_due(self, name: str, since: dt.datetime, considered: _Considered) -> None:
        """Start what is due and is not at work already, as far as there is room."""
        live = self._watched[name].live
        if live is None or self._watched[name].problem:
            return
        now = self.workplace().clock()
        considered.go_by(live.ahead, since, now)
        for schedule, due, runs in list(
            jobs_due(live, since, now, considered.times, considered.files, considered.since)
        ):
            if not runs:
                self.say(f"{name}: {schedule.name} of {due.isoformat()} was missed")
                considered.times[schedule.name] = due
                continue
            pipeline = str(schedule.pipeline)
            is_at_work = any(each.job.name == pipeline for each in self._watched[name].jobs)
            if is_at_work or not self._has_room(name) or self._stopping.is_set():
                continue  # it stays due
            is_moved = bool(schedule.scheduled.cron and live.ahead)
            job = Job(
                environment=name,
                name=pipeline,
                schedule=schedule.name,
                due=None if is_moved else due,
            )
            files = frozenset(live.arrived.get(schedule.scheduled.arrives, ()))
            considered.take(schedule.name, due, files)
            self._begin(job, partial(considered.forget, schedule.name))

    def _begin(self, job: Job, again: Callable[[], None]) -> None:
        """Start a run, and wait for its end in a thread of its own.

        Args:
            job: the run.
            again: has it tried again; called where it could not begin, after a pause.
        """
        began = AtWork(job=job, began=self.workplace().clock())
        with self._lock:
            watched = self._watched[job.environment]
            self._watched[job.environment] = replace(watched, jobs=(*watched.jobs, began))
            is_new = not any(job.repeats(each.job) for each in watched.not_begun)
        if is_new:
            what = f"{job.name} begins{f' ({job.schedule})' if job.schedule else ''}"
            self.say(f"{job.environment}: {what}")

        def run() -> None:
            failed = self._run(job)
            with self._lock:
                watched = self._watched[job.environment]
                left = tuple(each for each in watched.jobs if each is not began)
                others = tuple(n for n in watched.not_begun if not job.repeats(n.job))
                not_begun = (*([failed] if failed else []), *others)[:_MOST_NOT_BEGUN]
                self._watched[job.environment] = replace(watched, jobs=left, not_begun=not_begun)
            if failed and failed.is_tried_again:
                self._stopping.wait(self.pause)
                again()
            self._woken[job.environment].set()  # its end may start another one

        thread = threading.Thread(target=run, name=f"run {job.name}")
        thread.start()
        self._running.append(thread)
        self._running[:] = [each for each in self._running if each.is_alive()]

    def _look(self, name: str) -> None:
        """See what is live there. What cannot be read now is read at the next look."""
        workplace = self.workplace()
        try:
            live = read_live(workplace, workplace.project.environment(name))
        except InchwormError as error:
            self._note(name, problem=str(error))
        else:
            self._note(name, live=live, problem="")

    def _run(self, job: Job) -> NotBegun | None:
        """Start the process of a run, and wait for its end; why it did not begin, if so."""
        recorded = self._recorded(job)
        try:
            process = self.start(job.arguments)
        except OSError as error:  # no memory, no processes: later there may be
            return self._not_begun(job, f"no process: {error}", is_tried_again=True)
        with self._lock:
            self._processes.append(process)
            if self._is_overdue:  # it was being started while the others were stopped
                process.terminate()
        _, err = process.communicate()
        with self._lock:
            self._processes.remove(process)
        code = process.returncode
        complaint = " ".join(err.split()).removeprefix("error ")
        known = self._recorded(job)
        has_begun = recorded is not None and known is not None and known > recorded
        if code < 0 or code in _BEGAN or has_begun:
            self.say(f"{job.environment}: {job.name} ended with {code} {complaint}".rstrip())
            return None
        return self._not_begun(
            job, complaint or f"exit code {code}", is_tried_again=code != _UNKNOWN
        )

    def _not_begun(self, job: Job, why: str, *, is_tried_again: bool) -> NotBegun:
        """A run that could not begin; it is said once, until the reason is another one."""
        at = self.workplace().clock()
        known = self._watched[job.environment].not_begun
        if not any(job.repeats(each.job) and each.why == why for each in known):
            more = f"; tried again every {self.pause:g} s" if is_tried_again else ""
            self.say(f"{job.environment}: {job.name} could not begin: {why}{more}")
        return NotBegun(job=job, at=at, why=why, is_tried_again=is_tried_again)

    def _recorded(self, job: Job) -> int | None:
        """How many runs of it the ledger has; None where that cannot be read."""
        try:
            ledger = self.workplace().ledger
            runs = ledger.runs(RunsAsked(environment=job.environment))
        except InchwormError:
            return None
        return sum(job.name in (str(run.subject), run.subject.name) for run in runs)

    def _note(self, name: str, **changed: object) -> None:
        with self._lock:
            self._watched[name] = replace(self._watched[name], **changed)
