"""From a bundle and an environment to a draft."""

from __future__ import annotations

import datetime as dt
import uuid
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from types import MappingProxyType

from inchworm.core.bundle.bundle import Bundle
from inchworm.core.checks import rules
from inchworm.core.checks.findings import Finding, Severity, has_errors, in_order
from inchworm.core.environments.environment import Environment
from inchworm.core.environments.physical_names import PhysicalNames, tables_renamed
from inchworm.core.environments.rights import Rights
from inchworm.core.errors import BundleError, ProjectError, UsageError, Waiting, did_you_mean
from inchworm.core.identifiers import Kind, PartId, PromotionId, RelationName
from inchworm.core.lineage.facts import Assembly
from inchworm.core.lineage.facts_cache import FactsCache
from inchworm.core.parameters.matrix import Matrix, evaluate
from inchworm.core.parameters.values import Value
from inchworm.core.promotion.aside import Aside, Purpose
from inchworm.core.promotion.choosing import Choice, Hold, Sources, chosen_parts, kept_sources
from inchworm.core.promotion.composition import Composition, LivePart
from inchworm.core.promotion.drafting.draft import draft
from inchworm.core.promotion.drafting.request import PlannedChanges, Request
from inchworm.core.promotion.drafting.standing import other_content
from inchworm.core.promotion.promotion import Draft
from inchworm.core.promotion.rollback import Leaving, Rollback, usable_replaced
from inchworm.core.promotion.states import Phase
from inchworm.core.rendered import RenderedParts
from inchworm.engine.connections import (
    OpenEnvironment,
    check_secrets,
    open_environment,
    secrets_of,
    unchecked_secrets,
)
from inchworm.engine.mixing import MixedContents
from inchworm.engine.route import Passage
from inchworm.kinds.project_reader import Reading, read_project
from inchworm.kinds.recipes import recipe_of
from inchworm.project.dialects import known_dialects
from inchworm.store.ledger import Ledger
from inchworm.targets.machine import Machine

_NO_OTHERS: Mapping[PartId, Bundle | None] = MappingProxyType({})


@dataclass(frozen=True, kw_only=True)
class Prepared:
    """A bundle made ready for one environment: read, with values, its parts rendered when asked."""

    bundle: Bundle
    reading: Reading
    environment: Environment
    today: dt.date
    values: Mapping[str, Value]
    rendered: RenderedParts
    overrides: Mapping[str, str]
    others: Mapping[PartId, Bundle | None] = field(default_factory=dict)
    """The parts that are as in other bundles, or left out."""

    def recall(self, live: Iterable[LivePart]) -> None:
        """Take over the digests of live parts that are rendered from the same things here."""
        for part in live:
            self.rendered.recall(part.part, part.recipe, part.digest)


def prepare(
    bundle: Bundle,
    environment: Environment,
    today: dt.date,
    overrides: Mapping[str, str] | None = None,
    known: FactsCache | None = None,
    others: Mapping[PartId, Bundle | None] = _NO_OTHERS,
) -> Prepared:
    """Read a bundle and render its parts for an environment.

    Args:
        bundle: what is to be promoted.
        environment: where to.
        today: the day that ``today`` means in values.
        overrides: values given for once, as text.
        known: facts of the same parts from earlier; brought up to date.
        others: the parts that are as in other bundles, or left out.

    Raises:
        BundleError: when its dialect is not known.
        ProjectError: when the environment lacks a value.
        UsageError: when values are given that cannot be.
    """
    overrides = overrides or {}
    if bundle.dialect not in known_dialects():
        raise BundleError(
            f"{bundle.name} is in a dialect that is not known here: {bundle.dialect}.",
            next="Use the version of Inchworm that packed it, or a newer one.",
        )
    reading = read_project(
        name=bundle.project,
        version=bundle.version,
        dialect=bundle.dialect,
        files=MixedContents(bundle, others) if others else bundle.files,
        known=known,
    )
    _check_overrides(environment, reading.assembly.matrix, overrides)
    values = evaluate(reading.assembly.matrix, environment.name, today, overrides)
    if values.problems:
        first = values.problems[0]
        raise ProjectError(first.message + ".", where=first.place, next=first.remedy)
    return Prepared(
        bundle=bundle,
        reading=reading,
        environment=environment,
        today=today,
        values=values.values,
        rendered=rendered_for(environment, reading, values.values),
        overrides=overrides,
        others=others,
    )


