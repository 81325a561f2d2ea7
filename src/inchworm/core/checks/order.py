"""Rules about the order in which pipelines work: what is read must have been built before."""

from __future__ import annotations

import datetime as dt
from collections import defaultdict
from collections.abc import Collection, Iterable, Iterator, Mapping
from functools import cached_property

from msgspec import Struct

from inchworm.core.checks import rules
from inchworm.core.checks.findings import Finding
from inchworm.core.errors import did_you_mean
from inchworm.core.identifiers import Kind, PartId
from inchworm.core.lineage.facts import Assembly, Scheduled, Stage

_SAME_RUN = 12 * 60
"""Minutes: of two daily pipelines this far apart at most, the later one belongs to the same day."""


def pipeline_order(assembly: Assembly, today: dt.date) -> Iterator[Finding]:
    """Steps that work on something before the step that builds what it reads."""
    pipelines = assembly.of_kind(Kind.PIPELINE)
    if not pipelines:
        return
    work = _Work(assembly, pipelines)
    for pipeline in pipelines:
        yield from _within(work, pipeline)
    yield from _between(work)


class _Work(Struct, frozen=True, dict=True):
    """Who works on what. Sets of stages are bits of a number, so that one pass finds all orders."""

    assembly: Assembly
    pipelines: list[PartId]

    @cached_property
    def bits(self) -> Mapping[tuple[PartId, str], int]:
        """A bit for each stage of each pipeline."""
        stages = [(p, stage.name) for p in self.pipelines for stage in self.stages(p)]
        return {key: 1 << i for i, key in enumerate(dict.fromkeys(stages))}

    @cached_property
    def worked_on(self) -> Mapping[PartId, int]:
        """For each part the stages that work on it."""
        times: dict[PartId, int] = defaultdict(int)
        for pipeline in self.pipelines:
            for stage in self.stages(pipeline):
                for part in stage.works_on:
                    times[part] |= self.bits[pipeline, stage.name]
        return times

    @cached_property
    def upstream(self) -> Mapping[PartId, frozenset[PartId]]:
        """For each part those that provide or fill the tables that it reads."""
        fillers: dict[str, set[PartId]] = defaultdict(set)
        for part, outline in self.assembly.outlines.items():
            for table in outline.fills:
                fillers[table].add(part)
        if not fillers:
            return self.assembly.upstream
        return {
            part: (direct | {f for t in self._rows_read(part) for f in fillers.get(t, ())}) - {part}
            for part, direct in self.assembly.upstream.items()
        }

    def _rows_read(self, part: PartId) -> Collection[str]:
        """The tables whose rows a part reads; of the table that it fills, a flow reads columns."""
        outline = self.assembly.outlines[part]
        return set(outline.reads) - set(outline.fills if part.kind is Kind.FLOW else ())

    @cached_property
    def above(self) -> Mapping[PartId, int]:
        """For each part the stages that work on anything it reads, however far up."""
        order = dict.fromkeys([*self.assembly.model_order, *self.upstream])
        masks: dict[PartId, int] = dict.fromkeys(order, 0)
        changed = True
        while changed:  # once more than once only where a notebook is upstream of what it reads
            changed = False
            for part in order:
                stages = masks[part]
                for other in self.upstream.get(part, ()):
                    stages |= masks.get(other, 0) | self.worked_on.get(other, 0)
                if stages != masks[part]:
                    masks[part], changed = stages, True
        return masks

    def stages(self, pipeline: PartId) -> tuple[Stage, ...]:
        """The steps of a pipeline."""
        return self.assembly.outlines[pipeline].stages

    def mask(self, pipeline: PartId, names: Iterable[str]) -> int:
        """The bits of some stages."""
        bits = 0
        for name in names:
            bits |= self.bits[pipeline, name]
        return bits

    def all_above(self, part: PartId) -> list[PartId]:
        """The parts that a part depends on, however far up."""
        seen: set[PartId] = set()
        waiting = [part]
        while waiting:
            new = self.upstream.get(waiting.pop(), frozenset()) - seen - {part}
            seen |= new
            waiting.extend(new)
        return sorted(seen)


