"""Documentation policies: what a project has agreed to say about its parts."""

from __future__ import annotations

import datetime as dt
from collections.abc import Iterator

from inchworm.core.checks import rules
from inchworm.core.checks.findings import Finding
from inchworm.core.lineage.facts import Assembly, Outline

_COLUMN = "column:"


def documentation(assembly: Assembly, today: dt.date) -> Iterator[Finding]:
    """Parts that do not say what the policies of the project ask for."""
    policies = assembly.policies
    if not (policies.about or policies.owner or policies.columns):
        return
    for part, outline in assembly.outlines.items():
        if not outline.readable:
            continue
        if part.kind in policies.about and "about" not in outline.documented:
            yield _missing(outline, rules.NO_ABOUT, "does not say what it is about")
        if part.kind in policies.owner and not outline.owner:
            yield _missing(outline, rules.NO_OWNER, "has no owner")
        if part.kind in policies.columns:
            yield from _columns(assembly, outline)


def _columns(assembly: Assembly, outline: Outline) -> Iterator[Finding]:
    described = {n.removeprefix(_COLUMN) for n in outline.documented if n.startswith(_COLUMN)}
    for name in outline.interfaces:
        silent = [c.name for c in assembly.tables[name].columns if c.name not in described]
        if silent:
            shown = ", ".join(silent[:5]) + (f" and {len(silent) - 5} more" if silent[5:] else "")
            yield _missing(outline, rules.NO_COLUMN_ABOUT, f"says nothing about {shown}")


def _missing(outline: Outline, rule: rules.Rule, message: str) -> Finding:
    return rule.finding(message, part=outline.part, file=outline.file)
