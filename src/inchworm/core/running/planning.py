"""From a part that is live to the steps of a run."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Iterator, Mapping

from msgspec import Struct
from msgspec.structs import replace

from inchworm.core.errors import ProjectError, UsageError, did_you_mean
from inchworm.core.identifiers import Kind, PartId, Whole
from inchworm.core.lineage.facts import Assembly
from inchworm.core.parameters.values import read_duration, read_size
from inchworm.core.rendered import RenderedDocument, RenderedParts
from inchworm.core.running.run import UNLIMITED, Limits, RunStep
from inchworm.core.running.states import Work
from inchworm.core.running.views import Views

RUNNABLE = frozenset({Kind.PIPELINE, Kind.MODEL, Kind.NOTEBOOK, Kind.FLOW})
"""The kinds of part that can be run."""


class _Stage(Struct, frozen=True, kw_only=True):
    """Parts that are worked on together: models that go live in one switch-over, or one other."""

    name: str
    parts: tuple[PartId, ...]
    after: frozenset[str]
    limits: Limits


def plan_steps(
    subject: PartId,
    assembly: Assembly,
    rendered: RenderedParts,
    *,
    moved: Collection[PartId] = (),
    upstream: bool = False,
    downstream: bool = False,
) -> tuple[RunStep, ...]:
    """The steps of a run.

    Args:
        subject: the part that is to run.
        assembly: the parts that are live.
        rendered: the same with the environment's values.
        moved: views whose values are others today than those that they were put in place with.
        upstream: whether everything runs first that the part depends on.
        downstream: whether everything runs behind it that it affects.

    Raises:
        UsageError: when there is nothing to run.
        ProjectError: when a limit of a step cannot be read.
    """
    if subject.kind is Kind.PIPELINE:
        stages = _stages_of(subject, assembly, rendered)
    else:
        stages = [_Stage(name=str(subject), parts=(subject,), after=frozenset(), limits=UNLIMITED)]
    if upstream or downstream:
        stages = _with_neighbours(stages, assembly, upstream=upstream, downstream=downstream)
    views = Views(assembly, lambda model: _has_checks(model, rendered), moved)
    numbering = _Numbering(assembly, rendered)
    for stage in _with_views(stages, views):
        numbering.add(stage)
    return tuple(numbering.steps)


def seconds_of(subject: PartId, assembly: Assembly, rendered: RenderedParts) -> float | None:
    """How long a run of a pipeline may take, in seconds; None where it does not say.

    Raises:
        ProjectError: when that cannot be read.
    """
    if subject.kind is not Kind.PIPELINE:
        return None
    document = rendered[subject]
    assert isinstance(document, RenderedDocument)
    return _limits(
        {"timeout": document.content.get("timeout")}, assembly.outlines[subject].file
    ).seconds


def fails_by_warnings(subject: PartId, rendered: RenderedParts) -> bool:
    """Whether a run of a pipeline that has warnings has failed."""
    if subject.kind is not Kind.PIPELINE:
        return False
    document = rendered[subject]
    assert isinstance(document, RenderedDocument)
    return document.content.get("warnings") == "fail"


def _stages_of(pipeline: PartId, assembly: Assembly, rendered: RenderedParts) -> list[_Stage]:
    """The steps of a pipeline, each behind those that it comes after."""
    document = rendered[pipeline]
    assert isinstance(document, RenderedDocument)
    settings = {step["name"]: step for step in document.content["steps"]}
    file = assembly.outlines[pipeline].file
    stages = {
        stage.name: _Stage(
            name=stage.name,
            parts=stage.works_on,
            after=frozenset(stage.after),
            limits=_limits(settings[stage.name], f"{file} (step {stage.name})"),
        )
        for stage in assembly.outlines[pipeline].stages
    }
    ordered: dict[str, _Stage] = {}

    def place(stage: _Stage) -> None:
        for name in sorted(stage.after):
            if name in stages and name not in ordered:
                place(stages[name])
        ordered[stage.name] = stage

    for stage in stages.values():
        if stage.name not in ordered:
            place(stage)
    return list(ordered.values())


def _limits(step: Mapping[str, object], where: str) -> Limits:
    try:
        timeout, memory = step.get("timeout"), step.get("memory")
        return Limits(
            seconds=read_duration(str(timeout)).total_seconds() if timeout is not None else None,
            memory=read_size(str(memory)) if memory is not None else None,
            threads=int(str(step["threads"])) if step.get("threads") is not None else None,
            retries=int(str(step.get("retries", 0))),
        )
    except ValueError as error:
        raise ProjectError(
            f"a limit cannot be read: {error}.",
            where=where,
            next='Write timeout = "10m", memory = "2 GB", threads = 4, retries = 2.',
        ) from error


def _with_neighbours(
    stages: Iterable[_Stage], assembly: Assembly, *, upstream: bool, downstream: bool
) -> list[_Stage]:
    """The stages with those models and notebooks that they depend on, or affect, around them."""
    stages = list(stages)
    own = {part for stage in stages for part in stage.parts}
    before = _reached(own, lambda part: _upstream(part, assembly)) if upstream else set()
    affected = _affected(assembly)
    behind = _reached(own, lambda part: affected.get(part, ())) if downstream else set()
    order = _in_order(before | behind, assembly)
    first = [_alone(part) for part in order if part in before and part not in behind]
    last = [_alone(part) for part in order if part in behind]
    names = frozenset(stage.name for stage in first)
    own_names = frozenset(stage.name for stage in stages)
    return [
        *first,
        *(replace(stage, after=stage.after | names) for stage in stages),
        *(replace(stage, after=own_names) for stage in last),
    ]


def _with_views(stages: Iterable[_Stage], views: Views) -> Iterator[_Stage]:
    """The stages, with the views that go along: in the same one, or ahead of what reads them."""
    placed: set[PartId] = set()
    for stage in stages:
        more = tuple(sorted(views.along(stage.parts)))
        if any(part.kind is Kind.MODEL for part in stage.parts):
            yield replace(stage, parts=(*stage.parts, *more))
        elif placed.issuperset(more):
            yield stage
        else:
            name = f"{stage.name}, what it reads"
            yield _Stage(name=name, parts=more, after=stage.after, limits=UNLIMITED)
            yield replace(stage, after=stage.after | {name})
        placed.update(stage.parts, more)


def _has_checks(model: PartId, rendered: RenderedParts) -> bool:
    """Whether a model's settings demand something of its data."""
    settings = rendered.model(model)
    return bool(settings.key or settings.checks)