def _within(work: _Work, pipeline: PartId) -> Iterator[Finding]:
    stages = work.stages(pipeline)
    names = [stage.name for stage in stages]
    before: dict[str, set[str]] = {}
    built_in: dict[PartId, str] = {}
    for stage in stages:
        earlier = {name for name in stage.after if name in names and name != stage.name}
        before[stage.name] = earlier.union(*(before.get(name, set()) for name in earlier))
        for wanted in stage.after:
            if wanted not in names[: names.index(stage.name)]:
                yield rules.PIPELINE_STEP.finding(
                    f"step {stage.name} comes after {wanted}, which is no earlier step",
                    part=pipeline,
                    file=stage.file,
                    line=stage.line,
                    remedy=did_you_mean(wanted, names, rules.PIPELINE_STEP.remedy),
                )
        for worked_on in stage.works_on:
            built_in.setdefault(worked_on, stage.name)
    everything = work.mask(pipeline, names)
    reported: set[tuple[str, str]] = set()
    """Pairs of steps of which it has been said: what is further up follows from it."""
    for stage in stages:
        fine = work.mask(pipeline, {stage.name, *before[stage.name]})
        for worked_on in stage.works_on:
            if not work.above.get(worked_on, 0) & everything & ~fine:
                continue
            for above in work.all_above(worked_on):
                other = built_in.get(above)
                if other is None or other == stage.name or other in before[stage.name]:
                    continue
                if (stage.name, other) in reported:
                    continue
                reported.add((stage.name, other))
                yield rules.PIPELINE_ORDER.finding(
                    f"step {stage.name} works on {worked_on}, which reads what step {other} "
                    f"builds ({above}), but does not come after it",
                    part=pipeline,
                    file=stage.file,
                    line=stage.line,
                    remedy=f'Put after = ["{other}"] on step {stage.name}.',
                )


def _between(work: _Work) -> Iterator[Finding]:
    """Pipelines that start before the one that builds what they read, on the same day."""
    starts = {p: _daily_start(work.assembly.outlines[p].schedules) for p in work.pipelines}
    for early in work.pipelines:
        for late in work.pipelines:
            one, other = starts[early], starts[late]
            if one is None or other is None or one[0] != other[0]:
                continue
            if 0 < other[1] - one[1] <= _SAME_RUN:
                too_early = _too_early(work, early, late)
                if too_early is not None:
                    yield too_early


def _too_early(work: _Work, early: PartId, late: PartId) -> Finding | None:
    """The first step of one pipeline that reads what only the other one builds."""
    late_stages = work.mask(late, [stage.name for stage in work.stages(late)])
    elsewhere = ~late_stages
    for stage in work.stages(early):
        for worked_on in stage.works_on:
            if not work.above.get(worked_on, 0) & late_stages:
                continue
            for other in work.all_above(worked_on):
                builders = work.worked_on.get(other, 0)
                if builders & late_stages and not builders & elsewhere:
                    return rules.SCHEDULE_ORDER.finding(
                        f"step {stage.name} works on {worked_on}, which reads {other}; that is "
                        f"built by {late}, which starts later on the same day",
                        part=early,
                        file=stage.file,
                        line=stage.line,
                    )
    return None


def _daily_start(schedules: Iterable[Scheduled]) -> tuple[tuple[str, ...], int] | None:
    """On which days, and at which minute of them, a pipeline with one fixed time starts."""
    starts = list(schedules)
    if len(starts) != 1:
        return None
    fields = starts[0].cron.split()
    if len(fields) != 5 or not (fields[0].isdigit() and fields[1].isdigit()):
        return None
    return (starts[0].timezone, *fields[2:]), int(fields[1]) * 60 + int(fields[0])