def rendered_for(
    environment: Environment, reading: Reading, values: Mapping[str, Value]
) -> RenderedParts:
    """The parts of a version with an environment's values, each rendered when it is asked for."""
    assembly = reading.assembly
    return RenderedParts(
        assembly.parts,
        render=lambda part: reading.render(part, values).placed(
            tables_renamed(part, assembly, environment)
        ),
        recipe=lambda part: recipe_of(
            assembly, part, values, tables_renamed(part, assembly, environment)
        ),
    )


def _check_overrides(
    environment: Environment, matrix: Matrix, overrides: Mapping[str, str]
) -> None:
    if overrides and not environment.overrides:
        raise UsageError(
            f"{environment.name} ({environment.protection}) takes no values for once.",
            where=environment.file,
            next="Change the value in parameters.toml, or say overrides = true in that file.",
        )
    for name in overrides:
        if name not in matrix:
            near = did_you_mean(name, matrix, "See inchworm params.")
            raise UsageError(f"There is no parameter {name}.", next=near)


@dataclass(frozen=True, kw_only=True)
class Drafted:
    """A draft, and what has to be shown with it."""

    draft: Draft
    prepared: Prepared
    live: Composition
    """What the environment had when it was drafted."""


_EVERYTHING = Choice()

Mix = Callable[[Prepared, Sources], Prepared]
"""Makes a bundle ready again with some parts as in other bundles."""


@dataclass(frozen=True, kw_only=True)
class Wish:
    """What is asked of a draft.

    Attributes:
        overwrite: whether changes that were made there by hand may be lost.
        back: whether the bundle may go back behind the one that runs there.
        put_back: whether tables of schemas that are missing there are made again, empty.
        resume: schedules and flows that were stopped by hand, and are to run again.
        route: findings about the environments that it has to pass through before.
        choice: the parts that go; others stay as they are.
        hold: a hold that is to come.
        lift: the part whose hold is to go.
        rollback: what makes it a rollback.
        leaving: what the bundles that a rollback leaves know of migrations.
    """

    overwrite: bool = False
    back: bool = False
    put_back: bool = False
    resume: frozenset[str] = frozenset()
    route: tuple[Finding, ...] = ()
    choice: Choice = _EVERYTHING
    hold: Hold | None = None
    lift: PartId | None = None
    rollback: Rollback | None = None
    leaving: Leaving = field(default_factory=Leaving)


