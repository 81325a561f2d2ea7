"""Reviewing: everything that somebody needs who has to say yes or no to a draft."""

from __future__ import annotations

import datetime as dt
from collections import Counter
from collections.abc import Iterable, Iterator, Mapping

from msgspec import Struct, field
from msgspec.structs import replace

from inchworm.application.comparing import compare_readings
from inchworm.application.entry import Entry, entry_of
from inchworm.application.promoting import prepare_bundle, step_key, usual_seconds
from inchworm.application.workplace import Workplace
from inchworm.core.bundle.compare import Change
from inchworm.core.environments.environment import Environment
from inchworm.core.errors import BundleError, InchwormError, UsageError
from inchworm.core.execution import StepState
from inchworm.core.identifiers import Kind, PartId
from inchworm.core.lineage.facts import Assembly
from inchworm.core.lineage.graph import Direction, Edge, Node, between_owners
from inchworm.core.parts import Digest, SourceFile
from inchworm.core.promotion.promotion import Promotion, Step
from inchworm.core.promotion.states import Phase, State
from inchworm.core.running.run import Run, RunId
from inchworm.engine.preparation import Prepared

_IN_WORK = frozenset({Phase.BUILD, Phase.SWITCH, Phase.DELIVER, Phase.WITHDRAW, Phase.CHECK})


class ChangedFile(Struct, frozen=True, kw_only=True):
    """A file of a part as it is live, and as it would be.

    Attributes:
        before: its text; None where it is new.
        after: its text; None where it goes.
    """

    part: PartId
    path: str
    before: str | None
    after: str | None


class Proof(Struct, frozen=True, kw_only=True):
    """Something that happened to the same bundle elsewhere.

    Attributes:
        record: the promotion or run.
        what: what it was about, in words.
        state: how it ended.
        at: when, ISO 8601, UTC.
        by: who began it.
        detail: checks that were made, rows, measures.
    """

    environment: str
    record: str
    what: str
    state: str
    at: str
    by: str
    detail: str


class Review(Struct, frozen=True, kw_only=True):
    """Everything about a draft, for whoever has to say yes or no.

    Attributes:
        changes: what it changes for those who rely on parts; None where the bundle that runs
            there is not in the bundle store.
        files: the files that differ from what is live, by part.
        edges: the lineage between tables and parts that are worked on, and what they reach.
        touched: owners of that lineage that are worked on.
        statements: the SQL that each step would run.
        unread: why statements are not known; empty where they are.
        proofs: what happened to the bundle elsewhere.
        usual: how long steps usually take, in seconds, by step number.
    """

    promotion: Promotion
    environment: Environment
    entry: Entry
    changes: tuple[Change, ...] | None = None
    files: tuple[ChangedFile, ...] = ()
    edges: tuple[Edge, ...] = ()
    touched: frozenset[str] = frozenset()
    statements: tuple[tuple[Step, tuple[str, ...]], ...] = ()
    unread: str = ""
    proofs: tuple[Proof, ...] = ()
    usual: Mapping[int, float] = field(default_factory=dict)

    @property
    def affected(self) -> list[str]:
        """What the steps do not work on, and is downstream of it."""
        owners = {owner for e in self.edges for owner in (e.source.owner, e.target.owner)}
        return sorted(owners - self.touched)

    @property
    def seconds(self) -> float | None:
        """How long it should take by what steps took before; None where too few are known."""
        known = [self.usual[s.number] for s in self.promotion.draft.steps if s.number in self.usual]
        return sum(known) if 2 * len(known) > len(self.promotion.draft.steps) else None


def review(workplace: Workplace, id_: str) -> Review:
    """Everything about a recorded promotion.

    Raises:
        UsageError: when there is none of that name, or its bundle is not in the bundle store.
        BundleError: when the bundle is not the one that was drafted.
    """
    promotion = workplace.ledger.promotion(id_)
    draft = promotion.draft
    environment = workplace.project.environment(draft.environment)
    bundle = workplace.bundles.get(draft.bundle)
    if bundle.digest != draft.bundle_digest:
        raise BundleError(
            f"{bundle.name} in the bundle store is not the bundle that {promotion.id} was drafted "
            "with.",
            next="Put that bundle back, or draft again.",
        )
    today = dt.date.fromisoformat(draft.today)
    prepared = prepare_bundle(workplace, bundle, environment, today, draft.overrides)
    before = _live_before(workplace, promotion, environment)
    assembly = prepared.reading.assembly
    edges, touched = _lineage(promotion, assembly, before)
    made = Review(
        promotion=promotion,
        environment=environment,
        entry=entry_of(workplace, promotion) if promotion.state is State.DRAFTED else Entry(),
        changes=tuple(compare_readings(before.reading, prepared.reading)) if before else None,
        files=tuple(_files(promotion, prepared, before)),
        edges=edges,
        touched=touched,
        proofs=tuple(_proofs(workplace, promotion)),
        usual=_usual(workplace, promotion),
    )
    if promotion.state.may_go_on:
        try:
            return replace(made, statements=tuple(_statements(workplace, promotion, prepared)))
        except InchwormError as error:
            return replace(made, unread=error.what)
    return replace(made, unread=f"it is {promotion.state}: they would be others today.")


def _live_before(
    workplace: Workplace, promotion: Promotion, environment: Environment
) -> Prepared | None:
    """The bundle that ran there when the draft was made; None where it is not to be had."""
    ran = promotion.draft.runs_there
    if ran is None:
        return None
    try:
        bundle = workplace.bundles.get(ran.bundle)
        if bundle.digest != ran.digest:
            return None
        sources = {PartId.parse(part): source for part, source in ran.mixture.sources.items()}
        return prepare_bundle(workplace, bundle, environment, workplace.today, {}, sources)
    except (UsageError, BundleError):
        return None


