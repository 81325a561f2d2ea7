"""Rules that look across the parts of one project version."""

from __future__ import annotations

import datetime as dt
from collections import defaultdict
from collections.abc import Callable, Iterable, Iterator
from graphlib import CycleError, TopologicalSorter

from inchworm.core.checks import rules
from inchworm.core.checks.documentation import documentation
from inchworm.core.checks.findings import Finding, in_order
from inchworm.core.checks.order import pipeline_order
from inchworm.core.checks.shape_rules import shape
from inchworm.core.checks.value_leaks import value_leaks
from inchworm.core.errors import did_you_mean, nearest
from inchworm.core.identifiers import Kind, PartId, RelationName
from inchworm.core.lineage.classes import carried_classes
from inchworm.core.lineage.facts import Assembly, Read, Trait
from inchworm.core.lineage.graph import Direction, Node, way_to
from inchworm.core.parameters.matrix import evaluate, is_of_matrix, references, same_everywhere
from inchworm.core.parameters.values import Type
from inchworm.core.running.views import Views

Check = Callable[[Assembly, dt.date], Iterable[Finding]]


def check_assembly(assembly: Assembly, today: dt.date) -> list[Finding]:
    """All findings about a project version, errors first."""
    findings: list[Finding] = list(assembly.findings)
    for check in _CHECKS:
        findings.extend(check(assembly, today))
    return in_order(findings)


def unknown_parts(assembly: Assembly, today: dt.date) -> Iterator[Finding]:
    """Names of parts that do not exist; case does not count, near misses are offered."""
    for part, outline in assembly.outlines.items():
        for need in outline.needs:
            if need.wanted in assembly.parts:
                continue
            known = [p.name for p in assembly.of_kind(need.wanted.kind)]
            yield rules.UNKNOWN_PART.finding(
                f"names the {need.wanted.kind.value} {need.wanted.name}, which does not exist",
                part=part,
                file=need.file,
                line=need.line,
                remedy=did_you_mean(need.wanted.name, known, rules.UNKNOWN_PART.remedy),
            )


def other_places(assembly: Assembly, today: dt.date) -> Iterator[Finding]:
    """Connections and flows that lead to another kind of place than the part needs."""
    for part, outline in assembly.outlines.items():
        for need in outline.needs:
            named = assembly.outlines.get(need.wanted)
            if not need.place or named is None or named.place in ("", need.place):
                continue
            is_flow = need.wanted.kind is Kind.FLOW
            yield rules.OTHER_PLACE.finding(
                f"{need.wanted} copies no files, so none arrive for it"
                if is_flow
                else f'{need.wanted} is of kind = "{named.place}", and has to be "{need.place}"',
                part=part,
                file=need.file,
                line=need.line,
            )


def starting_each_other(assembly: Assembly, today: dt.date) -> Iterator[Finding]:
    """Pipelines that start each other in a circle."""
    starts = {
        part: {PartId(Kind.PIPELINE, each.after) for each in outline.schedules if each.after}
        for part, outline in assembly.outlines.items()
        if part.kind is Kind.PIPELINE
    }
    try:
        TopologicalSorter(starts).prepare()
    except CycleError as error:
        circle = [str(part) for part in error.args[1]]
        first = error.args[1][0]
        outline = assembly.outlines.get(first)
        yield rules.START_CIRCLE.finding(
            f"starts itself: {' -> '.join(circle)}",
            part=first,
            file=outline.file if outline else "",
        )


def unknown_columns(assembly: Assembly, today: dt.date) -> Iterator[Finding]:
    """Reads of tables and columns that are not there, each with all that is downstream of it."""
    missing: dict[Node, list[tuple[PartId, Read]]] = defaultdict(list)
    for part, outline in assembly.outlines.items():
        for read in outline.wrong:
            if read.columns is None:
                near = did_you_mean(read.table, assembly.tables, rules.UNKNOWN_TABLE.remedy)
                yield rules.UNKNOWN_TABLE.finding(
                    f"reads {read.table}, which no part provides",
                    part=part,
                    file=read.file,
                    line=read.line,
                    remedy=near,
                    cause=_cause_of(assembly, read.table),
                )
                continue
            for column in sorted(read.columns):
                missing[Node(read.table, column)].append((part, read))
    for node, readers in missing.items():
        yield from _missing_column(assembly, node, readers)


