"""The site of a run: the open environment, what is live there, and what the run has staged."""

from __future__ import annotations

import datetime as dt
import threading
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from copy import copy
from pathlib import Path
from typing import Self

from msgspec import Struct, field

from inchworm.core.errors import EnvironmentMoved
from inchworm.core.identifiers import PartId, RelationName
from inchworm.core.promotion.composition import LivePart
from inchworm.core.running.run import RunId, RunPlan
from inchworm.core.running.states import FlowTask
from inchworm.engine.open_environment import OpenEnvironment
from inchworm.engine.preparation import Prepared
from inchworm.engine.site import Site
from inchworm.targets.machine import Machine


class RunContext(Struct, kw_only=True):
    """What all connections of one run have in common.

    Attributes:
        id: the run's id, with its ledger.
        machine: where the project is, with its environment variables.
        folder: a folder of this run's own, which nobody else can look into.
        keep: keeps a file of a step with the run, and returns its name.
        staged_names: the staging relation of each relation that is built, both by physical name.
        switching: held while something goes live: one switch-over at a time.
        changed_by_hand: physical names of relations whose changes made by hand may be lost.
        hindrances: by physical name, what hangs on relations that cannot be carried along.
        flow_task: the rows or files that flows take on.
        is_shared: whether other runs may be at work there, on other parts.
        live: the key of the promotion that is live there; empty where none is.
        stopping: set when somebody stops the run.
    """

    id: RunId
    plan: RunPlan
    machine: Machine
    folder: Path
    keep: Callable[[str, bytes], str]
    by: str
    now: Callable[[], str]
    staged_names: Mapping[RelationName, RelationName] = field(default_factory=dict)
    changed_by_hand: frozenset[str] = frozenset()
    hindrances: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    flow_task: FlowTask = FlowTask.NEW
    is_shared: bool = False
    live: str = ""
    switching: threading.Lock = field(default_factory=threading.Lock)
    stopping: threading.Event = field(default_factory=threading.Event)
    sites: list[RunSite] = field(default_factory=list)
    """Every connection of the run."""

    def stop(self) -> None:
        """Have what runs at any connection fail now, and try nothing again."""
        self.stopping.set()
        for site in list(self.sites):
            site.cancel()


class RunSite(Site):
    """Where the steps of a run are executed: one connection, and what goes with it.

    Args:
        prepared: the bundle that is live, made ready for the environment.
        place: the open environment.
        context: what all connections of the run share.
        building: logical names of the relations that are read from where they are staged.
    """

    def __init__(
        self,
        prepared: Prepared,
        place: OpenEnvironment,
        context: RunContext,
        building: Iterable[RelationName] = (),
    ) -> None:
        self.context = context
        super().__init__(
            prepared=prepared,
            place=place,
            id=context.id,
            building=frozenset(building),
            by=context.by,
            now=context.now,
        )
        self.day = dt.date.fromisoformat(context.plan.day) if context.plan.day else None

    def _reach(self, place: OpenEnvironment) -> None:
        """Work over a connection; what is started here is not another one's to end."""
        super()._reach(place)
        self._children: list[Callable[[], object]] = []
        self.context.sites.append(self)

    @contextmanager
    def crew(self, size: int) -> Iterator[Sequence[Self]]:
        """Up to ``size`` sites that can be worked at the same time, this one first."""
        with super().crew(size) as sites:
            try:
                yield sites
            finally:  # the others end with this block, and nothing is to be stopped there
                self.context.sites[:] = [self]

    def reading_staged(self, tables: Iterable[RelationName]) -> RunSite:
        """The same connection, at which some relations are read from where they are staged."""
        site = copy(self)
        site.building = frozenset(tables)
        return site

    def staged(self, name: str) -> RelationName:
        """The staging relation of a model, or of a table that a notebook stores."""
        return self.context.staged_names[self.physical(name)]

    def store_of(self, part: PartId) -> frozenset[RelationName]:
        """The tables that a part provides."""
        return frozenset(map(RelationName, self.assembly.outlines[part].interfaces))

    def _live_parts(self) -> dict[PartId, LivePart]:
        """None: a run puts no part in place, so the record of those that are live is all."""
        return {}

    def revive(self) -> None:
        """Connect again if the connection was lost.

        Raises:
            EnvironmentMoved: when somebody has begun to work here meanwhile, or has promoted.
            TargetError: when the database cannot be reached.
        """
        if not self.database.revive():
            return
        last = self.bookkeeping.last()
        if last is not None and last.promotion != self.context.live:
            raise EnvironmentMoved(
                f"the connection was lost, and {last.named(self.id.ledger)} has gone into "
                f"{self.environment.name} since.",
                next="Run it again: what is live there is another state.",
            )

    def pause(self, seconds: float) -> None:
        """Wait, unless somebody stops the run."""
        self.context.stopping.wait(seconds)

    # ---- stopping -----------------------------------------------------------------------------

    def started(self, kill: Callable[[], object]) -> None:
        """A process was started for this site; ``kill`` ends it, with all that it started."""
        self._children.append(kill)

    def ended(self, kill: Callable[[], object]) -> None:
        """The process has ended."""
        self._children.remove(kill)

    def cancel(self) -> None:
        """Have what runs here now fail. Called from another thread."""
        self.database.interrupt()
        for kill in list(self._children):
            kill()

    def stop(self) -> None:
        """Have what runs in this run now fail, and try nothing again. Called by another thread."""
        self.context.stop()
