"""Drafting: what a promotion would do in an environment as it stands, each step with its reason.

Pure: the bundle, its values, and what is live come in; a
:class:`~inchworm.core.promotion.promotion.Draft` comes out, its steps in the order of
:class:`~inchworm.core.promotion.states.Phase`.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Container, Iterable, Iterator, Mapping, Sequence

from inchworm.core.checks import rules
from inchworm.core.checks.environment_rules import (
    breaking,
    check_environment,
    clocks,
    drifted,
    hanging,
)
from inchworm.core.checks.findings import Finding, Severity, in_order
from inchworm.core.checks.right_rules import Ending, carried_along, check_rights
from inchworm.core.entry.rules import Rules, rule_findings
from inchworm.core.errors import ProjectError
from inchworm.core.identifiers import Kind, PartId, RelationName
from inchworm.core.lineage.facts import Trait
from inchworm.core.promotion.drafting.api_versions import api_versions
from inchworm.core.promotion.drafting.reasons import Reason, listed, reasons_of
from inchworm.core.promotion.drafting.request import Request, environment_state, values_digest
from inchworm.core.promotion.drafting.rolling_back import undone_here
from inchworm.core.promotion.drafting.schedules import switched_off
from inchworm.core.promotion.drafting.standing import (
    direction,
    going_back,
    other_content,
    taken_back_before,
)
from inchworm.core.promotion.drafting.steps import steps_of
from inchworm.core.promotion.drafting.structures import as_desired, made_again, permitted
from inchworm.core.promotion.drafting.values import differing_values, values_used
from inchworm.core.promotion.migrations import Pending, pending_migrations
from inchworm.core.promotion.promotion import Direction, Draft
from inchworm.core.promotion.rollback import Undone
from inchworm.core.rendered import When


def draft(request: Request) -> Draft:
    """What promoting the bundle would do."""
    pending, findings = pending_migrations(
        request.assembly,
        request.rendered,
        request.live,
        request.environment.database,
        request.baselines,
        goes_back=request.rollback is not None,
    )
    undone, of_undone = undone_here(request, pending)
    findings += of_undone
    findings += _names_left(request, pending)
    reasons = reasons_of(request, pending, undone)
    removed = [part for part in request.live.parts if part not in request.assembly.parts]
    for schema in (part for part in removed if part.kind is Kind.SCHEMA):
        message = f"{schema} is not in the bundle any more; its tables stay"
        findings.append(rules.HELD.finding(message, part=schema))
    findings += check_environment(request.assembly, request.live)
    findings += permitted(request)
    findings += _against_what_is_live(request, reasons, pending, undone)
    findings += _rows_lost(request, removed)
    findings += _old_rows(request, pending, undone)
    findings += _rows_of_migrations(request, reasons)
    findings += _standing(request)
    findings += switched_off(request, reasons)
    findings += api_versions(request, reasons)
    findings += request.mixed
    replaced = [part for part in (*reasons, *removed) if part.kind is Kind.MODEL]
    relations = {request.physical(part.name): part for part in replaced}
    findings += hanging(request.live, relations)
    made = [*reasons, *(p.schema for p in pending)]
    findings += _rights(request, relations, made, pending)
    return Draft(
        environment=request.environment.name,
        corner=request.environment.corner,
        bundle=request.bundle,
        bundle_digest=request.bundle_digest,
        today=request.today.isoformat(),
        environment_state=environment_state(request.environment, request.live),
        values_digest=values_digest(request.values),
        steps=steps_of(request, reasons, pending, removed, undone),
        findings=tuple(in_order(findings)),
        differing=differing_values(request, reasons),
        values=values_used(request),
        secrets=request.secrets,
        changes={part: planned.changes for part, planned in request.structures},
        overrides=request.overrides,
        came_from=request.came_from,
        left_alone=_left_alone(request, reasons),
        direction=_direction(request),
        runs_there=request.live.last,
        by_hand=tuple(difference.mark for difference in request.live.differences),
        rollback=request.rollback,
        sources=request.sources,
        is_choice=request.is_choice,
        holds=request.holds,
        undone=undone,
        bundle_seal=request.bundle_seal,
        bases=_bases(request, [*reasons, *(p.schema for p in pending), *undone, *removed]),
        is_hold=request.is_hold,
        rules=request.rules,
    )


def _bases(request: Request, changed: Iterable[PartId]) -> dict[PartId, str]:
    """The commit with which each part that changes is live; empty where that is not known."""
    live = request.live.parts
    return {part: (live[part].commit or "") if part in live else "" for part in changed}


def _rows_lost(request: Request, removed: Sequence[PartId]) -> Iterator[Finding]:
    """Models that go with rows which are nowhere else."""
    may_lose = set(request.environment.database.may_lose)
    moved = set(request.moved.values())
    for part in removed:
        live = request.live.parts[part]
        if part.kind is Kind.MODEL and part not in moved and live.interface.keeps_rows:
            is_allowed = part.relation in may_lose
            yield rules.LOSES_ROWS.finding(
                f"{part.name} keeps rows that are nowhere else, and would be removed",
                part=part,
                severity=Severity.NOTE if is_allowed else None,
                remedy="It is listed under may_lose." if is_allowed else None,
            )


def _old_rows(request: Request, pending: Sequence[Pending], undone: Undone) -> Iterator[Finding]:
    """Models that keep the rows which they took from a table before a script writes to it."""
    growing = [part for part, live in request.live.parts.items() if live.interface.keeps_rows]
    scripts = [
        (p.name, request.rendered.schema(p.schema).migration(p.name).sql)
        for p in pending
        if not p.assumed
    ]
    scripts += [(each.ran.name, each.undo) for those in undone.values() for each in those]
    if not growing or not scripts:
        return
    from inchworm.core.sql.altered import written_tables  # the parser, only where it is needed

    outlines, dialect = request.assembly.outlines, request.assembly.dialect
    for name, sql in scripts:
        for table in sorted(set(written_tables(sql, dialect))):
            reached = {table}
            for part in request.assembly.model_order:
                if reached.isdisjoint(outlines[part].reads):
                    continue
                if not request.assembly.facts[part].keeps_rows:
                    reached |= outlines[part].interfaces.keys()
                elif request.moved.get(part, part) in growing:
                    yield rules.KEEPS_OLD_ROWS.finding(
                        f"{name} writes to {table}; {part.name} keeps the rows that it has from "
                        "there",
                        part=part,
                        file=outlines[part].file,
                    )


def _rows_of_migrations(request: Request, reasons: Container[PartId]) -> Iterator[Finding]:
    """Rows that migrations put in, of schemas that have a wanted structure from now on."""
    for part in request.assembly.of_kind(Kind.SCHEMA):
        ran = [m for m in request.live.migrations if m.schema == part.name and m.script]
        if part not in reasons or not ran:
            continue
        schema = request.rendered.schema(part)
        if not schema.has_desired_structure:
            continue
        from inchworm.core.sql.altered import inserted_tables  # the parser, where it is needed

        dialect = request.assembly.dialect
        again = {
            table
            for script in (*schema.before, *schema.after)
            for table in inserted_tables(script.sql, dialect)
        }
        filled = {t for m in ran for t in inserted_tables(m.script, dialect)}
        lost = sorted(filled & request.assembly.tables.keys() - again)
        if lost:
            yield rules.ROWS_OF_MIGRATIONS.finding(
                f"migrations put rows into {listed(lost)}, which no script does any more",
                part=part,
            )


def _rights(
    request: Request,
    replaced: Mapping[RelationName, PartId],
    made: Iterable[PartId],
    pending: Sequence[Pending],
) -> Iterator[Finding]:
    """Rights that are missing, and what goes along with relations that are replaced."""
    schemas = {}
    for part in made:
        if part.kind is Kind.MODEL:
            schemas[request.physical(part.name).schema] = part
        elif part.kind is Kind.SCHEMA and not request.assembly.outlines[part].managed_outside:
            schemas[request.names.schema(part.name)] = part
    endings = dict(_endings(request, replaced))
    is_asked = request.rights.has_foreign or endings
    altered = dict(_altered(request, pending)) if is_asked else {}
    yield from check_rights(request.rights, {**altered, **replaced}, schemas, request.live.identity)
    yield from carried_along(
        request.rights, request.live.attached, replaced, endings, altered.keys()
    )


def _endings(
    request: Request, replaced: Mapping[RelationName, PartId]
) -> Iterator[tuple[RelationName, Ending]]:
    """Relations that go away, get another name, or become a view or a table."""
    becomes = {former: request.physical(part.name) for part, former in request.moved.items()}
    kinds = {owned.name: owned.kind for owned in request.rights.owned if owned.name == owned.upon}
    for name, part in replaced.items():
        if part in becomes:
            yield name, Ending(how=f"which becomes {becomes[part]}")
        elif part not in request.assembly.parts:
            yield name, Ending(how="which goes away", rights_stay=False)
        else:
            kind = "view" if Trait.VIEW in request.assembly.outlines[part].traits else "table"
            if kinds.get(name, kind) != kind:
                yield name, Ending(how=f"which becomes a {kind}", name_stays=True)


def _altered(request: Request, pending: Sequence[Pending]) -> Iterator[tuple[RelationName, PartId]]:
    """The relations that migrations and changes of structures alter or drop, by physical name."""
    from inchworm.core.sql.altered import altered_tables  # the parser, only where it is needed

    running = {(p.schema, p.name) for p in pending if not p.assumed}
    for part in {p.schema for p in pending if not p.assumed}:
        for script in request.rendered.schema(part).migrations:
            if (part, script.name) in running:
                for name in altered_tables(script.sql, request.assembly.dialect):
                    yield request.physical(name), part
    for part, planned in request.structures:
        for change in planned.changes:
            for name in change.names:
                yield RelationName(".".join(name.split(".")[:2])), part


def _direction(request: Request) -> Direction:
    promotions = request.live.promotions
    return direction(request.project, request.bundle, request.bundle_digest, promotions)


def _standing(request: Request) -> Iterator[Finding]:
    """Findings about where the bundle comes from, and what runs in the environment."""
    live, name = request.live, request.environment.name
    yield from request.route
    before = Rules.read(live.last.rules if live.last else "")
    yield from rule_findings(name, request.rules, before, request.commit)
    yield from other_content(request.bundle, request.bundle_digest, live.promotions, name)
    if request.rollback is None:
        heading = _direction(request)
        yield from going_back(name, request.bundle, heading, live.last, may=request.back)
        yield from taken_back_before(request.bundle_digest, live.promotions, name)
    yield from clocks(live, request.clock)


def _against_what_is_live(
    request: Request, reasons: Mapping[PartId, Reason], pending: Sequence[Pending], undone: Undone
) -> Iterator[Finding]:
    """What the promotion would break for live models, or of what was changed by hand."""
    early = {p.schema for p in pending if p.when is When.BEFORE and not p.assumed}
    early |= {schema for schema, those in undone.items() if not those[0].late}
    early |= {s for s, p in request.structures if any(c.lost and not c.late for c in p.changes)}
    yield from breaking(request.assembly, request.live, early, request.environment)
    changing = [schema for schema, planned in request.structures if planned.changes]
    yield from drifted(
        request.live,
        {*reasons, *(p.schema for p in pending), *undone, *changing},
        {key for p in pending for key in p.takes_up} | as_desired(request),
        request.environment,
        made_again(request),
        overwrite=request.overwrite,
    )


def _names_left(request: Request, pending: Sequence[Pending]) -> Iterator[Finding]:
    """Statements that are going to run, and would reach schemas of others here."""
    if not request.names.translates:
        return
    from inchworm.core.sql.parse import split_script  # the parser, only where it is needed

    running = {(p.schema, p.name) for p in pending if not p.assumed}
    for part in request.assembly.of_kind(Kind.SCHEMA):
        if request.assembly.outlines[part].managed_outside:
            continue
        schema = request.rendered.schema(part)
        migrations = [s for s in schema.migrations if (part, s.name) in running]
        for script in (*migrations, *schema.scripts):
            for sql in (script.sql, script.undo):
                for statement in split_script(sql, request.assembly.dialect):
                    try:
                        request.names.statement(statement)
                    except ProjectError as error:
                        yield rules.SCHEMA_NAME_LEFT.finding(
                            error.what, part=part, file=script.file
                        )


def _left_alone(request: Request, reasons: Container[PartId]) -> dict[str, int]:
    """How many parts of each kind stay as they are."""
    counts = Counter(part.kind.value for part in request.assembly.parts if part not in reasons)
    return dict(sorted(counts.items()))
