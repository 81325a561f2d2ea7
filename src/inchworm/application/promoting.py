"""Promoting: drafting into an environment, carrying a draft out, going on with one that stopped."""

from __future__ import annotations

import datetime as dt
from collections.abc import Collection, Mapping
from contextlib import closing, nullcontext
from types import MappingProxyType

from msgspec import Struct, field
from msgspec.structs import replace

from inchworm.application.entry import Entry, demand_entry
from inchworm.application.route import ask_passages
from inchworm.application.rules import rules_in_force
from inchworm.application.signing import check_seen, keep_head, own_signing_key
from inchworm.application.workplace import LOCKS, Workplace
from inchworm.core.bundle.bundle import Bundle
from inchworm.core.checks import rules
from inchworm.core.checks.findings import in_order
from inchworm.core.environments.environment import Environment
from inchworm.core.errors import EnvironmentMoved, UsageError, Waiting, did_you_mean
from inchworm.core.identifiers import Kind
from inchworm.core.ledger.promotions import lacking_in_words
from inchworm.core.parameters.matrix import references
from inchworm.core.parameters.values import Value
from inchworm.core.promotion.choosing import ABSENT, Choice, Sources
from inchworm.core.promotion.promotion import Promotion, Step
from inchworm.core.promotion.states import State
from inchworm.core.running.run import Run
from inchworm.engine.connections import Beginning, begin_to_read
from inchworm.engine.drafting import Drafted, Wish, make_draft
from inchworm.engine.open_environment import OpenEnvironment
from inchworm.engine.passing import check_entry, held_before
from inchworm.engine.preparation import Prepared, prepare
from inchworm.engine.reporter import Reporter
from inchworm.targets.databases.registry import product_at

_EVERYTHING = Choice()
_NO_SOURCES: Sources = MappingProxyType({})


class PromotionRequest(Struct, frozen=True, kw_only=True):
    """What is asked of a new promotion.

    Attributes:
        bundle: its name, or the path of its file.
        environment: where to.
        values: values given for once, as text, by parameter.
        overwrite: whether changes that were made there by hand may be lost.
        back: whether the bundle may go back behind the one that runs there.
        put_back: whether tables of schemas that are missing there are made again, empty.
        resume: schedules and flows that were stopped by hand, and are to run again.
        choice: the parts that go; others stay as they are.
    """

    bundle: str
    environment: str
    values: Mapping[str, str] = field(default_factory=dict)
    overwrite: bool = False
    back: bool = False
    put_back: bool = False
    resume: frozenset[str] = frozenset()
    choice: Choice = _EVERYTHING


def draft_promotion(workplace: Workplace, request: PromotionRequest) -> Drafted:
    """Draft against the environment as it stands now. Nothing is recorded or changed.

    Raises:
        UsageError: when the bundle is of another project, or is not taken there.
        Waiting: when it has not passed through the environments before.
        TargetError: when the environment cannot be reached or a secret is missing.
    """
    environment = workplace.project.environment(request.environment)
    begun = _begun(workplace, environment, request.bundle)
    with nullcontext() if begun is None else closing(begun):
        return _drafted(workplace, environment, request, begun)


def _begun(workplace: Workplace, environment: Environment, bundle: str) -> Beginning | None:
    """The environment, about to be opened, where that can begin before the bundle is read.

    A driver opens a file with thousands of tables while Python goes on. It is done where there is
    something to do, as far as that can be told by now, and nobody else opens the file meanwhile.
    """
    address, project = environment.database, workplace.project
    others = {other.database.url for other in project.environments if other is not environment}
    if references(address.url) or address.password is not None or address.url in others:
        return None
    if product_at(address.url).files is None:
        return None
    begun = begin_to_read(environment, project.settings.name, workplace.machine, {})
    live = begun.remembered.composition.last if begun.remembered is not None else None
    if live is None or live.bundle != bundle:
        begun.connection.begin()
    return begun


def _drafted(
    workplace: Workplace,
    environment: Environment,
    request: PromotionRequest,
    begun: Beginning | None,
) -> Drafted:
    bundle = workplace.bundles.get(request.bundle)
    project = workplace.project.settings.name
    if bundle.project != project:
        raise UsageError(
            f"{bundle.name} is of the project {bundle.project}, not of {project}.",
            next="Promote it from its own project.",
        )
    passages = ask_passages(workplace, environment.after)
    in_force = rules_in_force(workplace, environment)
    try:
        route = check_entry(bundle, environment, passages, workplace.ledger)
    except Waiting as waiting:
        if not in_force.conditions.exception_skips_route:
            raise
        route = (rules.ROUTE_SKIPPED.finding(waiting.what.rstrip(".")),)
    unpassed = held_before(passages, bundle.digest)
    route += tuple(
        rules.HELD_BEFORE.finding(
            f"{part} is on hold in {where}, so it stays as it is in {environment.name}", part=part
        )
        for part, where in sorted(unpassed.items())
    )
    prepared = prepare_bundle(workplace, bundle, environment, workplace.today, request.values)
    _check_resumed(prepared, request.resume)
    wish = Wish(
        overwrite=request.overwrite,
        back=request.back,
        put_back=request.put_back,
        resume=request.resume,
        choice=request.choice,
        route=route,
        unpassed=frozenset(unpassed),
        rules=in_force.rules,
    )
    return draft_prepared(workplace, prepared, wish, begun)


