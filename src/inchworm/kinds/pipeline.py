"""Pipelines: ordered steps with schedules."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, Literal

from msgspec import Struct
from pydantic import field_validator, model_validator

from inchworm.core.checks import rules
from inchworm.core.identifiers import Kind, PartId
from inchworm.core.lineage.facts import Facts, Need, Scheduled, Stage
from inchworm.core.parameters.matrix import references, substitute
from inchworm.core.parameters.values import Value, read_duration, read_size
from inchworm.core.parts import Part
from inchworm.core.rendered import Rendered, RenderedDocument
from inchworm.core.structure.tables import Table
from inchworm.core.toml import TomlDocument
from inchworm.kinds.base import Surroundings
from inchworm.kinds.settings import Report, Settings, documented, parameter_uses, read_part
from inchworm.kinds.verify_settings import Verifying, without_questions


class Schedule(Settings):
    """When a pipeline starts by itself."""

    cron: str = ""
    timezone: str = "UTC"
    missed: Literal["run once", "skip"] = "run once"
    """What becomes of times that passed while nobody ran schedules."""
    after: str = ""
    arrives: str = ""

    @model_validator(mode="after")
    def _one_start(self) -> Schedule:
        if sum(map(bool, (self.cron, self.after, self.arrives))) != 1:
            raise ValueError(
                "needs exactly one of cron = ..., after = a pipeline, or arrives = a copying flow"
            )
        return self

    def needs(self) -> tuple[str, PartId] | None:
        """The part that starts it, with the name of the setting."""
        if self.after:
            return "after", PartId(Kind.PIPELINE, self.after)
        return ("arrives", PartId(Kind.FLOW, self.arrives)) if self.arrives else None


class StepSettings(Settings):
    """One step: it builds models, runs a notebook or a flow."""

    name: str
    build: tuple[str, ...] = ()
    notebook: str | None = None
    flow: str | None = None
    after: tuple[str, ...] = ()
    timeout: str | None = None
    retries: int | str = 0
    memory: str | None = None
    threads: int | str | None = None

    @model_validator(mode="after")
    def _one_kind_of_work(self) -> StepSettings:
        if sum(map(bool, (self.build, self.notebook, self.flow))) != 1:
            raise ValueError("needs exactly one of build = [...], notebook = ... or flow = ...")
        if self.timeout is not None and not references(self.timeout):
            read_duration(self.timeout)
        if self.memory is not None and not references(self.memory):
            read_size(self.memory)
        return self

    def works_on(self) -> tuple[PartId, ...]:
        """The parts that the step builds or runs."""
        if self.notebook:
            return (PartId(Kind.NOTEBOOK, self.notebook),)
        if self.flow:
            return (PartId(Kind.FLOW, self.flow),)
        return tuple(PartId(Kind.MODEL, name.lower()) for name in self.build)


class PipelineSettings(Verifying):
    """A pipeline's file."""

    @field_validator("timeout")
    @classmethod
    def _duration(cls, timeout: str | None) -> str | None:
        if timeout is not None and not references(timeout):
            read_duration(timeout)
        return timeout

    about: str = ""
    owner: str = ""
    timeout: str | None = None
    warnings: Literal["pass", "fail"] = "pass"
    """Whether a run with dead letters, files that were not taken and the like has failed."""
    schedules: dict[str, Schedule] = {}
    steps: tuple[StepSettings, ...]


class Pipeline(Struct, frozen=True, kw_only=True):
    """A pipeline that has been read."""

    part: PartId
    file: str
    settings: PipelineSettings
    document: TomlDocument


