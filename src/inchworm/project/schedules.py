"""Schedules that environments declare a state for, held against those that pipelines have."""

from __future__ import annotations

from collections.abc import Iterable

from inchworm.core.checks import rules
from inchworm.core.checks.findings import Finding
from inchworm.core.environments.environment import Environment
from inchworm.core.errors import did_you_mean


def schedule_findings(
    environments: Iterable[Environment], schedules: dict[str, tuple[str, ...]]
) -> list[Finding]:
    """States declared for schedules that no pipeline has.

    Args:
        environments: all environments.
        schedules: the schedule names of each pipeline.
    """
    known = set(schedules) | {name for names in schedules.values() for name in names}
    known |= {f"{pipeline}.{name}" for pipeline, names in schedules.items() for name in names}
    return [
        rules.SCHEDULE_UNKNOWN.finding(
            f"declares a state for {name}, which is no schedule",
            file=environment.file,
            remedy=did_you_mean(name, known, rules.SCHEDULE_UNKNOWN.remedy),
        )
        for environment in environments
        for name in environment.schedules
        if name not in known
    ]
