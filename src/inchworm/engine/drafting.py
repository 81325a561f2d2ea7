"""From a bundle that is made ready, and an environment as it stands, to a draft."""

from __future__ import annotations

import datetime as dt
import uuid
from collections.abc import Callable, Collection, Mapping, Sequence

from msgspec import Struct, field
from msgspec.structs import replace

from inchworm.core.checks.findings import Finding, Severity, has_errors, in_order
from inchworm.core.entry.rules import NO_RULES, Rules
from inchworm.core.environments.physical_names import PhysicalNames
from inchworm.core.environments.rights import Rights
from inchworm.core.identifiers import Kind, PartId, PromotionId, RelationName
from inchworm.core.parameters.matrix import evaluate
from inchworm.core.promotion.aside import Aside, Purpose
from inchworm.core.promotion.choosing import (
    Choice,
    Sources,
    chosen_parts,
    kept_sources,
    lacks_content,
)
from inchworm.core.promotion.composition import Composition
from inchworm.core.promotion.drafting.draft import draft
from inchworm.core.promotion.drafting.request import PlannedChanges, Request
from inchworm.core.promotion.holds import Hold
from inchworm.core.promotion.promotion import Draft, Step, UsedSecret
from inchworm.core.promotion.rollback import Leaving, Rollback, usable_replaced
from inchworm.core.promotion.states import Phase
from inchworm.engine.addresses import check_secrets, secrets_of, unchecked_secrets
from inchworm.engine.connections import Beginning, open_environment
from inchworm.engine.losses import losses
from inchworm.engine.open_environment import OpenEnvironment
from inchworm.engine.preparation import Prepared
from inchworm.targets.machine import Machine


class Drafted(Struct, frozen=True, kw_only=True):
    """A draft, and what has to be shown with it."""

    draft: Draft
    prepared: Prepared
    live: Composition
    """What the environment had when it was drafted."""


_EVERYTHING = Choice()

Mix = Callable[[Prepared, Sources], Prepared]
"""Makes a bundle ready again with some parts as in other bundles."""