class PipelineKind:
    """How pipelines are handled."""

    kind = Kind.PIPELINE

    def read(self, part: Part, surroundings: Surroundings, report: Report) -> Pipeline | None:
        """Steps and schedules; cron expressions and time zones are tried."""
        validated = read_part(PipelineSettings, part, report)
        if validated is None:
            return None
        settings, document = validated
        file = part.main.path
        for name, schedule in settings.schedules.items():
            if not schedule.cron:
                continue
            for key, fault in (
                ("cron", _cron_fault(schedule.cron)),
                ("timezone", _timezone_fault(schedule.timezone)),
            ):
                if fault is not None:
                    line = document.line_of(("schedules", name, key))
                    report(
                        rules.SCHEDULE_INVALID.finding(fault, part=part.id, file=file, line=line)
                    )
            if _cron_fault(schedule.cron) is None and not _comes(schedule.cron):
                report(
                    rules.NEVER_COMES.finding(
                        f"{schedule.cron!r} never comes",
                        part=part.id,
                        file=file,
                        line=document.line_of(("schedules", name, "cron")),
                    )
                )
        names = [step.name for step in settings.steps]
        for i, name in enumerate(names):
            if name in names[:i]:
                report(
                    rules.MALFORMED.finding(
                        f"two steps are named {name}",
                        part=part.id,
                        file=file,
                        line=document.line_of(("steps", i, "name")),
                        remedy="Give each step a name of its own.",
                    )
                )
        return Pipeline(part=part.id, file=file, settings=settings, document=document)

    def facts(self, pipeline: Pipeline, tables: Mapping[str, Table], report: Report) -> Facts:
        """The parts that the steps work on, and their order."""
        needs: list[Need] = []
        stages: list[Stage] = []
        for i, step in enumerate(pipeline.settings.steps):
            works_on = step.works_on()
            key = "build" if step.build else "notebook" if step.notebook else "flow"
            line = pipeline.document.line_of(("steps", i, key))
            needs += [Need(wanted=p, file=pipeline.file, line=line) for p in works_on]
            stages.append(
                Stage(
                    name=step.name,
                    works_on=works_on,
                    after=step.after,
                    file=pipeline.file,
                    line=pipeline.document.line_of(("steps", i)),
                )
            )
        for name, schedule in pipeline.settings.schedules.items():
            if (needed := schedule.needs()) is not None:
                line = pipeline.document.line_of(("schedules", name, needed[0]))
                place = "files" if schedule.arrives else ""
                needs.append(Need(wanted=needed[1], file=pipeline.file, line=line, place=place))
        return Facts(
            part=pipeline.part,
            needs=tuple(needs),
            uses=parameter_uses(pipeline.document, pipeline.file),
            stages=tuple(stages),
            owner=pipeline.settings.owner,
            documented=documented(pipeline.settings),
            verifications=pipeline.settings.verifications,
            schedules=tuple(
                Scheduled(name, schedule.cron, schedule.timezone, schedule.after, schedule.arrives)
                for name, schedule in pipeline.settings.schedules.items()
            ),
        )

    def render(self, pipeline: Pipeline, values: Mapping[str, Value]) -> Rendered:
        """The file with this environment's values."""
        document: dict[str, Any] = substitute(without_questions(pipeline.document), values)
        return RenderedDocument(part=pipeline.part, content=document)


def _cron_fault(expression: str) -> str | None:
    from croniter import croniter

    if len(expression.split()) != 5:
        return f"{expression!r} is not a cron expression of five fields"
    if not croniter.is_valid(expression):
        return f"{expression!r} is not a valid cron expression"
    return None


def _comes(expression: str) -> bool:
    """Whether there is a day on which a cron expression fits."""
    from croniter import CroniterBadDateError, croniter

    try:
        croniter(expression, _ANY_TIME).get_next()
    except CroniterBadDateError:
        return False
    return True


_ANY_TIME = 946_684_800.0
"""A time to look on from, in seconds since 1970: leap years come within the eight that follow."""


def _timezone_fault(name: str) -> str | None:
    from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

    try:
        ZoneInfo(name)
    except (ZoneInfoNotFoundError, ValueError, OSError):
        return f"{name!r} is not a time zone"
    return None
