"""Rules about a bundle against the composition of an environment: all that is live there.

Other projects' parts count as much as our own: the database's bookkeeping tells which columns they
read, whichever ledger they keep.
"""

from __future__ import annotations

import datetime as dt
from collections.abc import Collection, Iterable, Iterator, Mapping

from msgspec import Struct

from inchworm.core.checks import rules
from inchworm.core.checks.findings import Finding, Severity
from inchworm.core.environments.environment import Environment
from inchworm.core.errors import nearest
from inchworm.core.identifiers import Kind, PartId, RelationName
from inchworm.core.lineage.facts import Assembly, interfaces_digest
from inchworm.core.lineage.graph import Direction, Node
from inchworm.core.promotion.composition import Composition, LivePart
from inchworm.core.structure.definitions import Difference, Thing, is_surrounding
from inchworm.core.structure.tables import UNKNOWN_TYPE, Table

_OUTSIDE = tuple(f"{kind.value}:" for kind in Kind if kind.reaches_outside)


def check_environment(assembly: Assembly, live: Composition) -> Iterator[Finding]:
    """All findings about a bundle in this environment."""
    yield from _gone(assembly, live)
    yield from _changed(assembly, live)
    yield from _outside_tables(assembly, live)


def _gone(assembly: Assembly, live: Composition) -> Iterator[Finding]:
    """Tables and columns that parts of other projects read, and that would not be there."""
    if not live.foreign_parts:
        return
    ours = {table: name for name, part in live.parts.items() for table in part.table_names}
    for other in live.foreign_parts:
        reader = f"{other.part} of {other.project}"
        for name, columns in other.reads.items():
            provider = assembly.provider.get(name)
            if provider is None:
                if name in ours and name not in assembly.tables:
                    message = f"{name} would be removed, but is read by {reader}"
                    yield rules.COLUMN_GONE.finding(message, part=ours[name])
                continue
            table = assembly.tables[name]
            if table.schema in assembly.outside_schemas:
                continue  # that we do not know a column takes it from nobody
            for column in columns if not table.open else ():
                if column not in table.by_name:
                    message = f"{name}.{column} is read by {reader}"
                    yield rules.COLUMN_GONE.finding(message, part=provider)


class _Looser(Struct, frozen=True):
    """A property of a column or table that readers could rely on before, and cannot any more."""

    rule: rules.Rule
    node: Node
    loss: str


def _changed(assembly: Assembly, live: Composition) -> Iterator[Finding]:
    """Columns that mean less than before to whoever reads them outside the project's models."""
    readers = _readers(live)
    if not readers and not any(part.kind.reaches_outside for part in assembly.parts):
        return  # nobody does, and thousands of parts need no look
    for name, part in live.parts.items():
        outline = assembly.outlines.get(name)
        if outline is not None and part.structure == interfaces_digest(outline):
            continue
        for table_name in part.tables:
            table = assembly.tables.get(table_name)
            provider = assembly.provider.get(table_name)
            if table is None or provider is None:
                continue
            for looser in _looser(part, table):
                affected = _affected(assembly, readers, looser.node)
                if affected:
                    yield looser.rule.finding(
                        f"{looser.node} {looser.loss}; read by {', '.join(affected)}",
                        part=name,
                        file=assembly.outlines[provider].file,
                    )


def _looser(before: LivePart, now: Table) -> Iterator[_Looser]:
    required = set(before.interface.required.get(now.name, ()))
    for column, kind in before.tables[now.name]:
        other = now.by_name.get(column)
        if other is None:
            continue
        node = Node(now.name, column)
        if kind != other.type and UNKNOWN_TYPE not in (kind, other.type):
            yield _Looser(rules.TYPE_CHANGED, node, f"was {kind}, and would be {other.type}")
        if column in required and not other.required:
            yield _Looser(rules.NO_LONGER_REQUIRED, node, "was required, and would not be")
    key = before.interface.keys.get(now.name, ())
    if key and not (now.key and set(now.key) <= set(key)):
        listed = ", ".join(key)
        yield _Looser(rules.KEY_GONE, Node(now.name), f"was unique by {listed}, and would not be")


