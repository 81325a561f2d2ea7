"""Probing: trying everything that a promotion needs, before it is needed."""

from __future__ import annotations

from collections.abc import Iterator

from inchworm.application.workplace import Workplace
from inchworm.core.counting import counted
from inchworm.core.errors import TargetError
from inchworm.core.parameters.matrix import evaluate
from inchworm.engine.doctor import Probe, probe, probe_environment


def probe_all(workplace: Workplace, environment: str | None = None) -> Iterator[Probe]:
    """Try the project's own places, and those of all environments, or of one.

    Raises:
        UsageError: when there is no environment of that name.
    """
    chosen = workplace.project.environments
    if environment is not None:
        chosen = [workplace.project.environment(environment)]
    yield probe("project", "ledger", lambda: _ledger(workplace))
    yield probe("project", "git", lambda: _git(workplace))
    yield probe("project", "bundles", lambda: _bundles(workplace))
    reading = workplace.read_remembered()
    for each in chosen:
        values = evaluate(reading.assembly.matrix, each.name, workplace.today)
        yield from probe_environment(
            each, reading.assembly, values, workplace.machine, workplace.clock
        )


def _ledger(workplace: Workplace) -> str:
    if not workplace.ledger.exists:
        return "not there yet; the first pack makes it"
    workplace.ledger.check()
    return f"{workplace.ledger.count():,} entries, intact"


def _git(workplace: Workplace) -> str:
    state = workplace.project.git
    if state.commit is None:
        raise TargetError(
            "there is no commit: bundles are snapshots that nobody can trace.",
            next="git init, git add --all, git commit",
        )
    return f"commit {state.short} on {state.branch or 'no branch'}"


def _bundles(workplace: Workplace) -> str:
    count = len(workplace.bundles.names())
    return counted(count, "bundle")
