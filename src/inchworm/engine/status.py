"""The status of an environment, read fresh from the targets themselves."""

from __future__ import annotations

from collections.abc import Mapping

from msgspec import Struct

from inchworm.core.environments.environment import Environment
from inchworm.core.errors import InchwormError
from inchworm.core.identifiers import PartId
from inchworm.core.parameters.values import Value
from inchworm.core.promotion.composition import Composition
from inchworm.core.running.api_versions import ApiState, ApiVersion, states
from inchworm.engine.connections import open_environment
from inchworm.targets.machine import Machine


class EnvironmentStatus(Struct, frozen=True, kw_only=True):
    """One environment as it is now; ``problem`` says why it could not be read."""

    environment: Environment
    live: Composition | None
    drifted: tuple[PartId, ...] = ()
    problem: str | None = None

    @property
    def is_whole(self) -> bool:
        """Whether all of it could be read."""
        return self.live is not None and not self.live.notebooks_unreachable

    @property
    def api_versions(self) -> list[tuple[ApiVersion, ApiState]]:
        """How the versions of the APIs of inward flows stand."""
        known = self.live.api_versions if self.live else ()
        return states(known, self.environment.gateway.api_versions)


def read_status(
    environment: Environment,
    project: str,
    machine: Machine,
    values: Mapping[str, Value],
    read_at: str,
) -> EnvironmentStatus:
    """Ask an environment's database and services what they have."""
    try:
        with open_environment(environment, project, machine, values, read_only=True) as place:
            read_now = place.clock(lambda: read_at)()
            live = place.composition(read_now, is_for_draft=False, with_notebooks=False)
    except InchwormError as error:
        return EnvironmentStatus(environment=environment, live=None, problem=str(error))
    drifted = live.drifted(environment.database)
    return EnvironmentStatus(environment=environment, live=live, drifted=tuple(drifted))
