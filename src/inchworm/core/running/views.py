"""Views that go along with a run, although nobody named them.

A view has no rows of its own, so a run of what is around it concerns it in three ways: what is
built reads through it, its data may be no longer what its checks demand, and a value in it may have
moved with the day.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Mapping
from functools import cached_property

from inchworm.core.identifiers import Kind, PartId
from inchworm.core.lineage.facts import Assembly, Trait


class Views:
    """The views of a composition, and which of them a stage of a run takes along.

    Args:
        assembly: the parts that are live.
        is_checked: whether a model's own settings demand something of its data.
        moved: views whose values are others today than those that they were put in place with.
    """

    def __init__(
        self,
        assembly: Assembly,
        is_checked: Callable[[PartId], bool] = lambda model: False,
        moved: Collection[PartId] = (),
    ) -> None:
        self._assembly = assembly
        self._is_checked = is_checked
        self._moved = frozenset(moved)

    def along(self, parts: Collection[PartId]) -> frozenset[PartId]:
        """The views to build, check or renew with the parts of a stage."""
        models = {part for part in parts if part.kind is Kind.MODEL}
        above = self.above(parts)
        renewed = self._moved & above
        stale = renewed | (self._below(renewed) & above)
        if not models:  # a notebook, a flow: what they read has to hold before they read it
            demanded = {view for view in above if self._has_demands(view)}
            return frozenset(stale | demanded)
        below = self._below(models)
        demanded = {view for view in below if self._has_demands(view)}
        between = below & (above | self.above(demanded))
        return frozenset((stale | demanded | between) - models)

    def _has_demands(self, view: PartId) -> bool:
        return view in self._checked_by_files or self._is_checked(view)

    @cached_property
    def _checked_by_files(self) -> frozenset[PartId]:
        upstream = self._assembly.upstream
        return frozenset(
            part for check in self._assembly.of_kind(Kind.CHECK) for part in upstream.get(check, ())
        )

    @cached_property
    def _readers(self) -> Mapping[PartId, list[PartId]]:
        readers: dict[PartId, list[PartId]] = {}
        for part, upstream in self._assembly.upstream.items():
            for other in upstream:
                readers.setdefault(other, []).append(part)
        return readers

    def above(self, parts: Collection[PartId]) -> set[PartId]:
        """The views that parts read, directly or through other views."""
        return self._reached(parts, lambda part: self._assembly.upstream.get(part, ()))

    def _below(self, parts: Collection[PartId]) -> set[PartId]:
        """The views that read parts, directly or through other views."""
        return self._reached(parts, lambda part: self._readers.get(part, ()))

    def _reached(
        self, parts: Collection[PartId], onward: Callable[[PartId], Iterable[PartId]]
    ) -> set[PartId]:
        reached: set[PartId] = set()
        waiting = list(parts)
        while waiting:
            for other in onward(waiting.pop()):
                if other not in reached and self._is_view(other):
                    reached.add(other)
                    waiting.append(other)
        return reached

    def _is_view(self, part: PartId) -> bool:
        return part.kind is Kind.MODEL and Trait.VIEW in self._assembly.outlines[part].traits