def _readers(live: Composition) -> Mapping[Node, list[str]]:
    readers: dict[Node, list[str]] = {}
    for other in live.foreign_parts:
        for table, columns in other.reads.items():
            for field in (None, *columns):
                readers.setdefault(Node(table, field), []).append(
                    f"{other.part} of {other.project}"
                )
    return readers


def _affected(assembly: Assembly, readers: Mapping[Node, list[str]], node: Node) -> list[str]:
    """Readers outside that a column or table reaches, of this project and of others."""
    reached = assembly.graph.reached([node], Direction.DOWN)
    ours = {n.owner for n in reached if n.owner.startswith(_OUTSIDE)}
    return sorted({*ours, *(reader for n in reached for reader in readers.get(n, ()))})


def _outside_tables(assembly: Assembly, live: Composition) -> Iterator[Finding]:
    """Tables managed outside must be there, with the columns that are declared and read."""
    for schema in sorted(assembly.outside_schemas):
        part = PartId(Kind.SCHEMA, schema)
        for declared in assembly.facts[part].provides:
            readers = [p for p in assembly.touching.get(declared.name, ()) if p != part]
            if not readers:
                continue
            live_table = live.tables.get(declared.name)
            if live_table is None:
                near = nearest(declared.name, live.tables)
                yield rules.OUTSIDE_DIFFERS.finding(
                    f"{declared.name} is not in this database, but {readers[0]} reads it",
                    part=part,
                    remedy=f"Did you mean {near}?" if near else None,
                )
                continue
            declares = {column.name for column in declared.columns}
            if not declared.open and declares <= live_table.by_name.keys():
                continue  # so the readers, of which there may be thousands, need no look
            read = {
                column
                for reader in readers
                for column in assembly.facts[reader].columns_read.get(declared.name, ())
            }
            for name in sorted(column for column in read if column not in live_table.by_name):
                yield rules.OUTSIDE_DIFFERS.finding(
                    f"{declared.name} has no column {name} in this database", part=part
                )


def breaking(
    assembly: Assembly, live: Composition, early: Collection[PartId], environment: Environment
) -> Iterator[Finding]:
    """Migrations that take away, before the switch-over, what live models read.

    ``early`` are the schemas with migrations that run before it.
    """
    for schema in sorted(early):
        for name, part in live.parts.items():
            if name.kind is not Kind.MODEL:
                continue
            gone = sorted(
                f"{table}.{column}"
                for table, columns in part.reads.items()
                if RelationName(table).schema == schema.name
                for column in columns
                if _goes(assembly, live, environment, table, column)
            )
            if gone:
                message = f"{', '.join(gone)} goes before {name} is switched over"
                yield rules.BREAKS_UNTIL_SWITCH.finding(message, part=schema)


def _goes(
    assembly: Assembly, live: Composition, environment: Environment, table: str, column: str
) -> bool:
    """Whether a column that is live would not be there after the migrations."""
    live_table = live.tables.get(environment.database.physical_table(table))
    new = assembly.tables.get(table)
    if live_table is None or column not in live_table.by_name:
        return False
    return new is None or (not new.open and column not in new.by_name)


def hanging(live: Composition, replaced: Mapping[RelationName, PartId]) -> Iterator[Finding]:
    """Objects of others that hang on what is replaced, and cannot be carried along.

    Args:
        live: what is there.
        replaced: the parts that are replaced or removed, by the physical name of their table.
    """
    for name, part in replaced.items():
        if described := live.dependents.get(name):
            message = f"{', '.join(described)} on {name}, which gets another table's place"
            yield rules.CANNOT_CARRY_ALONG.finding(message, part=part)


_SKEW = dt.timedelta(minutes=2)
"""Clocks that are no further apart agree."""