def make_draft(prepared: Prepared, machine: Machine, read_at: str, wish: Wish, mix: Mix) -> Drafted:
    """Draft against the environment as it stands now. Nothing is recorded or changed.

    Args:
        prepared: the bundle, made ready for the environment.
        machine: where the project is, with its environment variables.
        read_at: the time, ISO 8601, UTC.
        wish: what was asked for.
        mix: makes the bundle ready again, where some parts stay as they are.

    Raises:
        TargetError: when the environment cannot be reached or a secret is missing.
        UsageError: when what is chosen is no part.
    """
    environment = prepared.environment
    assembly = prepared.reading.assembly
    own = set(secrets_of(environment))
    used = {use.parameter for outline in assembly.outlines.values() for use in outline.uses}
    secrets = check_secrets(environment, prepared.values, own, machine)
    secrets += unchecked_secrets(prepared.values, used - own)
    came_from = environment.after[0] if environment.after else None
    elsewhere = evaluate(assembly.matrix, came_from, prepared.today) if came_from else None
    with open_environment(
        environment, prepared.bundle.project, machine, prepared.values, read_only=True
    ) as place:
        live = place.composition(place.clock(lambda: read_at)())
        holds = _holds(live, wish, prepared.today)
        sources, is_choice = _sources(prepared, live, wish, holds)
        mixed: tuple[Finding, ...] = ()
        if sources or prepared.others:
            prepared = mix(prepared, sources)
            assembly = prepared.reading.assembly
            mixed = _mixed(assembly, prepared.today)
        prepared.recall(live.parts.values())
        names = PhysicalNames(assembly, environment, place.database.dialect)
        baselines, planned = _structures(prepared, place, names, live)
        rights = _rights(prepared, place, names, live)
        replaced = _replaced(place, wish.rollback, live) if wish.rollback else {}
        columns = _columns(place, replaced)
        drafted = draft(
            Request(
                project=prepared.bundle.project,
                bundle=prepared.bundle.name,
                bundle_digest=prepared.bundle.digest,
                environment=environment,
                assembly=assembly,
                rendered=prepared.rendered,
                values=prepared.values,
                live=live,
                names=names,
                today=prepared.today,
                came_from=came_from,
                values_there=elsewhere.values if elsewhere else {},
                secrets=secrets,
                overrides=prepared.overrides,
                planned=planned,
                baselines=baselines,
                overwrite=wish.overwrite,
                back=wish.back,
                resume=wish.resume,
                put_back=wish.put_back,
                clock=read_at,
                rights=rights,
                route=wish.route,
                sources=sources,
                is_choice=is_choice,
                holds=holds,
                mixed=mixed,
                rollback=wish.rollback,
                replaced=replaced,
                replaced_columns=columns,
                leaving=wish.leaving,
            )
        )
        drafted = _tried(drafted, prepared, place)
    return Drafted(draft=drafted, prepared=prepared, live=live)


def _tried(drafted: Draft, prepared: Prepared, place: OpenEnvironment) -> Draft:
    """The draft, once the database has read every statement that it is going to run.

    So that what is reviewed and approved can run. Where nothing is built or changed, or errors are
    in the way already, there is nothing to try.
    """
    if has_errors(drafted.findings) or not any(s.phase in _TRIED for s in drafted.steps):
        return drafted
    from inchworm.engine.actions.plan import planned  # much that a draft of nothing does not need
    from inchworm.engine.dry_run import try_draft
    from inchworm.engine.site import Site

    plan = planned(drafted.steps)
    site = Site(
        prepared=prepared,
        place=place,
        id=PromotionId(uuid.uuid4().hex, 0),
        building=frozenset(part.relation for part in plan.building),
        by="",
        now=lambda: "",
        changes=drafted.changes,
        undone=drafted.undone,
    )
    refused = try_draft(site, plan)
    if refused is None:
        return drafted
    findings = tuple(in_order([*drafted.findings, *refused]))
    return replace(drafted, findings=findings, is_tried=True)


_TRIED = frozenset({Phase.MIGRATE, Phase.MIGRATE_AFTER, Phase.PREPARE, Phase.BUILD, Phase.CHECK})


def _structures(
    prepared: Prepared, place: OpenEnvironment, names: PhysicalNames, live: Composition
) -> tuple[dict[PartId, tuple[str, ...]], dict[PartId, PlannedChanges]]:
    """What the database says of baselines, and of schemas that are managed by their structure.

    Only schemas are asked about that may have something to do: asking takes a place to try things.
    """
    assembly = prepared.reading.assembly
    managed = [
        part
        for part in assembly.of_kind(Kind.SCHEMA)
        if not assembly.outlines[part].managed_outside
    ]
    ran = {migration.schema for migration in live.migrations}
    filled = {table.schema for table in live.tables.values()}
    unproved = [p for p in managed if p.name not in ran and names.schema(p.name) in filled]
    settled = _settled(prepared, live)
    unsettled = [part for part in managed if part not in settled]
    baselines: dict[PartId, tuple[str, ...]] = {}
    planned: dict[PartId, PlannedChanges] = {}
    if unproved:
        from inchworm.engine.baselines import prove_baselines

        rendered = prepared.rendered
        baselines = prove_baselines(place, assembly, names, rendered, live, unproved)
    if unsettled:
        from inchworm.engine.desired_schema import plan_structures

        others = place.of_others([*live.parts.values(), *live.foreign_parts])
        planned = plan_structures(
            place.database, assembly, names, prepared.rendered, others, unsettled
        )
    return baselines, planned