class Wish(Struct, frozen=True, kw_only=True):
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
        holds_then: the holds that come back with a rollback; None where nobody knows them, and
            those of now stay.
        rollback: what makes it a rollback.
        leaving: what the bundles that a rollback leaves know of migrations.
        rules: the rules by which it is let in.
        unpassed: parts that were kept on hold where the bundle has to pass through.
    """

    overwrite: bool = False
    back: bool = False
    put_back: bool = False
    resume: frozenset[str] = frozenset()
    route: tuple[Finding, ...] = ()
    choice: Choice = _EVERYTHING
    hold: Hold | None = None
    lift: PartId | None = None
    holds_then: tuple[Hold, ...] | None = None
    rollback: Rollback | None = None
    leaving: Leaving = field(default_factory=Leaving)
    rules: Rules = NO_RULES
    unpassed: frozenset[PartId] = frozenset()


def make_draft(
    prepared: Prepared,
    machine: Machine,
    read_at: str,
    wish: Wish,
    mix: Mix,
    begun: Beginning | None = None,
) -> Drafted:
    """Draft against the environment as it stands now. Nothing is recorded or changed.

    Args:
        prepared: the bundle, made ready for the environment.
        machine: where the project is, with its environment variables.
        read_at: the time, ISO 8601, UTC.
        wish: what was asked for.
        mix: makes the bundle ready again, where some parts stay as they are.
        begun: where opening the environment has begun.

    Raises:
        TargetError: when the environment cannot be reached or a secret is missing.
        UsageError: when what is chosen is no part.
    """
    environment = prepared.environment
    came_from = environment.after[0] if environment.after else None
    elsewhere = evaluate(prepared.matrix, came_from, prepared.today) if came_from else None
    with open_environment(
        environment, prepared.bundle.project, machine, prepared.values, read_only=True, begun=begun
    ) as place:
        live = place.composition(place.clock(lambda: read_at)())
        if live.last is None or live.last.digest != prepared.bundle.digest:
            place.connection.begin()  # what changes is tried there; the bundle is read meanwhile
        secrets = _secrets(prepared, machine)
        holds = _holds(live, wish, prepared.today)
        prepared.recall(live.parts.values())
        unchosen = _unchosen(prepared, live, wish)
        sources, is_choice = _sources(prepared, live, wish, holds, unchosen)
        mixed: tuple[Finding, ...] = ()
        if sources or prepared.others:
            prepared = mix(prepared, sources)
            prepared.recall(live.parts.values())
            mixed = _mixed(prepared, wish.choice, unchosen | sources.keys())
        assembly = prepared.reading.assembly
        names = PhysicalNames(assembly, environment, place.product.dialect)
        stay = unchosen | {hold.part for hold in holds}
        baselines, planned = _structures(prepared, place, names, live, stay)
        rights = _rights(prepared, place, names, live)
        replaced = _replaced(place, wish.rollback, live) if wish.rollback else {}
        columns = _columns(place, replaced)
        drafted = draft(
            Request(
                project=prepared.bundle.project,
                bundle=prepared.bundle.name,
                bundle_digest=prepared.bundle.digest,
                bundle_seal=prepared.bundle.seal,
                commit=prepared.bundle.commit,
                is_hold=wish.hold is not None or wish.lift is not None,
                rules=wish.rules,
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
                unchosen=unchosen,
                is_choice=is_choice,
                holds=holds,
                mixed=mixed,
                rollback=wish.rollback,
                replaced=replaced,
                replaced_columns=columns,
                leaving=wish.leaving,
            )
        )
        losing = losses(drafted, prepared, place, live, rights, overwrite=wish.overwrite)
        drafted = _with(drafted, [*_missing_packages(drafted, prepared, place), *losing])
        drafted = _tried(drafted, prepared, place, live)
    return Drafted(draft=drafted, prepared=prepared, live=live)


def _secrets(prepared: Prepared, machine: Machine) -> tuple[UsedSecret, ...]:
    """The secrets that the environment asks for, checked, and those that only parts use."""
    environment, outlines = prepared.environment, prepared.reading.assembly.outlines
    own = set(secrets_of(environment))
    used = {use.parameter for outline in outlines.values() for use in outline.uses}
    checked = check_secrets(environment, prepared.values, own, machine)
    return (*checked, *unchecked_secrets(prepared.values, used - own))


def _with(drafted: Draft, findings: Sequence[Finding]) -> Draft:
    """The draft, with findings of what was asked because of it."""
    if not findings:
        return drafted
    return replace(drafted, findings=tuple(in_order([*drafted.findings, *findings])))


def _missing_packages(drafted: Draft, prepared: Prepared, place: OpenEnvironment) -> list[Finding]:
    """Packages that libraries need and that are not installed."""
    from inchworm.engine.library_needs import missing_packages

    delivered = [step.part for step in drafted.steps if step.phase is Phase.DELIVER]
    parts = [part for part in delivered if isinstance(part, PartId)]
    return missing_packages(place, prepared.reading.assembly, prepared.rendered, parts)


def _tried(drafted: Draft, prepared: Prepared, place: OpenEnvironment, live: Composition) -> Draft:
    """The draft, once the database has read every statement that it is going to run.

    So that what is reviewed and approved can run. Where nothing is built or changed, or errors are
    in the way already, there is nothing to try.
    """
    if has_errors(drafted.findings) or not any(map(_is_tried, drafted.steps)):
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
    refused = try_draft(site, plan, live.tables)
    if refused is None:
        return drafted
    return replace(_with(drafted, refused), is_tried=True)


def _is_tried(step: Step) -> bool:
    """Whether the database has something to read of a step."""
    asks = isinstance(step.part, PartId) and step.part.kind in {Kind.FLOW, Kind.NOTEBOOK}
    return step.phase in _TRIED or (step.phase is Phase.DELIVER and asks)


_TRIED = frozenset({Phase.MIGRATE, Phase.MIGRATE_AFTER, Phase.PREPARE, Phase.BUILD, Phase.CHECK})


def _structures(
    prepared: Prepared,
    place: OpenEnvironment,
    names: PhysicalNames,
    live: Composition,
    stay: frozenset[PartId],
) -> tuple[dict[PartId, tuple[str, ...]], dict[PartId, PlannedChanges]]:
    """What the database says of baselines, and of schemas that are managed by their structure.

    Only schemas are asked about that may have something to do: asking takes a place to try things.
    Those of ``stay`` have nothing to do, whatever somebody changed in them by hand.
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
    unsettled = [part for part in managed if part not in settled | stay]
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
    if place.product.files:
        return Rights()
    assembly = prepared.reading.assembly
    of_bundle = (names.table(model.relation) for model in assembly.of_kind(Kind.MODEL))
    relations = place.of_models(live.parts.values()) | {n for n in of_bundle if n in live.tables}
    schemas = {names.schema(part.name) for part in assembly.of_kind(Kind.SCHEMA)}
    own = frozenset(name for name in live.tables if RelationName(name).schema in schemas)
    schemas |= {names.table(model.name).schema for model in assembly.of_kind(Kind.MODEL)}
    return place.database.rights(relations | own, schemas)


