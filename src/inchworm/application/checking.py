"""Checking the source tree: everything that is wrong with it, at once."""

from __future__ import annotations

import datetime as dt
from typing import TYPE_CHECKING, Any

from msgspec import Struct

from inchworm.application.source_tree import SourceTree
from inchworm.core.checks.findings import Finding, finding_from, has_errors, in_order
from inchworm.core.counting import counted

if TYPE_CHECKING:
    from inchworm.application.workplace import Workplace
    from inchworm.kinds.project_reader import Reading


class Checked(Struct, frozen=True, kw_only=True):
    """The result of a check.

    Attributes:
        parts: the ids of all parts.
        environments: how many environments there are.
    """

    name: str
    version: str
    parts: tuple[str, ...]
    environments: int
    findings: list[Finding]

    @property
    def has_errors(self) -> bool:
        """Whether a finding refuses a pack."""
        return has_errors(self.findings)

    def to_json(self, today: dt.date) -> dict[str, Any]:
        """The result for the same files on the same day; the parts are remembered anyhow."""
        return {
            "day": today.isoformat(),
            "name": self.name,
            "version": self.version,
            "environments": self.environments,
            "findings": [finding.to_json() for finding in self.findings],
        }


def check(workplace: Workplace) -> tuple[Reading, Checked]:
    """The source tree, read, and everything that is wrong with it; both are remembered."""
    from inchworm.application.workplace import KEPT
    from inchworm.core.checks import rules
    from inchworm.core.checks.project_rules import check_assembly
    from inchworm.core.checks.waivers import apply
    from inchworm.engine.migration_replay import replay_migrations
    from inchworm.engine.portability import long_names, unportable_forms
    from inchworm.project.git import tracked_below
    from inchworm.project.waivers import read_waivers

    reading, of_environments = workplace.read()
    waivers, malformed = read_waivers(workplace.root)
    remembered = workplace.tree.memory.checked or {}
    replays, replayed = replay_migrations(
        reading, workplace.project.environments, remembered.get("replayed", {})
    )
    today = workplace.today
    environments = workplace.project.environments
    findings = [
        *check_assembly(reading.assembly, today),
        *of_environments,
        *replays,
        *long_names(reading.assembly, environments),
        *unportable_forms(reading.assembly, environments),
    ]
    tracked = tracked_below(workplace.root, KEPT)
    if tracked:
        findings.append(
            rules.CACHE_TRACKED.finding(f"git tracks {counted(len(tracked), 'file')} in {KEPT}")
        )
    checked = Checked(
        name=reading.assembly.name,
        version=reading.assembly.version,
        parts=tuple(map(str, reading.assembly.parts)),
        environments=len(workplace.project.environments),
        findings=in_order([*apply(findings, waivers, today), *malformed]),
    )
    if not tracked:  # else the finding would stay until a file of the project changes
        workplace.remember(reading, check=checked.to_json(today), replayed=replayed)
    return reading, checked


def checked_before(tree: SourceTree, today: dt.date) -> Checked | None:
    """The result of the last check, if it holds for the files as they are, on the same day."""
    remembered = tree.memory.checked
    result = remembered.get("check") if isinstance(remembered, dict) else None
    if result is None or result["day"] != today.isoformat():
        return None
    if not tree.is_unchanged:
        from inchworm.application.edited_parts import results_still_hold

        if not results_still_hold(tree):
            return None
    return Checked(
        name=result["name"],
        version=result["version"],
        parts=tree.memory.names(),
        environments=result["environments"],
        findings=[finding_from(finding) for finding in result["findings"]],
    )
