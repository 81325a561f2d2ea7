"""A run: what it executes, the steps that it is made of, and how each of them stands."""

from __future__ import annotations

import re
from collections.abc import Mapping
from typing import Any, NamedTuple

from msgspec import Struct, field

from inchworm.core.execution import StepReport, StepState
from inchworm.core.identifiers import PartId, Subject, subject_named
from inchworm.core.parts import Digest
from inchworm.core.running.states import RunState, Work


class RunId(NamedTuple):
    """A run: its number, and the ledger that counted it."""

    ledger: str
    number: int

    def __str__(self) -> str:
        return f"R{self.number}"

    @property
    def key(self) -> str:
        """The run's name in a database, where runs of several ledgers meet."""
        return f"{self.ledger}:{self}"


_RUN = re.compile(r"[Rr](\d+)")


def run_number(text: str) -> int | None:
    """The number of a run as somebody wrote its name, ``R12`` or ``r12``; None of others."""
    match = _RUN.fullmatch(text.strip())
    return int(match.group(1)) if match else None


def is_run_key(key: str) -> bool:
    """Whether a name in a database is that of a run, and not of a promotion."""
    return run_number(key.rpartition(":")[2]) is not None


class Limits(Struct, frozen=True, kw_only=True):
    """What a step may take.

    Attributes:
        seconds: how long it may take; None for as long as it wants.
        memory: bytes; None for as much as there is.
        threads: processors that it may use at a time; None for all.
        retries: how often it is tried again after it failed.
    """

    seconds: float | None = None
    memory: int | None = None
    threads: int | None = None
    retries: int = 0

    def to_json(self) -> dict[str, Any]:
        """The limits as the ledger keeps them; what is not limited is left out."""
        limits = {"seconds": self.seconds, "memory": self.memory, "threads": self.threads}
        given = {name: limit for name, limit in limits.items() if limit is not None}
        return given | ({"retries": self.retries} if self.retries else {})


UNLIMITED = Limits()


class RunStep(Struct, frozen=True, kw_only=True):
    """One thing to execute.

    Attributes:
        number: its place, from 1.
        stage: the step of a pipeline that it belongs to, by name; of anything else the part.
        part: what it works on.
        needs: numbers of the steps that have to succeed before it begins.
    """

    number: int
    stage: str
    work: Work
    part: Subject
    needs: tuple[int, ...] = ()
    limits: Limits = UNLIMITED

    def to_json(self) -> dict[str, Any]:
        """The step as the ledger keeps it."""
        return {
            "number": self.number,
            "stage": self.stage,
            "work": self.work.value,
            "part": str(self.part),
            "needs": list(self.needs),
            **({"limits": self.limits.to_json()} if self.limits != UNLIMITED else {}),
        }

    @classmethod
    def from_json(cls, data: Mapping[str, Any]) -> RunStep:
        """A step as the ledger kept it."""
        return cls(
            number=data["number"],
            stage=data["stage"],
            work=Work(data["work"]),
            part=subject_named(data["part"]),
            needs=tuple(data["needs"]),
            limits=Limits(**data.get("limits", {})),
        )


class RunPlan(Struct, frozen=True, kw_only=True):
    """What a run is going to execute.

    Attributes:
        subject: the part that somebody asked for.
        bundle: the bundle whose parts are live there.
        commit: the commit that it was packed from.
        today: the day that relative dates in values were worked out for, ISO 8601.
        values: every value that its parts use, as text; of secrets, the references.
        continues: the run whose steps that succeeded are not executed again.
        started: by what: ``hand``, ``call``, or a schedule of a pipeline.
        seconds: how long all of it may take; None for as long as it wants.
        corner: whose corner of the environment it is; empty where it has none.
        day: the day that was asked for, ISO 8601; empty where it is that of the run.
        warnings_fail: whether it has failed if a step has found something to warn of.
        process: the process that executes it, ``NUMBER/BEGINNING@MACHINE``; former versions
            recorded none.
    """

    environment: str
    subject: PartId
    bundle: str
    bundle_digest: Digest
    commit: str | None
    today: str
    steps: tuple[RunStep, ...]
    values: Mapping[str, str] = field(default_factory=dict)
    continues: int | None = None
    started: str = "hand"
    seconds: float | None = None
    corner: str = ""
    day: str = ""
    warnings_fail: bool = False
    process: str = ""

    @property
    def works_on(self) -> frozenset[PartId]:
        """The parts that no other run may work on at the same time: all that it changes or sends.

        Also what somebody asked for itself: a pipeline runs once at a time.
        """
        changing = {Work.BUILD, Work.NOTEBOOK, Work.FLOW}
        parts = {step.part for step in self.steps if step.work in changing}
        return frozenset({self.subject, *(part for part in parts if isinstance(part, PartId))})

    @property
    def gone(self) -> str:
        """Why its run is broken off."""
        known, _, machine = self.process.partition("@")
        number = known.partition("/")[0]
        which = f" ({number} on {machine})" if number else ""
        return f"its process{which} ended without a word"

    def to_json(self) -> dict[str, Any]:
        """The plan as the ledger keeps it."""
        return {
            "environment": self.environment,
            "subject": str(self.subject),
            "bundle": self.bundle,
            "bundle_digest": self.bundle_digest,
            "commit": self.commit,
            "today": self.today,
            "steps": [step.to_json() for step in self.steps],
            "values": dict(self.values),
            "continues": self.continues,
            "started": self.started,
            "seconds": self.seconds,
            **({"corner": self.corner} if self.corner else {}),
            **({"day": self.day} if self.day else {}),
            **({"warnings_fail": True} if self.warnings_fail else {}),
            **({"process": self.process} if self.process else {}),
        }

    @classmethod
    def from_json(cls, data: Mapping[str, Any]) -> RunPlan:
        """A plan as the ledger kept it."""
        steps = tuple(map(RunStep.from_json, data["steps"]))
        return cls(**{**data, "subject": PartId.parse(data["subject"]), "steps": steps})


class Measured(Struct, frozen=True, kw_only=True):
    """A number that a notebook measured in a run.

    Attributes:
        bundle_digest: of the bundle that was live there.
        at: when the notebook ended, ISO 8601, UTC.
    """

    run: RunId
    environment: str
    bundle_digest: Digest
    part: str
    name: str
    value: float
    at: str


class Run(Struct, frozen=True, kw_only=True):
    """A run as the ledger knows it."""

    id: RunId
    plan: RunPlan
    state: RunState
    began_at: str
    began_by: str
    changed_at: str
    steps: Mapping[int, StepReport]
    message: str = ""
    stop_asked: str = ""
    """Who has asked for its stop, and why; empty while nobody has."""

    def report_of(self, step: RunStep) -> StepReport:
        """How a step stands."""
        return self.steps.get(step.number, StepReport(state=StepState.WAITING))

    @property
    def seconds(self) -> float:
        """How long its steps took together, in seconds."""
        return sum(report.seconds or 0 for report in self.steps.values())

    @property
    def measures(self) -> Mapping[tuple[str, str], float]:
        """The numbers that its notebooks measured, by notebook and name."""
        return {
            (str(step.part), name): value
            for step in self.plan.steps
            for name, value in self.report_of(step).measures.items()
        }