def _alone(part: PartId) -> _Stage:
    return _Stage(name=str(part), parts=(part,), after=frozenset(), limits=UNLIMITED)


def _upstream(part: PartId, assembly: Assembly) -> list[PartId]:
    return [p for p in assembly.upstream.get(part, ()) if p.kind in _NEIGHBOURS]


_NEIGHBOURS = frozenset({Kind.MODEL, Kind.NOTEBOOK})
"""Kinds that run along with others: whoever asks for a model does not mean to send anything."""


def _affected(assembly: Assembly) -> Mapping[PartId, Collection[PartId]]:
    affected: dict[PartId, list[PartId]] = {}
    for part in assembly.upstream:
        if part.kind in _NEIGHBOURS:
            for other in _upstream(part, assembly):
                affected.setdefault(other, []).append(part)
    return affected


def _reached(
    starts: Collection[PartId], onward: Callable[[PartId], Iterable[PartId]]
) -> set[PartId]:
    reached: set[PartId] = set()
    waiting = list(starts)
    while waiting:
        for part in onward(waiting.pop()):
            if part not in reached and part not in starts:
                reached.add(part)
                waiting.append(part)
    return reached


def _in_order(parts: Collection[PartId], assembly: Assembly) -> list[PartId]:
    """Parts so that each comes behind those that it reads."""
    ordered: dict[PartId, None] = {}

    def place(part: PartId) -> None:
        for other in sorted(_upstream(part, assembly)):
            if other in parts and other not in ordered:
                place(other)
        ordered[part] = None

    for part in sorted(parts):
        if part not in ordered:
            place(part)
    return list(ordered)