def _rights(
    prepared: Prepared, place: OpenEnvironment, names: PhysicalNames, live: Composition
) -> Rights:
    """What we may do with whatever models have there, and in all schemas that are ours."""
    assembly = prepared.reading.assembly
    relations = place.of_models(live.parts.values())
    schemas = {names.schema(part.name) for part in assembly.of_kind(Kind.SCHEMA)}
    own = frozenset(name for name in live.tables if RelationName(name).schema in schemas)
    schemas |= {names.table(model.name).schema for model in assembly.of_kind(Kind.MODEL)}
    return place.database.rights(relations | own, schemas)


def _holds(live: Composition, wish: Wish, today: dt.date) -> tuple[Hold, ...]:
    """The holds that are in force once the promotion is done."""
    going = {wish.lift} if wish.lift else set()
    going |= {wish.hold.part} if wish.hold else set()
    stay = [hold for hold in live.holds if hold.part not in going and hold.holds_on(today)]
    return tuple(sorted([*stay, *([wish.hold] if wish.hold else [])], key=lambda h: h.part))


def _sources(
    prepared: Prepared, live: Composition, wish: Wish, holds: Sequence[Hold]
) -> tuple[dict[PartId, str], bool]:
    """The parts that stay as they are, and whether some do because nobody chose them."""
    assembly, bundle = prepared.reading.assembly, prepared.bundle.name
    if wish.rollback is not None:  # it brings back the mixture of then
        then = next(p for p in live.promotions if p.promotion == wish.rollback.to).mixture
        return {PartId.parse(p): source for p, source in then.sources.items()}, then.is_choice
    held = {hold.part for hold in holds}
    unchosen: set[PartId] = set()
    if wish.choice:
        unchosen = {*assembly.parts, *live.parts} - chosen_parts(wish.choice, assembly, live.parts)
    left = kept_sources(unchosen - held, assembly, live.parts, bundle)
    return kept_sources(held, assembly, live.parts, bundle) | left, bool(left)


def _mixed(assembly: Assembly, today: dt.date) -> tuple[Finding, ...]:
    """Errors of a mixture: each bundle by itself had none when it was packed."""
    from inchworm.core.checks.project_rules import check_assembly

    return tuple(
        replace(
            finding,
            remedy="Something that it needs stays as it is: choose that, too (--with-upstream), "
            "or leave this out.",
        )
        for finding in check_assembly(assembly, today)
        if finding.severity is Severity.ERROR
    )


def _replaced(
    place: OpenEnvironment, rollback: Rollback, live: Composition
) -> dict[RelationName, Aside]:
    """The replaced tables of the state that comes back, as far as they are still there."""
    kinds = place.database.kinds()
    kept = place.bookkeeping.aside(place.project)
    replaced = [a for a in kept if a.purpose is Purpose.REPLACED and kinds.get(a.name) == "table"]
    return usable_replaced(replaced, rollback, live.promotions)


def _columns(
    place: OpenEnvironment, replaced: Mapping[RelationName, Aside]
) -> dict[RelationName, frozenset[str]]:
    """The columns that replaced tables have now, in lower case, by the name that they had."""
    if not replaced:
        return {}
    tables = place.database.structure({each.name.schema for each in replaced.values()})
    return {
        of: frozenset(column.name.lower() for column in tables[each.name].columns)
        for of, each in replaced.items()
    }


def _settled(prepared: Prepared, live: Composition) -> set[PartId]:
    """Schemas that were put as they are in the bundle, and where nothing was changed since."""
    address = prepared.environment.database
    changed = {difference.schema for difference in live.differences}
    return {
        part
        for part in prepared.reading.assembly.of_kind(Kind.SCHEMA)
        if (before := live.parts.get(part)) is not None
        and before.digest == prepared.rendered.digest(part)
        and address.physical_schema(part.name) not in changed
    }


