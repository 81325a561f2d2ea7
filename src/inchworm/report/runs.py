"""The JSON documents of runs."""

from __future__ import annotations

from collections.abc import Iterable
from typing import TYPE_CHECKING, Any

from inchworm.core.execution import StepReport
from inchworm.core.running.run import Run, RunStep

if TYPE_CHECKING:
    from inchworm.application.schedules import ScheduleStatus

Document = dict[str, Any]


def run_document(run: Run) -> Document:
    """``inchworm/run/1``."""
    return {
        "format": "inchworm/run/1",
        "id": str(run.id),
        "environment": run.plan.environment,
        "subject": str(run.plan.subject),
        "bundle": run.plan.bundle,
        "commit": run.plan.commit,
        "state": run.state.value,
        "started": run.plan.started,
        "day": run.plan.day or None,
        "continues": None if run.plan.continues is None else f"R{run.plan.continues}",
        "began_at": run.began_at,
        "began_by": run.began_by,
        "changed_at": run.changed_at,
        "message": run.message,
        "values": dict(run.plan.values),
        "steps": [step_document(step, run.report_of(step)) for step in run.plan.steps],
    }


def schedules_document(schedules: Iterable[ScheduleStatus]) -> Document:
    """``inchworm/schedules/1``."""
    return {
        "format": "inchworm/schedules/1",
        "schedules": [
            {
                "environment": each.environment,
                "pipeline": each.schedule.pipeline.name,
                "name": each.schedule.scheduled.name,
                "cron": each.schedule.scheduled.cron,
                "after": each.schedule.scheduled.after,
                "arrives": each.schedule.scheduled.arrives,
                "timezone": each.schedule.scheduled.timezone,
                "missed": each.schedule.missed.value,
                "state": each.schedule.state,
                "paused": each.schedule.pause.to_json() if each.schedule.pause else None,
                "due": [moment.isoformat() for moment in each.due],
                "last_run": str(each.last.id) if each.last else None,
                "last_state": each.last.state.value if each.last else None,
            }
            for each in schedules
        ],
    }


def step_document(step: RunStep, report: StepReport) -> Document:
    """A step of a run, and how it stands."""
    nothing = {"message": "", "seconds": None, "rows": None, "log": "", "output": ""}
    return step.to_json() | nothing | report.to_json()
