"""Waiving: accepting a finding for a while."""

from __future__ import annotations

import datetime as dt

from inchworm.application.checking import check
from inchworm.application.workplace import Workplace
from inchworm.core.checks.findings import Severity
from inchworm.core.checks.rules import REGISTRY
from inchworm.core.checks.waivers import Waiver
from inchworm.core.errors import UsageError, did_you_mean
from inchworm.project.waivers import add_waiver


def waive(
    workplace: Workplace, rule: str, part: str, *, because: str, until: str, only: str
) -> Waiver:
    """Accept what a rule finds about a part, up to a day, and write that down.

    Args:
        workplace: the project.
        rule: the rule's id.
        part: a part, or the file of a finding that is about no part.
        because: the reason.
        until: the last day, ISO 8601.
        only: a text that the finding's message has; empty for any.

    Raises:
        UsageError: when there is no such rule or finding, or the day is no day to come.
    """
    if rule.lower() not in REGISTRY:
        near = did_you_mean(rule, REGISTRY, "See inchworm check.")
        raise UsageError(f"There is no rule {rule}.", next=near)
    try:
        day = dt.date.fromisoformat(until)
    except ValueError as error:
        raise UsageError(f"{until} is not a date.", next="Write it as 2026-12-31.") from error
    if day < workplace.today:
        raise UsageError(f"{until} is over.", next="Give a day that is still to come.")
    _, checked = check(workplace)
    subjects = {
        f.part or f.file or ""
        for f in checked.findings
        if f.rule == rule.lower() and f.severity is not Severity.NOTE and only in f.message
    }
    if part.lower() not in {subject.lower() for subject in subjects}:
        raise UsageError(
            f"{rule} has nothing to say about {part}.",
            next=did_you_mean(part, subjects, "See inchworm check."),
        )
    waiver = Waiver(
        rule=rule.lower(),
        part=part,
        because=because,
        owner=workplace.user,
        until=day,
        only=only,
        seen=_seen(workplace),
    )
    add_waiver(workplace.root, waiver)
    return waiver


def _seen(workplace: Workplace) -> str:
    """The end of the ledger, where the project may be asked for it and has one."""
    if not workplace.machine.trust.is_given or not workplace.ledger.exists:
        return ""
    return f"{workplace.ledger.id} {workplace.ledger.head.text}"
