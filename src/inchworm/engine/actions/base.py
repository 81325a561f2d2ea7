"""The interface of the actions of a promotion."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping, Sequence
from functools import cached_property
from itertools import groupby
from typing import ClassVar, overload

from msgspec import Struct, field

from inchworm.core.execution import StepReport, StepState
from inchworm.core.identifiers import PartId
from inchworm.core.promotion.promotion import Step
from inchworm.core.promotion.states import Phase
from inchworm.engine.executor import Mode
from inchworm.engine.site import Site
from inchworm.targets.databases.bookkeeping.base import batched

DONE = StepReport(state=StepState.DONE)


class Undoing(Struct, kw_only=True):
    """What comes of undoing the actions of a promotion, the last one first.

    Attributes:
        done: numbers of the actions that took effect.
        undone: migrations that were taken back, in words.
        stayed: migrations whose effect stays.
        schemas: schemas in which migrations stayed or were taken back.
    """

    done: frozenset[int]
    undone: list[str] = field(default_factory=list)
    stayed: list[str] = field(default_factory=list)
    schemas: set[PartId] = field(default_factory=set)


class Action(ABC):
    """What one step of a promotion does.

    Attributes:
        step: the step.
        plan: all actions of the promotion.
    """

    phase: ClassVar[Phase]
    mode: ClassVar[Mode] = Mode.ALONE
    is_before_switch_over: ClassVar[bool] = False
    """Whether readers see nothing of it, so that a failure can simply stop the promotion."""
    needs_success: ClassVar[bool] = False
    only_judges: ClassVar[bool] = False
    """Whether it changes nothing: when it fails, all others beside it that judge still do."""
    holds_back: ClassVar[bool] = False
    is_of_service: ClassVar[bool] = False
    """Whether it works on a service, and not on the database."""
    undone_at_once: ClassVar[int] = 1
    """How many of its kind next to each other are undone in one transaction, at most."""
    leaves_mark: ClassVar[bool] = True
    """Whether the database has a mark of it once it took effect."""
    repeatable: ClassVar[str]
    """Why it can be repeated after a crash, in one sentence."""

    def __init__(self, step: Step, plan: Plan) -> None:
        self.step = step
        self.plan = plan

    @property
    def number(self) -> int:
        """The number of the step."""
        return self.step.number

    @property
    def stops_on_failure(self) -> bool:
        """Whether nothing after it is tried once it has failed."""
        return self.is_before_switch_over

    def needs(self, site: Site) -> Collection[int]:
        """The numbers of the actions beside it that have to end before it begins."""
        return ()

    @property
    def part(self) -> PartId:
        """The part that the step works on.

        Raises:
            TypeError: when it works on the whole environment.
        """
        if not isinstance(self.step.part, PartId):
            raise TypeError(f"step {self.number} works on no part")
        return self.step.part

    def make_ready(self, site: Site) -> None:
        """Do what has to be done before it, and those beside it, begin; most need nothing.

        Raises:
            TargetError: when the database refuses.
        """
        return

    def statements(self, site: Site) -> Iterator[str]:
        """The SQL that it will run, as far as it is known before."""
        return iter(())

    @abstractmethod
    def perform(self, site: Site) -> StepReport:
        """Do it.

        Raises:
            InchwormError: when it fails; then it had no effect.
        """

    @property
    def left_behind(self) -> str:
        """The effect that stays if it cannot be undone, in words."""
        return f"step {self.number} could not be undone"

    def perform_together(self, others: Sequence[int], site: Site) -> list[StepReport]:
        """Do it and others in one transaction; an action that takes effect alone has no others."""
        assert not others, f"{self.phase} takes effect alone"
        return [self.perform(site)]

    def undo(self, site: Site, undoing: Undoing) -> bool:
        """Take it back by itself, when a later action failed before the switch-over.

        Whoever undoes calls :meth:`undo_together`; kinds that are undone together have that alone.

        Returns:
            Whether it has to be done again when the promotion goes on.

        Raises:
            TargetError: when a target refuses.
        """
        return False

    def undo_together(self, others: Sequence[Action], site: Site, undoing: Undoing) -> bool:
        """Take it back, and others of its kind, all or none; most are undone alone.

        Returns:
            Whether they have to be done again when the promotion goes on.

        Raises:
            TargetError: when a target refuses.
        """
        assert not others, f"{self.phase} is undone alone"
        return self.undo(site, undoing)


def undone_together(backwards: Iterable[Action]) -> Iterator[list[Action]]:
    """Actions in lists, each of which is undone in one transaction."""
    for (_, at_once, _), group in groupby(backwards, key=_undone_as):
        yield from batched(group, at_once)


def _undone_as(action: Action) -> tuple[type[Action], int, int]:
    """What neighbours that can be undone together have in common."""
    at_once = action.undone_at_once
    return type(action), at_once, action.number if at_once == 1 else 0


class Plan(Sequence[Action]):
    """The actions of a promotion, in the order of their steps."""

    def __init__(self, steps: Sequence[Step], action_of: Callable[[Step], type[Action]]) -> None:
        self._actions = [action_of(step)(step, self) for step in steps]

    @overload
    def __getitem__(self, at: int) -> Action: ...

    @overload
    def __getitem__(self, at: slice) -> Sequence[Action]: ...

    def __getitem__(self, at: int | slice) -> Action | Sequence[Action]:
        return self._actions[at]

    def __len__(self) -> int:
        return len(self._actions)

    @cached_property
    def numbered(self) -> Mapping[int, Action]:
        """The actions by their numbers."""
        return {action.number: action for action in self._actions}

    @cached_property
    def worked_on(self) -> frozenset[PartId]:
        """All parts that some action works on."""
        return frozenset(a.step.part for a in self._actions if isinstance(a.step.part, PartId))

    @cached_property
    def building(self) -> Mapping[PartId, int]:
        """The number of the action that builds each model."""
        return {a.part: a.number for a in self._actions if a.phase is Phase.BUILD}
