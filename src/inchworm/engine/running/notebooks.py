"""Notebooks: executed in a kernel of their own."""

from __future__ import annotations

from inchworm.core.errors import TargetError
from inchworm.core.execution import StepReport
from inchworm.core.identifiers import PartId
from inchworm.core.running.run import Limits
from inchworm.engine.running.site import RunSite


def run_notebook(part: PartId, limits: Limits, site: RunSite) -> StepReport:
    """Execute a notebook."""
    raise TargetError("notebooks cannot be run yet.")
