"""Flows: rows sent to others."""

from __future__ import annotations

from inchworm.core.errors import TargetError
from inchworm.core.execution import StepReport
from inchworm.core.identifiers import PartId
from inchworm.engine.running.site import RunSite


def run_flow(part: PartId, site: RunSite) -> StepReport:
    """Run a flow."""
    raise TargetError("flows cannot be run yet.")
