"""Watching environments: what is live, what was promoted, what somebody changed by hand."""

from __future__ import annotations

import json
from collections.abc import Container, Iterable, Mapping
from concurrent.futures import ThreadPoolExecutor

from msgspec import Struct, field
from msgspec.structs import replace

from inchworm.application.workplace import LOCKS, Workplace
from inchworm.core.environments.downstream import downstream
from inchworm.core.environments.environment import Environment
from inchworm.core.environments.items import ABSENT, Leaf
from inchworm.core.errors import BundleError, TargetError, UsageError
from inchworm.core.identifiers import Kind, PartId
from inchworm.core.ledger.promotions import Summary
from inchworm.core.promotion.composition import Composition, LivePart
from inchworm.core.promotion.states import State
from inchworm.core.structure.definitions import Difference, Thing, is_surrounding
from inchworm.engine.item_changes import item_changes
from inchworm.engine.locks import Lock
from inchworm.engine.status import EnvironmentStatus, read_status

_AT_ONCE = 8
"""How many environments are read at a time."""


class Status(Struct, frozen=True, kw_only=True):
    """Environments as they are, with what the ledger adds.

    Attributes:
        overrides: by environment, the values given for once at the promotion that is live.
        unfinished: promotions that stopped on their way, unless a later one went there.
        at_work: by environment, who works in it just now, in words.
        missing_ledgers: by environment, the ledger that promoted into it last, and its number of
            entries, where there is no ledger here.
    """

    read_at: str
    ledger: str
    """The name of our ledger; empty where none was begun."""
    environments: list[EnvironmentStatus]
    overrides: Mapping[str, Mapping[str, str]]
    unfinished: list[Summary]
    at_work: Mapping[str, str]
    missing_ledgers: Mapping[str, tuple[str, int]] = field(default_factory=dict)
    unknown_there: Mapping[str, Summary] = field(default_factory=dict)
    """By environment, the latest promotion that the ledger has, where the database lacks it."""


def status(workplace: Workplace, environment: str | None = None) -> Status:
    """What is where, read fresh from the targets: in all environments, or in one.

    Raises:
        LedgerError: when the ledger lacks what a database knows of it.
        UsageError: when there is no environment of that name.
    """
    read_at = workplace.now()
    project = workplace.project
    chosen = [project.environment(environment)] if environment else project.environments
    with ThreadPoolExecutor(_AT_ONCE) as pool:  # each may take its time to answer
        read = list(pool.map(lambda each: _read(workplace, each, read_at), chosen))
    ledger = workplace.ledger
    lives = {each.environment.name: each.live for each in read if each.live is not None}
    ledger.check_behind({name: live.heads for name, live in lives.items()})
    for name, live in lives.items():
        ledger.hear(name, live.promotions)
    summaries = ledger.summaries()
    return Status(
        read_at=read_at,
        ledger=ledger.id if ledger.exists else "",
        environments=read,
        overrides={each.environment.name: _overrides(workplace, each, summaries) for each in read},
        unfinished=_unfinished(summaries, {each.environment.name for each in read}),
        at_work={each.name: Lock(workplace.root / LOCKS, each.name).at_work() for each in chosen},
        missing_ledgers={} if ledger.exists else _missing_ledgers(lives),
        unknown_there={
            each.environment.name: lacking
            for each in read
            if each.live is not None
            and (lacking := ledger.unknown_there(each.environment, each.live.promotions))
        },
    )


def _missing_ledgers(lives: Mapping[str, Composition]) -> dict[str, tuple[str, int]]:
    """The ledger that promoted last into each environment, as its database knows."""
    return {
        name: (id_.ledger, live.heads[id_.ledger].number)
        for name, live in lives.items()
        if live.last is not None and (id_ := live.last.id) is not None and id_.ledger in live.heads
    }


def read_one(workplace: Workplace, environment: Environment) -> EnvironmentStatus:
    """One environment, read fresh from its targets."""
    return _read(workplace, environment, workplace.now())


def _read(workplace: Workplace, environment: Environment, read_at: str) -> EnvironmentStatus:
    return read_status(
        environment,
        workplace.project.settings.name,
        workplace.machine,
        workplace.values(environment),
        read_at,
    )


def _overrides(
    workplace: Workplace, read: EnvironmentStatus, summaries: Iterable[Summary]
) -> Mapping[str, str]:
    last = read.live.last if read.live else None
    known = {summary.id: summary for summary in summaries}
    summary = known.get(last.id) if last is not None and last.id is not None else None
    if summary is None or last is None or summary.bundle_digest != last.digest:
        return {}  # another ledger has promoted it
    return workplace.ledger.overrides(summary.id)


def _unfinished(summaries: Iterable[Summary], environments: Container[str]) -> list[Summary]:
    latest = {
        summary.environment: summary
        for summary in summaries
        if summary.state not in {State.DRAFTED, State.DROPPED}
    }
    return [
        summary
        for name, summary in latest.items()
        if name in environments and summary.state not in {State.DONE, State.UNDONE}
    ]


