"""Schedules: whether they are on, when they are due next, and how the last run ended."""

from __future__ import annotations

import datetime as dt
from collections.abc import Iterator, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from typing import Any

from msgspec import Struct, field

from inchworm.application.workplace import Workplace
from inchworm.core.environments.environment import Environment
from inchworm.core.errors import InchwormError
from inchworm.core.identifiers import Kind, PartId
from inchworm.core.ledger.runs import RunsAsked, RunSummary
from inchworm.core.lineage.facts import Scheduled
from inchworm.core.promotion.composition import CompletedPromotion
from inchworm.core.running.copying import ListedFile
from inchworm.core.running.pauses import Pause, pause_of, paused_until
from inchworm.core.running.schedules import Missed, next_times
from inchworm.core.running.states import RunState
from inchworm.engine.connections import is_shared
from inchworm.engine.running.arrivals import files_waiting

_SHOWN = 3
_AT_ONCE = 8


class LiveSchedule(Struct, frozen=True, kw_only=True):
    """A schedule as an environment's workspace has it.

    Attributes:
        state: ``on``, ``off`` or ``paused``.
        pause: that which keeps it from starting anything; None where none does.
        paused_until: when its last pause ended.
    """

    pipeline: PartId
    scheduled: Scheduled
    missed: Missed
    state: str
    pause: Pause | None = None
    paused_until: dt.datetime | None = None

    @property
    def starts(self) -> bool:
        """Whether it starts what is due."""
        return self.state == "on" and self.pause is None

    @property
    def shown_state(self) -> str:
        """Its state to a person: one that is on and starts nothing now is paused."""
        return "paused" if self.state == "on" and self.pause is not None else self.state

    @property
    def name(self) -> str:
        """``pipeline.schedule``."""
        return f"{self.pipeline.name}.{self.scheduled.name}"


class ScheduleStatus(Struct, frozen=True, kw_only=True):
    """A schedule, the next times at which it is due, and the last run of its pipeline there.

    Attributes:
        due: in UTC; none of a schedule that is not on.
    """

    environment: str
    schedule: LiveSchedule
    due: tuple[dt.datetime, ...]
    last: RunSummary | None


class Schedules(Struct, frozen=True, kw_only=True):
    """The schedules of environments.

    Attributes:
        problems: by environment, why its schedules could not be read.
        ahead: by environment, by how much the clock is moved by which its schedules are due.
    """

    schedules: list[ScheduleStatus]
    problems: dict[str, str]
    ahead: dict[str, dt.timedelta]


def schedules(workplace: Workplace, environment: str | None = None) -> Schedules:
    """The schedules of all environments, or of one.

    Raises:
        UsageError: when there is no environment of that name.
    """
    project = workplace.project
    chosen = [project.environment(environment)] if environment else project.environments
    problems: dict[str, str] = {}
    ahead: dict[str, dt.timedelta] = {}

    def read(each: Environment) -> list[LiveSchedule]:
        try:
            live = read_live(workplace, each)
        except InchwormError as error:
            problems[each.name] = str(error)
            return []
        ahead[each.name] = live.ahead
        return list(live.schedules)

    with ThreadPoolExecutor(_AT_ONCE) as pool:
        of_environments = list(pool.map(read, chosen))
    last = {(run.environment, run.subject): run for run in workplace.ledger.runs()}
    now = workplace.clock()
    return Schedules(
        schedules=[
            ScheduleStatus(
                environment=each.name,
                schedule=schedule,
                due=tuple(next_times(schedule.scheduled, now + ahead[each.name], _SHOWN))
                if schedule.starts
                else (),
                last=last.get((each.name, schedule.pipeline)),
            )
            for each, its in zip(chosen, of_environments, strict=True)
            for schedule in its
        ],
        problems=problems,
        ahead=ahead,
    )