class _Numbering:
    """Turns stages into numbered steps."""

    def __init__(self, assembly: Assembly, rendered: RenderedParts) -> None:
        self._assembly = assembly
        self._rendered = rendered
        self._ends: dict[str, int] = {}
        """By stage, the number of its last step."""
        self._end_of: dict[PartId, int] = {}
        """By part, the number of the last step so far that puts it in place."""
        self.steps: list[RunStep] = []

    def add(self, stage: _Stage) -> None:
        """Add the steps of a stage, behind those of others."""
        before = {self._ends[name] for name in stage.after if name in self._ends}
        models = [part for part in stage.parts if part.kind is Kind.MODEL]
        if models:
            last = self._build(stage, models, before)
        else:
            (part,) = stage.parts
            work = Work.NOTEBOOK if part.kind is Kind.NOTEBOOK else Work.FLOW
            last = self._step(stage, work, part, before | self._upstream_ends(part))
        self._ends[stage.name] = last
        self._end_of.update(dict.fromkeys(stage.parts, last))

    def _build(self, stage: _Stage, models: list[PartId], before: Collection[int]) -> int:
        """Build models, check them, and switch them over together; the last step's number."""
        order = {part: at for at, part in enumerate(self._assembly.model_order)}
        built: dict[PartId, int] = {}
        for model in sorted(models, key=lambda part: order.get(part, len(order))):
            upstream = self._assembly.upstream.get(model, frozenset())
            inside = {built[part] for part in upstream if part in built}
            earlier = {self._end_of[model]} if model in self._end_of else set()
            needs = {*before, *inside, *earlier, *self._upstream_ends(model)}
            built[model] = self._step(stage, Work.BUILD, model, needs)
        checks = [
            self._step(stage, Work.CHECK, model, self._pointed_at(model, built))
            for model in built
            if _has_checks(model, self._rendered)
        ]
        tables: dict[str, int] = {model.relation: number for model, number in built.items()}
        for check in self._assembly.of_kind(Kind.CHECK):
            read = {tables[t] for t in self._assembly.outlines[check].reads if t in tables}
            if read:
                checks.append(self._step(stage, Work.CHECK, check, read))
        return self._step(stage, Work.SWITCH, Whole.MODELS, [*built.values(), *checks])

    def _pointed_at(self, model: PartId, built: Mapping[PartId, int]) -> set[int]:
        """The builds that a check of a model's data needs: its own, and those it points to."""
        others = self._assembly.upstream.get(model, frozenset()) | set(built)
        pointed = {
            number
            for other, number in built.items()
            if other in others and self._points_to(model, other)
        }
        return {built[model], *pointed}

    def _points_to(self, model: PartId, other: PartId) -> bool:
        checks = self._rendered.model(model).checks.values()
        return any(
            str(each.get("points_to", "")).lower().startswith(f"{other.relation}.")
            for each in checks
        )

    def _upstream_ends(self, part: PartId) -> set[int]:
        """The last steps of stages before that put in place what a part reads."""
        upstream = self._assembly.upstream.get(part, frozenset())
        return {self._end_of[other] for other in upstream if other in self._end_of}

    def _step(self, stage: _Stage, work: Work, part: PartId | Whole, needs: Iterable[int]) -> int:
        number = len(self.steps) + 1
        limits = stage.limits if work is not Work.CHECK else replace(stage.limits, retries=0)
        self.steps.append(
            RunStep(
                number=number,
                stage=stage.name,
                work=work,
                part=part,
                needs=tuple(sorted(set(needs))),
                limits=limits,
            )
        )
        return number


def subject_of(name: str, assembly: Assembly) -> PartId:
    """The part that somebody wants to run, by its name; case does not count.

    Raises:
        UsageError: when there is none, or it cannot be run; with the nearest name.
    """
    folded = name.lower()
    known = {part.name.lower(): part for kind in RUNNABLE for part in assembly.of_kind(kind)}
    known |= {str(part).lower(): part for part in assembly.parts}
    part = known.get(folded)
    if part is None:
        runnable = [n for n, p in known.items() if p.kind in RUNNABLE]
        near = did_you_mean(folded, runnable, "See what is live: inchworm status ENV.")
        raise UsageError(f"There is no pipeline, model, notebook or flow {name}.", next=near)
    if part.kind not in RUNNABLE:
        raise UsageError(
            f"{part} cannot be run.",
            next="Run a pipeline, model, notebook or flow.",
        )
    return part
