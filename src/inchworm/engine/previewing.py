"""The statements of a promotion before it runs: told by its actions, while nothing is changed."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from functools import cached_property
from typing import Self

from inchworm.core.identifiers import RelationName
from inchworm.core.promotion.aside import STAGING, aside
from inchworm.core.promotion.promotion import Promotion
from inchworm.engine.actions.base import Plan
from inchworm.engine.actions.models import TakeBackModel
from inchworm.engine.actions.plan import planned
from inchworm.engine.connections import open_environment
from inchworm.engine.open_environment import OpenEnvironment
from inchworm.engine.preparation import Prepared
from inchworm.engine.site import Site
from inchworm.targets.machine import Machine


class PreviewSite(Site):
    """A site at which nothing is reserved: staging relations have the names that they will have."""

    @classmethod
    def of(cls, site: Site) -> Self:
        """The same site, at which nothing is reserved."""
        other = cls.__new__(cls)
        vars(other).update(vars(site))
        return other

    def staged(self, name: str) -> RelationName:
        """The staging relation of a model that will be built."""
        model = self.physical(name)
        return self.staging.replaced_table(model) or aside(model, STAGING, self._taken)

    @cached_property
    def _taken(self) -> Mapping[str, str]:
        """The relations of the database, asked once: there may be thousands."""
        return self.database.kinds()


def statements(
    prepared: Prepared,
    promotion: Promotion,
    machine: Machine,
    *,
    by: str,
    now: Callable[[], str],
) -> dict[int, tuple[str, ...]]:
    """The SQL of each step of a draft, as far as it is known before, by the step's number.

    Args:
        prepared: the bundle, made ready for the environment.
        promotion: the promotion.
        machine: where the project is, with its environment variables.
        by: who is at work.
        now: the current time, ISO 8601, UTC.

    Raises:
        TargetError: when the environment cannot be reached.
    """
    plan = planned(promotion.draft.steps)
    with open_environment(
        prepared.environment, prepared.bundle.project, machine, prepared.values, read_only=True
    ) as place:
        site = _site(prepared, promotion, place, plan, by, now)
        return {action.number: tuple(action.statements(site)) for action in plan}


def _site(
    prepared: Prepared,
    promotion: Promotion,
    place: OpenEnvironment,
    plan: Plan,
    by: str,
    now: Callable[[], str],
) -> Site:
    return PreviewSite(
        prepared=prepared,
        place=place,
        changes=promotion.draft.changes,
        undone=promotion.draft.undone,
        id=promotion.id,
        building=frozenset(part.relation for part in plan.building),
        taking_back=frozenset(a.part.relation for a in plan if isinstance(a, TakeBackModel)),
        by=by,
        now=now,
    )
