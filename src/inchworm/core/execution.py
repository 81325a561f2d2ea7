"""How the actions of a graph stand, and how they ended: what an executor and a journal exchange."""

from __future__ import annotations

from collections.abc import Mapping
from enum import StrEnum
from typing import Any

from msgspec import Struct, field

from inchworm.core.sample import Sample


class StepState(StrEnum):
    """Where a step stands, or how it ended."""

    WAITING = "waiting"
    RUNNING = "running"
    DONE = "done"
    WARNED = "warning"
    """It is done, and found something that whoever promotes should know."""
    NOTHING_CHECKED = "nothing checked"
    FAILED = "failed"
    NOT_STARTED = "not started"
    """Something that it needs failed."""

    @property
    def is_over(self) -> bool:
        """Whether the action need not be done any more."""
        return self in {StepState.DONE, StepState.WARNED, StepState.NOTHING_CHECKED}

    @property
    def is_warning(self) -> bool:
        """Whether it is over, and somebody should know how."""
        return self in {StepState.WARNED, StepState.NOTHING_CHECKED}


class StepReport(Struct, frozen=True, kw_only=True):
    """How a step ended, in words, and how long it took in seconds.

    Attributes:
        rows: of a table that was built.
        size: its bytes on disk, where the database tells.
        samples: by check in words, the first rows that it found; values of classes are left out.
        log: what it said, and what went wrong in attempts before the last.
        measures: the numbers that a notebook measured, by name.
        output: the name of the file that it left with the run, such as an executed notebook.
        kept: the names of files that a notebook kept with the run, each with that of what is kept.
        ran: the SQL that it ran, where only running it tells; a journal keeps it beside the report.
    """

    state: StepState
    message: str = ""
    seconds: float | None = None
    rows: int | None = None
    size: int | None = None
    samples: Mapping[str, Sample] = field(default_factory=dict)
    log: str = ""
    measures: Mapping[str, float] = field(default_factory=dict)
    output: str = ""
    kept: Mapping[str, str] = field(default_factory=dict)
    ran: tuple[str, ...] = ()

    def to_json(self) -> dict[str, Any]:
        """The report as the ledger keeps it; what is not known is left out."""
        known = {
            "message": self.message or None,
            "seconds": None if self.seconds is None else round(self.seconds, 3),
            "rows": self.rows,
            "size": self.size,
            "samples": {check: sample.to_json() for check, sample in self.samples.items()} or None,
            "log": self.log or None,
            "measures": dict(self.measures) or None,
            "output": self.output or None,
            "kept": dict(self.kept) or None,
        }
        given = {name: value for name, value in known.items() if value is not None}
        return {"state": self.state.value, **given}

    @classmethod
    def from_json(cls, data: Mapping[str, Any]) -> StepReport:
        """A report as the ledger kept it."""
        fields = {name: data[name] for name in cls.__struct_fields__ if name in data}
        samples = data.get("samples", {})
        fields["samples"] = {check: Sample.from_json(each) for check, each in samples.items()}
        return cls(**(fields | {"state": StepState(data["state"])}))