def clocks(live: Composition, own_time: str) -> Iterator[Finding]:
    """Clocks that disagree: no order depends on them, but days in values and shown times do.

    Args:
        live: read at a time by the database's clock.
        own_time: the time by the clock of whoever asks, ISO 8601; empty where it is not compared.
    """
    if not own_time:
        return
    if abs(_moment(live.read_at) - _moment(own_time)) > _SKEW:
        yield rules.CLOCK_WRONG.finding(
            f"it is {_shown(own_time)} UTC here, and {_shown(live.read_at)} UTC in the database"
        )
    if live.last is not None and _moment(live.read_at) + _SKEW < _moment(live.last.at):
        yield rules.CLOCK_WRONG.finding(
            f"it is {_shown(live.read_at)} UTC, but {live.last.bundle} went in at "
            f"{_shown(live.last.at)} UTC, by {live.last.by}"
        )


def _moment(text: str) -> dt.datetime:
    moment = dt.datetime.fromisoformat(text)
    return moment if moment.tzinfo else moment.replace(tzinfo=dt.UTC)


def _shown(text: str) -> str:
    return text[:16].replace("T", " ")


def is_table_gone(difference: Difference) -> bool:
    """Whether a table that a schema accounts for is missing."""
    is_table = difference.thing is Thing.TABLE and difference.is_of_schema
    return is_table and difference.what == "missing"


def drifted(
    live: Composition,
    touched: Collection[PartId],
    taken_up: Collection[str],
    environment: Environment,
    remade: Collection[str],
    *,
    overwrite: bool,
) -> Iterator[Finding]:
    """Changes made by hand: errors where they would be lost, else notes.

    A table of a schema that is missing is an error, unless the promotion makes it again: nobody
    should build upon a database from which a table has gone.

    Args:
        live: what is there.
        touched: the parts that the promotion works on.
        taken_up: changes that a migration of the promotion has taken up, by key.
        environment: where that is.
        remade: what is missing and made again by the promotion, by key.
        overwrite: whether changes made by hand may be lost.
    """
    for name, part in live.parts.items():
        if name.kind.is_service:
            item = live.items.get(name)
            is_changed = item is not None and item.digest != part.digest
            is_ours = live.is_unfinished or name.kind.home.value in environment.shared
            if is_changed and name in touched and not is_ours:
                yield _item_changed(part, environment, overwrite=overwrite)
            continue
        if not part.managed:
            continue
        for difference in live.differing(part, environment.database):
            if difference.key in taken_up:
                continue
            if is_table_gone(difference) and difference.key not in remade:
                yield rules.DRIFTED.finding(
                    f"{difference.key} is missing since the last promotion",
                    part=name,
                    remedy="Put it back from a backup; or have it made again, empty: --put-back; "
                    "or take its removal into the source: "
                    f"inchworm adopt {environment.name} {name.name}.",
                )
                continue
            is_lost = difference.what != "missing" or difference.is_of_schema
            is_lost = is_lost and not is_surrounding(difference)  # that is carried along
            is_free = name not in touched or overwrite or not is_lost
            yield rules.DRIFTED.finding(
                f"{difference.key} is {difference.word} since the last promotion",
                part=name,
                severity=Severity.NOTE if is_free else None,
                remedy="It stays as it is." if name not in touched else None,
            )


def changed_by_hand(findings: Iterable[Finding]) -> frozenset[PartId]:
    """The parts that somebody had changed when a draft was made, by its findings."""
    return frozenset(
        PartId.parse(finding.part)
        for finding in findings
        if finding.rule == rules.DRIFTED.id and finding.part
    )


def _item_changed(part: LivePart, environment: Environment, *, overwrite: bool) -> Finding:
    """An item of a service that somebody changed by hand, and that would be put back."""
    return rules.DRIFTED.finding(
        f"{part.part} was changed there since the last promotion",
        part=part.part,
        severity=Severity.NOTE if overwrite else None,
        remedy="It is overwritten."
        if overwrite
        else f"Look at it: inchworm drift {environment.name}. Take it into the source: inchworm "
        f"adopt {environment.name} {part.part}; or promote with --overwrite.",
    )