class LiveEnvironment(Struct, frozen=True, kw_only=True):
    """An environment as its own database and workspace tell of it.

    Attributes:
        last: the promotion that is live; None where nothing was promoted.
        due_times: by schedule, the latest due time for which a run began.
        flows: the state of each flow at the gateway, by its name.
        ended: when the last run of each pipeline that succeeded there ended.
        arrived: by flow, the files that a schedule waits for and that were not taken yet.
        troubles: why files that a schedule waits for could not be looked for.
        ahead: by how much the clock is moved by which schedules are due; that of a simulated
            workspace can be.
    """

    environment: Environment
    last: CompletedPromotion | None
    schedules: tuple[LiveSchedule, ...]
    due_times: Mapping[str, dt.datetime]
    flows: Mapping[str, str] = field(default_factory=dict)
    ended: Mapping[PartId, dt.datetime] = field(default_factory=dict)
    arrived: Mapping[str, Sequence[ListedFile]] = field(default_factory=dict)
    troubles: tuple[str, ...] = ()
    ahead: dt.timedelta = dt.timedelta()


def read_live(workplace: Workplace, environment: Environment) -> LiveEnvironment:
    """What is live in an environment, with its schedules.

    Raises:
        TargetError: when it cannot be reached.
    """
    with workplace.opened(environment) as place:
        states = place.workspace.schedules()
        pipelines = [part for part in place.workspace.items() if part.kind is Kind.PIPELINE]
        documents = {part: place.workspace.document(part) for part in pipelines}
        last = place.bookkeeping.last()
        due = place.bookkeeping.due_times()
        ahead = place.workspace.ahead()
        items = place.gateway.items()
        pauses, now = place.bookkeeping.pauses(), workplace.clock()
        schedules = sorted(_schedules(documents, states, pauses, now), key=lambda each: each.name)
        waiting = {s.scheduled.arrives for s in schedules if s.starts} - {""}
        arrived, troubles = files_waiting(
            waiting, place, environment, workplace.machine, workplace.clock()
        )
    return LiveEnvironment(
        environment=environment,
        last=last,
        schedules=tuple(schedules),
        due_times={name: dt.datetime.fromisoformat(at) for name, at in due.items()},
        flows={p.name: item.state for p, item in items.items() if p.kind is Kind.FLOW},
        ended=_ended(workplace, environment) if any(s.scheduled.after for s in schedules) else {},
        arrived=arrived,
        troubles=troubles,
        ahead=ahead,
    )


def can_be_shared(workplace: Workplace, environment: Environment) -> bool:
    """Whether several runs can be at work in an environment at a time; nothing is opened for it.

    Raises:
        InchwormError: when the address of its database lacks a value.
    """
    return is_shared(environment, workplace.values(environment))


def _ended(workplace: Workplace, environment: Environment) -> dict[PartId, dt.datetime]:
    """When the last run of each pipeline that succeeded in an environment ended."""
    return {
        run.subject: dt.datetime.fromisoformat(run.changed_at)
        for run in workplace.ledger.runs(
            RunsAsked(environment=environment.name, state=RunState.DONE)
        )
    }


def _schedules(
    documents: Mapping[PartId, Mapping[str, Any]],
    states: Mapping[str, str],
    pauses: Sequence[Pause],
    now: dt.datetime,
) -> Iterator[LiveSchedule]:
    for pipeline, document in documents.items():
        for name, settings in document.get("schedules", {}).items():
            yield LiveSchedule(
                pipeline=pipeline,
                scheduled=Scheduled(
                    name,
                    settings.get("cron", ""),
                    settings.get("timezone", "UTC"),
                    settings.get("after", ""),
                    settings.get("arrives", ""),
                ),
                missed=Missed(settings.get("missed", Missed.RUN_ONCE)),
                state=states.get(f"{pipeline.name}.{name}", "off"),
                pause=pause_of(pauses, pipeline, f"{pipeline.name}.{name}", now),
                paused_until=paused_until(pauses, pipeline, f"{pipeline.name}.{name}"),
            )