def _unread(assembly: Assembly, table: str) -> list[str]:
    """The columns of a table that no part reads."""
    parts = [p for p in assembly.touching.get(table, ()) if p in assembly.facts]
    read = {c for part in parts for c in assembly.facts[part].columns_read.get(table, ())}
    return [c.name for c in assembly.tables[table].columns if c.name not in read]


def _cause_of(assembly: Assembly, table: str) -> str:
    """Why a table is not known: its schema cannot be read, or nothing more than that."""
    schema = PartId(Kind.SCHEMA, RelationName(table).schema)
    outline = assembly.outlines.get(schema)
    is_unreadable = outline is not None and any(f.cause == str(schema) for f in outline.findings)
    return str(schema) if is_unreadable else f"table {table}"


def _missing_column(
    assembly: Assembly, node: Node, readers: list[tuple[PartId, Read]]
) -> Iterator[Finding]:
    table = assembly.tables[node.owner]
    ways = _ways_down(assembly, node)
    rule = rules.COLUMN_GONE if ways else rules.UNKNOWN_COLUMN
    near = nearest(node.field or "", [column.name for column in table.columns])
    remedy = f"Did you mean {near}? If not: {rule.remedy}" if near else rule.remedy
    unread = nearest(node.field or "", _unread(assembly, node.owner)) if len(readers) > 1 else None
    if unread is not None:  # several agree on a name, and nobody reads the one that is nearly it
        correction = f"If {unread} in {node.owner} is meant to be {node.field}, correct it there."
        remedy = f"{correction} If not: {rule.remedy}"
    for part, read in readers:
        provided = {*assembly.outlines[part].interfaces, str(part)}
        affected = "".join(
            "\n" + " -> ".join(map(str, way))
            for way in ways
            if any(step.owner in provided for step in way)
        )
        provider = assembly.provider.get(node.owner)
        by = f"which {provider} does not provide" if provider else "which does not exist"
        yield rule.finding(
            f"reads {node}, {by}{affected}",
            part=part,
            file=read.file,
            line=read.line,
            remedy=remedy,
            cause=str(node) if len(readers) > 1 else "",
        )


def _ways_down(assembly: Assembly, node: Node) -> list[list[Node]]:
    """The ways from a column to each flow and consumer that reads it."""
    came_from = assembly.graph.reached([node], Direction.DOWN)
    shown: dict[str, list[Node]] = {}
    for reached in came_from:
        if reached.owner.startswith(tuple(f"{kind}:" for kind in _OUTSIDE)):
            shown.setdefault(reached.owner, way_to(reached, came_from))
    return [shown[owner] for owner in sorted(shown)]


def classes(assembly: Assembly, today: dt.date) -> Iterator[Finding]:
    """Classes travel with values; a reader outside must be cleared for those that reach it."""
    leaving = {str(part): part for kind in _OUTSIDE for part in assembly.of_kind(kind)}
    reported: set[tuple[PartId, str]] = set()
    for class_, came_from in carried_classes(assembly):
        for node in came_from:
            reader = leaving.get(node.owner)
            if reader is None or (reader, class_) in reported:
                continue
            if class_ not in assembly.outlines[reader].cleared:
                reported.add((reader, class_))
                way = " -> ".join(map(str, way_to(node, came_from)))
                yield rules.NOT_CLEARED.finding(
                    f"receives {class_} data, but is not cleared for it\n{way}",
                    part=reader,
                    file=assembly.parts[reader].main.path,
                )


_OUTSIDE = frozenset(kind for kind in Kind if kind.reaches_outside)


