"""The route: what the databases of environments say about the bundles that went into them."""

from __future__ import annotations

from collections.abc import Iterable
from concurrent.futures import ThreadPoolExecutor

from inchworm.application.workplace import Workplace
from inchworm.core.environments.environment import Environment
from inchworm.engine.connections import Beginning, begin_to_read
from inchworm.engine.route import Passage, ask_passage

_AT_ONCE = 8
"""How many environments are asked at a time."""


def ask_passages(workplace: Workplace, names: Iterable[str]) -> list[Passage]:
    """What the databases of some environments say went into them, asked at the same time.

    Raises:
        UsageError: when there is no environment of a name.
    """
    environments = [workplace.project.environment(name) for name in names]
    project = workplace.project.settings.name

    def asked(environment: Environment) -> Passage:
        values = workplace.values(environment)
        return ask_passage(environment, project, workplace.machine, values)

    if len(environments) < 2:
        return list(map(asked, environments))
    with ThreadPoolExecutor(_AT_ONCE) as pool:
        return list(pool.map(asked, environments))


def begin_to_look(workplace: Workplace, environment: Environment) -> Beginning:
    """Begin to open an environment for looking only."""
    project, values = workplace.project.settings.name, workplace.values(environment)
    return begin_to_read(environment, project, workplace.machine, values)
