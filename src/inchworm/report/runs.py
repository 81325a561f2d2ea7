"""The JSON documents of runs."""

from __future__ import annotations

from typing import Any

from inchworm.core.execution import StepReport
from inchworm.core.running.run import Run, RunStep

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
        "continues": None if run.plan.continues is None else f"R{run.plan.continues}",
        "began_at": run.began_at,
        "began_by": run.began_by,
        "changed_at": run.changed_at,
        "message": run.message,
        "values": dict(run.plan.values),
        "steps": [step_document(step, run.report_of(step)) for step in run.plan.steps],
    }


def step_document(step: RunStep, report: StepReport) -> Document:
    """A step of a run, and how it stands."""
    nothing = {"message": "", "seconds": None, "rows": None, "log": "", "output": ""}
    return step.to_json() | nothing | report.to_json()
