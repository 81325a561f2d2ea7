"""Findings: what the rules have to say."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from enum import StrEnum
from typing import Any

from msgspec import Struct
from msgspec.structs import asdict


class Severity(StrEnum):
    """How much a finding weighs: an error refuses a pack and a promotion."""

    ERROR = "error"
    WARNING = "warning"
    NOTE = "note"


class Finding(Struct, frozen=True, kw_only=True):
    """One thing that a rule found, where, why it matters and what to do about it."""

    rule: str
    severity: Severity
    part: str | None
    file: str | None
    line: int | None
    message: str
    remedy: str
    cause: str = ""
    """What it follows from, with all other findings of the same cause; empty of one by itself."""

    @property
    def place(self) -> str:
        """``file:line``, as far as it is known."""
        if self.file is None:
            return self.part or ""
        return f"{self.file}:{self.line}" if self.line else self.file

    def to_json(self) -> dict[str, str | int | None]:
        """The finding as ``inchworm/findings/1`` lists it."""
        return asdict(self) | {"severity": self.severity.value}


def finding_from(document: Mapping[str, Any]) -> Finding:
    """The finding that :meth:`Finding.to_json` told."""
    return Finding(**{**document, "severity": Severity(document["severity"])})


class Group(Struct, frozen=True, kw_only=True):
    """Findings of one cause: the first of them, and those that follow from it."""

    head: Finding
    following: tuple[Finding, ...] = ()


def grouped(findings: Iterable[Finding]) -> list[Group]:
    """Findings by cause, in their order; the one about the cause itself is the head."""
    by_cause: dict[object, list[Finding]] = {}
    for finding in findings:
        key = (finding.severity, finding.cause) if finding.cause else finding
        by_cause.setdefault(key, []).append(finding)
    groups = []
    for together in by_cause.values():
        head = next((f for f in together if f.part == f.cause), together[0])
        following = tuple(f for f in together if f is not head)
        groups.append(Group(head=head, following=following))
    return groups


_WEIGHT = {Severity.ERROR: 0, Severity.WARNING: 1, Severity.NOTE: 2}


def in_order(findings: Iterable[Finding]) -> list[Finding]:
    """Errors first, then by file and line; exact repetitions are dropped."""
    return sorted(
        set(findings),
        key=lambda f: (_WEIGHT[f.severity], f.file or "", f.line or 0, f.rule, f.message),
    )


def has_errors(findings: Iterable[Finding]) -> bool:
    """Whether any of the findings refuses a pack or a promotion."""
    return any(finding.severity is Severity.ERROR for finding in findings)
