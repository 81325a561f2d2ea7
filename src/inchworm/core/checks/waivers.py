"""Waivers: findings that are accepted for a while, each with a reason, an owner and an end."""

from __future__ import annotations

import datetime as dt
from collections.abc import Iterable, Sequence

from msgspec import Struct
from msgspec.structs import replace

from inchworm.core.checks import rules
from inchworm.core.checks.findings import Finding, Severity

FILE = "waivers.toml"


class Waiver(Struct, frozen=True, kw_only=True):
    """A finding of one rule about one part is accepted up to and including a day."""

    rule: str
    part: str
    because: str
    owner: str
    until: dt.date
    only: str = ""
    """Text of the message, where the rule finds several things and one of them is accepted."""
    seen: str = ""
    """The end of the ledger that its owner saw, ``LEDGER NUMBER:HASH``; empty where none was."""
    line: int | None = None


def apply(findings: Iterable[Finding], waivers: Sequence[Waiver], today: dt.date) -> list[Finding]:
    """The findings, waived ones as notes; and what is to be said about the waivers themselves.

    A waiver that has expired waives nothing and speaks up; so does one that waives nothing.
    """
    results: list[Finding] = []
    used: set[Waiver] = set()
    for finding in findings:
        waiver = next((w for w in waivers if _fits(w, finding)), None)
        if waiver is not None:
            used.add(waiver)
        if waiver is None or waiver.until < today:
            results.append(finding)
            continue
        message = (
            f"{finding.message}\nwaived until {waiver.until} by {waiver.owner}: {waiver.because}"
        )
        results.append(replace(finding, severity=Severity.NOTE, message=message))
    for waiver in waivers:
        subject = f"the waiver of {waiver.rule} for {waiver.part}"
        if waiver.until < today:
            message = f"{subject} ended on {waiver.until}"
            results.append(rules.WAIVER_EXPIRED.finding(message, file=FILE, line=waiver.line))
        elif waiver not in used:
            message = f"{subject} waives nothing"
            results.append(rules.WAIVER_UNUSED.finding(message, file=FILE, line=waiver.line))
    return results


def _fits(waiver: Waiver, finding: Finding) -> bool:
    subject = finding.part or finding.file or ""
    return (
        waiver.rule == finding.rule
        and waiver.part.lower() == subject.lower()
        and waiver.only in finding.message
    )