def draft_prepared(
    workplace: Workplace, prepared: Prepared, wish: Wish, begun: Beginning | None = None
) -> Drafted:
    """Draft what is prepared, and hold the ledger against what the environment knows of it.

    Args:
        workplace: the workplace.
        prepared: the bundle, made ready for the environment.
        wish: what was asked for.
        begun: where opening the environment has begun.

    Raises:
        LedgerError: when the ledger lacks what the environment's database was told.
        TargetError: when the environment cannot be reached or a secret is missing.
    """

    def mix(plain: Prepared, sources: Sources) -> Prepared:
        return prepare_bundle(
            workplace, plain.bundle, plain.environment, plain.today, plain.overrides, sources
        )

    if not wish.rules.digest:
        wish = replace(wish, rules=rules_in_force(workplace, prepared.environment).rules)
    drafted = make_draft(prepared, workplace.machine, workplace.now(), wish, mix, begun)
    name = prepared.environment.name
    lacking = workplace.ledger.unknown_there(prepared.environment, drafted.live.promotions)
    if lacking is not None:
        finding = rules.OLDER_DATABASE.finding(lacking_in_words(lacking, name))
        findings = tuple(in_order([*drafted.draft.findings, finding]))
        drafted = replace(drafted, draft=replace(drafted.draft, findings=findings))
    workplace.ledger.check_behind({name: drafted.live.heads})
    check_seen(workplace)
    workplace.ledger.hear(name, drafted.live.promotions)
    return drafted


def prepare_bundle(
    workplace: Workplace,
    bundle: Bundle,
    environment: Environment,
    today: dt.date,
    overrides: Mapping[str, str],
    sources: Sources = _NO_SOURCES,
) -> Prepared:
    """A bundle made ready for an environment; what is worked out about it is remembered.

    Args:
        workplace: the workplace.
        bundle: the bundle.
        environment: the environment.
        today: the day that ``today`` means in values.
        overrides: values given for once, as text.
        sources: parts that are as in other bundles, or left out.

    Raises:
        ProjectError: when the environment lacks a value.
        UsageError: when another bundle is not in the bundle store.
    """
    facts = workplace.bundle_facts(bundle, is_whole=not sources)
    named = {name: workplace.bundles.get(name) for name in {*sources.values()} - {ABSENT}}
    others = {part: named.get(name) for part, name in sources.items()}
    own = _own_values(workplace, environment)
    return prepare(bundle, environment, today, overrides, facts, others, own)


def _own_values(workplace: Workplace, environment: Environment) -> Mapping[str, Value]:
    """The values of the parameters in an environment's file, as the source tree has them."""
    uses = workplace.project.declared.uses
    names = {use.parameter for use in uses if use.file == environment.file}
    if not names:
        return {}
    return {name: v for name, v in workplace.values(environment).items() if name in names}


def _check_resumed(prepared: Prepared, names: Collection[str]) -> None:
    """Whether what is to run again is a schedule, pipeline or flow of the bundle.

    Raises:
        UsageError: with the nearest one, when it is not.
    """
    if not names:
        return
    assembly = prepared.reading.assembly
    known = {flow.name for flow in assembly.of_kind(Kind.FLOW)}
    for pipeline in assembly.of_kind(Kind.PIPELINE):
        schedules = assembly.outlines[pipeline].schedule_names
        known |= {pipeline.name, *schedules, *(f"{pipeline.name}.{each}" for each in schedules)}
    for name in names:
        if name not in known:
            near = did_you_mean(name, sorted(known), "See inchworm status ENV.")
            raise UsageError(f"There is no schedule or flow {name}.", next=near)


def record_draft(workplace: Workplace, drafted: Drafted) -> Promotion:
    """Record a draft as the next promotion."""
    promotion = workplace.ledger.draft(drafted.draft, drafted.prepared.bundle.commit)
    keep_head(workplace)
    return promotion


class Resumed(Struct, frozen=True, kw_only=True):
    """A recorded promotion, made ready to be carried out or to go on."""

    promotion: Promotion
    environment: Environment
    prepared: Prepared