def _holds(live: Composition, wish: Wish, today: dt.date) -> tuple[Hold, ...]:
    """The holds that are in force once the promotion is done."""
    holds = live.holds if wish.holds_then is None else wish.holds_then
    lifted = {wish.lift} if wish.lift else set()
    lifted |= {wish.hold.part} if wish.hold else set()
    stay = [hold for hold in holds if hold.part not in lifted and hold.holds_on(today)]
    return tuple(sorted([*stay, *([wish.hold] if wish.hold else [])], key=lambda h: h.part))


def _unchosen(prepared: Prepared, live: Composition, wish: Wish) -> frozenset[PartId]:
    """The parts that nobody chose; a hold and its end concern one part, and nothing else."""
    assembly = prepared.reading.assembly
    everything = frozenset({*assembly.parts, *live.parts})
    if wish.lift is not None:
        return everything - {wish.lift}
    if wish.hold is not None:
        return everything - {wish.hold.part}
    if wish.choice:
        return everything - chosen_parts(wish.choice, assembly, live.parts)
    return frozenset()


def _sources(
    prepared: Prepared,
    live: Composition,
    wish: Wish,
    holds: Sequence[Hold],
    unchosen: frozenset[PartId],
) -> tuple[dict[PartId, str], bool]:
    """The parts that stay as they are, and whether some do because nobody chose them."""
    assembly, bundle = prepared.reading.assembly, prepared.bundle.name
    if wish.rollback is not None:  # it brings back the mixture of then
        then = next(p for p in live.promotions if p.promotion == wish.rollback.to).mixture
        return {PartId.parse(p): source for p, source in then.sources.items()}, then.is_choice
    digest, parts = prepared.rendered.digest, live.parts
    held = {hold.part for hold in holds} | wish.unpassed
    left = kept_sources(unchosen - held, assembly, parts, bundle, digest)
    is_choice = lacks_content(left, assembly, parts)
    return kept_sources(held, assembly, parts, bundle, digest) | left, is_choice


def _mixed(prepared: Prepared, choice: Choice, stays: Collection[PartId]) -> tuple[Finding, ...]:
    """Errors of a mixture: each bundle by itself had none when it was packed."""
    from inchworm.core.checks.project_rules import check_assembly

    staying = set(map(str, stays))
    return tuple(
        replace(finding, remedy=_remedy_of_mixture(finding.part or "", choice, staying))
        for finding in check_assembly(prepared.reading.assembly, prepared.today)
        if finding.severity is Severity.ERROR
    )


def _remedy_of_mixture(part: str, choice: Choice, staying: Collection[str]) -> str:
    """What to do where a part needs something that stays as it is, or stays and needs what goes."""
    if part in staying:
        return f"{part} stays as it is: promote it as well, or keep what it needs."
    if choice.excluded:
        return f"Leave this out, too: --except {part}. Or promote what it needs as well."
    if choice.only:
        return "Choose what it needs, too (--with-upstream), or leave this out."
    return f"End the hold on what it needs, or hold this, too: inchworm hold {part}."


def _replaced(
    place: OpenEnvironment, rollback: Rollback, live: Composition
) -> dict[RelationName, Aside]:
    """The replaced tables of the state that comes back, as far as they are still there."""
    recorded = place.bookkeeping.aside(place.project)
    replaced = [each for each in recorded if each.purpose is Purpose.REPLACED]
    kinds = place.database.kinds([each.name for each in replaced])
    existing = [each for each in replaced if kinds.get(each.name) == "table"]
    return usable_replaced(existing, rollback, live.promotions)


def _columns(
    place: OpenEnvironment, replaced: Mapping[RelationName, Aside]
) -> dict[RelationName, frozenset[str]]:
    """The columns that replaced tables have now, in lower case, by the name that they had."""
    if not replaced:
        return {}
    tables = place.database.tables([each.name for each in replaced.values()])
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
