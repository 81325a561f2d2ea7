"""The host at work: it watches environments, starts runs as processes, and waits for them.

A run is a process of its own, the same that ``inchworm run`` is: it takes the environment's locks,
takes the due time in the environment's database so that no other host runs it too, and records how
it ended. So a host that is killed loses nothing but its watch.
"""

from __future__ import annotations

import datetime as dt
import subprocess
import threading
from collections import deque
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace

from inchworm.application.schedules import LiveEnvironment, read_live
from inchworm.application.workplace import Workplace
from inchworm.core.errors import InchwormError, UsageError
from inchworm.core.running.copying import ListedFile
from inchworm.host.scheduling import Job, jobs_due

_LOOK = 15.0
"""Seconds between two looks at an environment."""

_BUSY = 4
"""The exit code of a run that found the environment moved, or somebody else at work."""


@dataclass(frozen=True, kw_only=True)
class Watched:
    """An environment as the host saw it last.

    Attributes:
        live: None where it could not be read yet.
        problem: why it could not be read at the last look.
        job: the run that is at work there.
        began: when that began.
    """

    name: str
    live: LiveEnvironment | None = None
    problem: str = ""
    job: Job | None = None
    began: dt.datetime | None = None


@dataclass
class Host:
    """Watches environments, and starts what is due there, one run at a time in each.

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
    _watched: dict[str, Watched] = field(default_factory=dict)
    _called: dict[str, deque[Job]] = field(default_factory=dict)
    _lock: threading.Lock = field(default_factory=threading.Lock)
    _stopping: threading.Event = field(default_factory=threading.Event)
    _threads: list[threading.Thread] = field(default_factory=list)
    _processes: dict[str, subprocess.Popen[str]] = field(default_factory=dict)

    def begin(self) -> None:
        """Watch each environment in a thread of its own.

        Raises:
            UsageError: when there is no environment of a name.
        """
        project = self.workplace().project
        for name in self.names:
            declared = project.environment(name).name
            self._watched[declared] = Watched(name=declared)
            self._called[declared] = deque()
        for name in self._watched:
            thread = threading.Thread(target=self._watch, args=[name], name=f"watch {name}")
            thread.start()
            self._threads.append(thread)

    def stop(self) -> None:
        """Start nothing more, and wait for what runs; what takes too long is stopped."""
        self._stopping.set()
        for process in list(self._processes.values()):
            try:
                process.wait(self.patience)
            except subprocess.TimeoutExpired:
                process.terminate()
        for thread in self._threads:
            thread.join()

    def watched(self) -> list[Watched]:
        """The environments as they were seen last."""
        with self._lock:
            return list(self._watched.values())

    def call(self, environment: str, name: str) -> None:
        """Have something run as soon as nothing else runs there.

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

    # ---- one environment ----------------------------------------------------------------------

    def _watch(self, name: str) -> None:
        since = self.workplace().clock()
        considered: dict[str, dt.datetime] = {}
        tried: dict[str, frozenset[ListedFile]] = {}
        while not self._stopping.is_set():
            if (job := self._next_call(name)) is not None:
                self._run(job)
                continue
            self._look(name)
            has_run = False
            watched = self._watched[name]
            if watched.live is not None and not watched.problem:
                for schedule, due, runs in jobs_due(
                    watched.live, since, self.workplace().clock(), considered, tried
                ):
                    if not runs:
                        self.say(f"{name}: {schedule.name} of {due.isoformat()} was missed")
                        considered[schedule.name] = due
                        continue
                    job = Job(
                        environment=name,
                        name=str(schedule.pipeline),
                        schedule=schedule.name,
                        due=due,
                    )
                    if self._run(job) != _BUSY:
                        has_run = True  # its end may start another one: look again at once
                        considered[schedule.name] = due
                        files = watched.live.arrived.get(schedule.scheduled.arrives, ())
                        tried[schedule.name] = frozenset(files)
            if not has_run:
                self._wait(name)

    def _wait(self, name: str) -> None:
        """Wait until it is time to look again, or somebody calls for a run."""
        waited = 0.0
        while waited < _LOOK and not self._called[name] and not self._stopping.wait(_STEP):
            waited += _STEP

    def _next_call(self, name: str) -> Job | None:
        with self._lock:
            return self._called[name].popleft() if self._called[name] else None

    def _look(self, name: str) -> None:
        """See what is live there. What cannot be read now is read at the next look."""
        workplace = self.workplace()
        try:
            live = read_live(workplace, workplace.project.environment(name))
        except InchwormError as error:
            self._note(name, problem=str(error))
        else:
            self._note(name, live=live, problem="")

    def _run(self, job: Job) -> int:
        """Start a run, and wait for its end; its exit code."""
        began = self.workplace().clock()
        self._note(job.environment, job=job, began=began)
        self.say(
            f"{job.environment}: {job.name} begins{f' ({job.schedule})' if job.schedule else ''}"
        )
        try:
            process = self.start(job.arguments)
        except OSError as error:  # no memory, no processes: later there may be
            self._note(job.environment, job=None, began=None)
            self.say(f"{job.environment}: {job.name} cannot begin: {error}")
            return _BUSY
        self._processes[job.environment] = process
        _, err = process.communicate()
        del self._processes[job.environment]
        self._note(job.environment, job=None, began=None)
        complaint = " ".join(err.split())
        self.say(
            f"{job.environment}: {job.name} ended with {process.returncode} {complaint}".rstrip()
        )
        return process.returncode

    def _note(self, name: str, **changed: object) -> None:
        with self._lock:
            self._watched[name] = replace(self._watched[name], **changed)  # type: ignore[arg-type]


_STEP = 0.5
"""Seconds between two looks at whether somebody called."""