def _check_not_taken_back(
    bundle: Bundle, passage: Passage, ledger: str, environment: Environment
) -> None:
    """Whether a bundle did not pass through an environment and was then taken back there.

    Raises:
        Waiting: when it was.
    """
    keys = {p.promotion for p in passage.promotions if p.digest == bundle.digest}
    for rollback in reversed(passage.promotions):
        if keys.intersection(rollback.undoes):
            raise Waiting(
                f"{bundle.name} was taken back in {passage.environment} by "
                f"{rollback.named(ledger)} ({rollback.at[:16].replace('T', ' ')} UTC, "
                f"{rollback.by}), which {environment.name} comes after.",
                where=environment.file,
                next=f"inchworm promote {bundle.name} --to {passage.environment}, if it may go in "
                "there again; else mend it and pack the next version.",
            )


def _check_not_chosen(
    bundle: Bundle, passage: Passage, ledger: str, environment: Environment
) -> None:
    """Whether no more than some chosen parts of a bundle went into an environment.

    Raises:
        Waiting: when that is so.
    """
    for promotion in reversed(passage.promotions):
        if promotion.digest == bundle.digest and promotion.mixture.is_choice:
            raise Waiting(
                f"only some parts of {bundle.name} went into {passage.environment} "
                f"({promotion.named(ledger)}), which {environment.name} comes after.",
                where=environment.file,
                next=f"inchworm promote {bundle.name} --to {passage.environment}",
            )


def check_entry(
    bundle: Bundle, environment: Environment, passages: Sequence[Passage], ledger: Ledger
) -> tuple[Finding, ...]:
    """Whether an environment takes a bundle; findings about the way that it came.

    Whether it passed through the environments before is what their own databases say. The ledger is
    the second witness: it is asked where a database cannot be.

    Args:
        bundle: what is to go in.
        environment: where to.
        passages: what the databases of the environments before say.
        ledger: the ledger.

    Raises:
        UsageError: when it is a snapshot, and the environment takes none.
        BundleError: when its version went into one of them with other content.
        Waiting: when the bundle has not passed through the environments before this one.
    """
    if bundle.snapshot and not environment.snapshots:
        raise UsageError(
            f"{bundle.name} is a snapshot, and {environment.name} ({environment.protection}) "
            "takes none.",
            where=environment.file,
            next=f"Commit, tag the commit v{bundle.version}, and pack again: inchworm pack.",
        )
    findings: list[Finding] = []
    in_ledger = ledger.passed(bundle.digest) if passages else {}
    for passage in passages:
        for other in other_content(
            bundle.name, bundle.digest, passage.promotions, passage.environment
        ):
            raise BundleError(f"{other.message}.", next=other.remedy)
        if passage.has(bundle.digest):
            continue
        _check_not_taken_back(bundle, passage, ledger.id, environment)
        _check_not_chosen(bundle, passage, ledger.id, environment)
        witness = in_ledger.get(passage.environment)
        if witness is None:
            unasked = f" It could not be asked: {passage.problem}" if passage.problem else ""
            raise Waiting(
                f"{bundle.name} has not passed through {passage.environment} yet, which "
                f"{environment.name} comes after.{unasked}",
                where=environment.file,
                next=f"inchworm promote {bundle.name} --to {passage.environment}",
            )
        if not passage.problem:
            raise Waiting(
                f"{witness} took {bundle.name} into {passage.environment}, as this ledger says, "
                "but the database there knows nothing of it: it was restored, or is another one.",
                where=environment.file,
                next=f"inchworm promote {bundle.name} --to {passage.environment}",
            )
        findings.append(
            rules.ROUTE_NOT_ASKED.finding(
                f"whether {bundle.name} passed through {passage.environment} is known from "
                f"{witness} of this ledger alone: {passage.problem}"
            )
        )
    return tuple(findings)