def two_with_one_name(assembly: Assembly, today: dt.date) -> Iterator[Finding]:
    """Parts whose names differ at most in case, and tables that two parts provide."""
    outlines = assembly.outlines.values()
    names = {(part.kind, part.name.lower()) for part in assembly.parts}
    tables = {table.lower() for outline in outlines for table in outline.interfaces}
    if len(names) == len(assembly.parts) and len(tables) == sum(
        len(o.interfaces) for o in outlines
    ):
        return
    by_name: dict[tuple[Kind, str], list[PartId]] = defaultdict(list)
    for part in assembly.parts:
        by_name[part.kind, part.name.lower()].append(part)
    for same in by_name.values():
        for part in sorted(same)[1:]:
            first = assembly.parts[min(same)].main.path
            yield rules.TWO_WITH_ONE_NAME.finding(
                f"has the same name as {first}", part=part, file=assembly.parts[part].main.path
            )
    provided: dict[str, list[PartId]] = defaultdict(list)
    for part, outline in assembly.outlines.items():
        for table in outline.interfaces if outline.readable else ():
            provided[table.lower()].append(part)
    for name, parts in provided.items():
        distinct = sorted(set(parts), key=lambda p: (p.kind is not Kind.SCHEMA, p))
        if len({(p.kind, p.name.lower()) for p in distinct}) < 2:
            continue
        for part in distinct[1:]:
            yield rules.TWO_WITH_ONE_NAME.finding(
                f"provides {name}, which {distinct[0]} provides already",
                part=part,
                file=assembly.parts[part].main.path,
            )


def parameters(assembly: Assembly, today: dt.date) -> Iterator[Finding]:
    """Values that are missing or mistyped, and parameters that are undeclared or unused."""
    used = {other for row in assembly.matrix.values() for other in row_references(row.cells)}
    used |= {other for row in assembly.matrix.values() for other in row_references({"": row.every})}
    matrix_was_read = not any(is_of_matrix(f.file or "") for f in assembly.findings)
    uses = [(part, use) for part, outline in assembly.outlines.items() for use in outline.uses]
    for part, use in [*uses, *((None, use) for use in assembly.environment_uses)]:
        used.add(use.parameter)
        if use.parameter not in assembly.matrix and matrix_was_read:
            yield rules.UNDECLARED_PARAMETER.finding(
                f"uses the parameter {use.parameter}, which is not declared",
                part=part,
                file=use.file,
                line=use.line,
                remedy=did_you_mean(
                    use.parameter, assembly.matrix, rules.UNDECLARED_PARAMETER.remedy
                ),
            )
        row = assembly.matrix.get(use.parameter)
        if row is not None and row.type is Type.SECRET and not use.safe:
            yield rules.SECRET_IN_TEXT.finding(
                f"uses the secret {use.parameter} where it would become text",
                part=part,
                file=use.file,
                line=use.line,
            )
    for row in assembly.matrix.values():
        if row.name not in used:
            yield rules.UNUSED_PARAMETER.finding(
                f"{row.name} is declared, but nothing uses it", file=row.file, line=row.line
            )
    all_values = [evaluate(assembly.matrix, env, today) for env in assembly.environments]
    for values in all_values:
        yield from values.problems
    yield from same_everywhere(assembly.matrix, all_values)


def dated_views(assembly: Assembly, today: dt.date) -> Iterator[Finding]:
    """Views with values that move with the day, and that no pipeline builds or reads."""
    dated = [
        part
        for part, outline in assembly.outlines.items()
        if Trait.VIEW in outline.traits and outline.uses
    ]
    if not dated:
        return
    days = (today, today + dt.timedelta(days=1))
    texts = [
        {
            (environment, name): value.text
            for environment in assembly.environments
            for name, value in evaluate(assembly.matrix, environment, day).values.items()
        }
        for day in days
    ]
    moving = {name for (_, name) in texts[0].keys() - dict(texts[0].items() & texts[1].items())}
    run = {
        part
        for pipeline in assembly.of_kind(Kind.PIPELINE)
        for stage in assembly.outlines[pipeline].stages
        for part in stage.works_on
    }
    renewed = run | Views(assembly).above(run)
    for part in dated:
        used = sorted(moving & {use.parameter for use in assembly.outlines[part].uses})
        if used and part not in renewed:
            yield rules.DATED_VIEW.finding(
                f"uses {used[0]}, which moves with the day, and no pipeline builds or reads it",
                part=part,
                file=assembly.outlines[part].file,
            )


def row_references(cells: object) -> set[str]:
    """The parameters that the cells of one row refer to."""
    if not isinstance(cells, dict):
        return set()
    return {name for cell in cells.values() if isinstance(cell, str) for name in references(cell)}


_CHECKS: tuple[Check, ...] = (
    unknown_parts,
    other_places,
    starting_each_other,
    unknown_columns,
    shape,
    classes,
    two_with_one_name,
    pipeline_order,
    parameters,
    dated_views,
    documentation,
    value_leaks,
)