def resume(workplace: Workplace, id_: str) -> Resumed:
    """Make a recorded promotion ready to be carried out, or to go on where it stopped.

    Raises:
        UsageError: when there is none of that name, or it is over.
    """
    promotion = workplace.ledger.promotion(id_)
    if promotion.was_passed:
        again = f"inchworm promote {promotion.draft.bundle} --to {promotion.draft.environment}"
        raise EnvironmentMoved(
            f"{promotion.draft.environment} moved since {promotion.id} was drafted: it was "
            f"{promotion.message}.",
            next=f"Draft again: {again}",
        )
    if not promotion.state.may_go_on:
        raise UsageError(
            f"{promotion.id} is {promotion.state.value}.", next="See inchworm history."
        )
    draft = promotion.draft
    environment = workplace.project.environment(draft.environment)
    bundle = workplace.bundles.get(draft.bundle)
    today = dt.date.fromisoformat(draft.today)
    prepared = prepare_bundle(workplace, bundle, environment, today, draft.overrides, draft.sources)
    return Resumed(promotion=promotion, environment=environment, prepared=prepared)


def carry_out_promotion(
    workplace: Workplace,
    prepared: Prepared,
    promotion: Promotion,
    reporter: Reporter,
    entry: Entry | None = None,
) -> Promotion:
    """Carry out a recorded promotion, or go on with it.

    Args:
        workplace: the workplace.
        prepared: its bundle, made ready for the environment.
        promotion: the promotion.
        reporter: hears of each step.
        entry: how it stands to the entry conditions, where that was just judged.

    Raises:
        BundleError: when a file of the bundle was altered after packing.
        EnvironmentMoved: when the environment is not as drafted, or is locked.
        Waiting: when an entry condition of the environment is missing.
        KeyboardInterrupt: after recording where it stopped.
    """
    _check_rules(workplace, promotion)
    entry = demand_entry(workplace, promotion, entry)
    own_signing_key(workplace)  # one that cannot be used is said before anything is done
    from inchworm.engine.promoting import Work, carry_out  # much that a draft does not need

    def run_subject(place: OpenEnvironment, name: str) -> Run:
        from inchworm.application.verifying import run_within  # only where one is demanded

        return run_within(workplace, prepared, promotion, place, name)

    for bundle in (prepared.bundle, *filter(None, prepared.others.values())):
        bundle.verify()
    carried_out = carry_out(
        Work(
            prepared=prepared,
            promotion=promotion,
            ledger=workplace.ledger,
            machine=workplace.machine,
            locks=workplace.root / LOCKS,
            by=workplace.user,
            now=workplace.now,
            process=workplace.process,
            reporter=reporter,
            admission=entry.admission,
            run_subject=run_subject,
        )
    )
    keep_head(workplace)
    return carried_out


def _check_rules(workplace: Workplace, promotion: Promotion) -> None:
    """Whether the rules are those by which a promotion was drafted.

    Raises:
        EnvironmentMoved: when they are others.
    """
    draft = promotion.draft
    environment = workplace.project.environment(draft.environment)
    now = rules_in_force(workplace, environment).rules.digest
    if promotion.state is State.DRAFTED and draft.rules.digest not in {"", now}:
        raise EnvironmentMoved(
            f"the rules of {environment.name} changed since {promotion.id} was drafted.",
            where=environment.file,
            next=f"Draft again: inchworm promote {draft.bundle} --to {environment.name}",
        )


def drop(workplace: Workplace, promotion: Promotion, why: str) -> None:
    """Give up a draft that was not begun.

    Raises:
        UsageError: when it was.
    """
    if promotion.state is not State.DRAFTED:
        raise UsageError(
            f"{promotion.id} is {promotion.state}: only a draft can be dropped.",
            next=f"To take back what it did: inchworm rollback {promotion.id}.",
        )
    workplace.ledger.move(promotion, State.DROPPED, why)


def step_key(step: Step) -> str:
    """By which a step is known again in other promotions."""
    return f"{step.phase.value} {step.part} {step.item}"


def usual_seconds(workplace: Workplace, environment: str) -> dict[str, float]:
    """How long each step took the last time in an environment, in seconds, by :func:`step_key`.

    The latest promotions that were completed there are looked at.
    """
    usual: dict[str, float] = {}
    promoted_there = [
        summary.id
        for summary in workplace.ledger.summaries()
        if summary.environment == environment and summary.state is State.DONE
    ]
    for id_ in promoted_there[-_LOOKED_AT:]:
        promotion = workplace.ledger.promotion(id_)
        for step in promotion.draft.steps:
            seconds = promotion.report_of(step).seconds
            if seconds is not None:
                usual[step_key(step)] = seconds
    return usual


_LOOKED_AT = 5
"""How many earlier promotions are asked how long steps take."""