class DriftedPart(Struct, frozen=True, kw_only=True):
    """A part that is not as it was put.

    Attributes:
        affected: parts and tables downstream of it.
    """

    part: LivePart
    differences: tuple[Difference, ...]
    affected: tuple[str, ...]

    @property
    def remedy(self) -> str:
        """The effect that a promotion would have on it, in words."""
        kind = self.part.part.kind
        if not self.part.managed:
            return (
                "its owner changed it; every promotion holds it against what is declared, and "
                "inchworm adopt takes it into the declaration"
            )
        if self.differences and all(map(is_surrounding, self.differences)):
            if kind is Kind.MODEL:
                return "it is carried along whenever the model is replaced, and stays"
            return "it stays as it is; inchworm adopt takes it into the source"
        if kind is Kind.SCHEMA:
            if any(d.what == "missing" and d.thing is Thing.TABLE for d in self.differences):
                return (
                    "every promotion stops until the table is there again, or inchworm adopt has "
                    "taken its removal into the source"
                )
            return (
                "a promotion that changes the schema stops; inchworm adopt takes it into the source"
            )
        if kind is Kind.MODEL:
            if any(difference.what == "missing" for difference in self.differences):
                return "the next promotion builds it again"
            return "a promotion that touches it stops, unless it is told to --overwrite"
        if any(d.key.endswith(f" of {self.part.part}") for d in self.differences):
            return (
                "a promotion stops, unless it is told to --overwrite; inchworm adopt takes it into "
                "the source"
            )
        if any(difference.what == "changed" for difference in self.differences):
            return "it stays so; a promotion that is told to --resume it has it run again"
        return "the next promotion puts it there again"


class Drift(Struct, frozen=True, kw_only=True):
    """The parts that were changed by hand in an environment since the last promotion there."""

    environment: Environment
    live: Composition
    read_at: str
    since: str | None
    parts: list[DriftedPart]
    unknown_there: Summary | None = None
    """The latest promotion that the ledger has, where the database lacks it."""


def drift(workplace: Workplace, environment: str) -> Drift:
    """Everything in an environment that is not as promotions put it.

    Raises:
        UsageError: when there is no environment of that name.
        TargetError: when it cannot be read.
    """
    declared = workplace.project.environment(environment)
    read = _read(workplace, declared, workplace.now())
    if read.live is None:
        raise TargetError(read.problem or "it cannot be read.", where=declared.name)
    project = workplace.project.settings.name
    parts = [_drifted(read.live, declared, part, project) for part in read.drifted]
    return Drift(
        environment=declared,
        live=read.live,
        read_at=read.live.read_at,
        since=read.live.last.at if read.live.last else None,
        parts=_with_leaves(workplace, declared, read.live, parts),
        unknown_there=workplace.ledger.unknown_there(declared, read.live.promotions),
    )


def _with_leaves(
    workplace: Workplace, environment: Environment, live: Composition, parts: list[DriftedPart]
) -> list[DriftedPart]:
    """What differs in items of services, where the bundle that runs there can be had."""
    changed = [
        each.part.part
        for each in parts
        if (item := live.items.get(each.part.part)) is not None and item.digest != each.part.digest
    ]
    if not changed:
        return parts
    from inchworm.application.running import prepare_live  # much that drift elsewhere needs not

    try:
        prepared = prepare_live(workplace, environment.name)
        leaves = item_changes(prepared, workplace.machine, changed)
    except (UsageError, BundleError):
        leaves = {}
    return [
        replace(each, differences=(*each.differences, *_of_item(each.part.part, leaves)))
        if each.part.part in changed
        else each
        for each in parts
    ]


def _of_item(part: PartId, leaves: Mapping[PartId, list[Leaf]]) -> list[Difference]:
    """The differences of one item; one without details where nobody can tell them."""
    if not leaves.get(part):
        return [Difference(key=f"definition of {part}", name=str(part), what="changed")]
    return [
        Difference(
            key=f"{leaf.dotted} of {part}",
            name=str(part),
            what="unknown"
            if leaf.was is ABSENT
            else "missing"
            if leaf.now is ABSENT
            else "changed",
            was="" if leaf.was is ABSENT else _spelled(leaf.was),
            now="" if leaf.now is ABSENT else _spelled(leaf.now),
        )
        for leaf in leaves[part]
    ]


def _what(leaf: Leaf) -> str:
    if leaf.was is ABSENT:
        return "unknown"
    return "missing" if leaf.now is ABSENT else "changed"


def _spelled(value: object) -> str:
    return value if isinstance(value, str) else json.dumps(value, ensure_ascii=False)


def _drifted(
    live: Composition, environment: Environment, part: PartId, project: str
) -> DriftedPart:
    recorded = live.parts[part]
    physical = environment.database.physical_table
    different = tuple(live.differing(recorded, environment.database))
    missing = [
        Difference(key=f"table {table}", name=table, what="missing")
        for table in recorded.table_names
        if physical(table) not in live.tables
        and part.kind is Kind.MODEL
        and not any(difference.what == "missing" for difference in different)
    ]
    names = {difference.name for difference in (*different, *missing)}
    tables = [table for table in recorded.table_names if {table, physical(table)} & names]
    affected = [name for name in downstream(live, tables, project) if name != str(part)]
    return DriftedPart(part=recorded, differences=(*different, *missing), affected=tuple(affected))