def _files(
    promotion: Promotion, prepared: Prepared, before: Prepared | None
) -> Iterator[ChangedFile]:
    """The files of parts that the steps work on, where their text differs."""
    new = prepared.reading.assembly.parts
    old = before.reading.assembly.parts if before else {}
    worked_on = {step.part for step in promotion.draft.steps if isinstance(step.part, PartId)}
    for part in sorted(worked_on):
        after = _texts(new[part].files) if part in new else {}
        earlier = _texts(old[part].files) if part in old else {}
        for path in sorted({*after, *earlier}):
            if after.get(path) != earlier.get(path) and not (before is None and path not in after):
                yield ChangedFile(
                    part=part, path=path, before=earlier.get(path), after=after.get(path)
                )


def _texts(files: Iterable[SourceFile]) -> dict[str, str]:
    return {file.path: file.content.decode("utf-8", "replace") for file in files}


def _lineage(
    promotion: Promotion, assembly: Assembly, before: Prepared | None
) -> tuple[tuple[Edge, ...], frozenset[str]]:
    """Edges from what the steps work on, down to everything that it reaches."""
    worked_on = {
        _owner(step.part)
        for step in promotion.draft.steps
        if isinstance(step.part, PartId) and step.phase in _IN_WORK
    }
    reached: set[str] = set(worked_on)
    edges: dict[tuple[str, str], Edge] = {}
    for each in (assembly, before.reading.assembly if before else None):
        if each is None:
            continue
        graph = each.graph
        starts = [n for owner in worked_on for n in (Node(owner), *graph.of_owner(owner))]
        down = {node.owner for node in graph.reached(starts, Direction.DOWN)} | worked_on
        reached |= down
        for edge in between_owners(graph.edges):
            if edge.source.owner in down and edge.target.owner in down:
                edges.setdefault((edge.source.owner, edge.target.owner), edge)
    return tuple(edges.values()), frozenset(worked_on)


def _owner(part: PartId) -> str:
    return part.relation if part.kind is Kind.MODEL else str(part)


def _statements(
    workplace: Workplace, promotion: Promotion, prepared: Prepared
) -> Iterator[tuple[Step, tuple[str, ...]]]:
    """The SQL of each step, under the names that tables have there."""
    from inchworm.engine.previewing import statements

    of_step = statements(
        prepared, promotion, workplace.machine, by=workplace.user, now=workplace.now
    )
    for step in promotion.draft.steps:
        if of_step.get(step.number):
            yield step, of_step[step.number]


def _proofs(workplace: Workplace, promotion: Promotion) -> Iterator[Proof]:
    """Promotions and runs of the same bundle in other environments, in their order."""
    draft = promotion.draft
    for summary in workplace.ledger.summaries():
        is_other = summary.environment != draft.environment
        if summary.bundle_digest != draft.bundle_digest or not is_other:
            continue
        if summary.state in {State.DRAFTED, State.DROPPED}:
            continue
        other = workplace.ledger.promotion(summary.id)
        yield Proof(
            environment=summary.environment,
            record=str(summary.id),
            what="promotion",
            state=other.state.value,
            at=other.changed_at,
            by=other.changed_by,
            detail=_checks(other),
        )
    measured: dict[str, list[str]] = {}
    for each in workplace.ledger.measured():
        measured.setdefault(str(each.run), []).append(f"{each.name} {each.value:g}")
    for run in _latest_runs(workplace, draft.bundle_digest):
        yield Proof(
            environment=run.plan.environment,
            record=str(run.id),
            what=f"run of {run.plan.subject}",
            state=run.state.value,
            at=run.changed_at,
            by=run.began_by,
            detail=", ".join(measured.get(str(run.id), ())),
        )


def _latest_runs(workplace: Workplace, bundle_digest: Digest) -> Iterator[Run]:
    """The latest runs of each part of a bundle in each environment, in the order of their numbers.

    A schedule may have started thousands.
    """
    counts: Counter[tuple[str, PartId]] = Counter()
    chosen: list[RunId] = []
    for summary in workplace.ledger.runs()[::-1]:
        if summary.bundle_digest == bundle_digest:
            counts[summary.environment, summary.subject] += 1
            if counts[summary.environment, summary.subject] <= _LATEST_RUNS:
                chosen.append(summary.id)
    for id_ in chosen[::-1]:
        run = workplace.ledger.run(id_)  # its entries say whether the index is right
        if run.plan.bundle_digest == bundle_digest:
            yield run


_LATEST_RUNS = 5
"""How many runs of a part are shown as proof, of each environment."""


def _checks(promotion: Promotion) -> str:
    """How its data checks ended, in words."""
    counts: dict[str, int] = {}
    for step in promotion.draft.steps:
        if step.phase is Phase.CHECK:
            state = promotion.report_of(step).state
            if state is not StepState.WAITING:
                counts[state.value] = counts.get(state.value, 0) + 1
    outcomes = ", ".join(f"{count} {state}" for state, count in counts.items())
    return f"data checks: {outcomes}" if outcomes else ""


def _usual(workplace: Workplace, promotion: Promotion) -> dict[int, float]:
    usual = usual_seconds(workplace, promotion.draft.environment)
    return {
        step.number: usual[key]
        for step in promotion.draft.steps
        if (key := step_key(step)) in usual
    }
