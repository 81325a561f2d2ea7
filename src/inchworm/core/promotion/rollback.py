"""Going back: which promotions a rollback undoes, and what can be had again without building it.

A rollback is a promotion like any other, of the bundle that ran before. What makes it quick is that
the switch-over that is undone kept the tables that it replaced; what makes it whole are the undo
scripts of the migrations that came since.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping, Sequence
from typing import Any

from msgspec import Struct, field
from msgspec.structs import asdict, replace

from inchworm.core.checks import rules
from inchworm.core.checks.findings import Finding
from inchworm.core.errors import UsageError
from inchworm.core.identifiers import Kind, PartId, RelationName
from inchworm.core.lineage.facts import Assembly
from inchworm.core.promotion.aside import Aside
from inchworm.core.promotion.composition import CompletedPromotion, Composition, RanMigration
from inchworm.core.rendered import RenderedParts, Script, When


class Rollback(Struct, frozen=True, kw_only=True):
    """What makes a promotion a rollback.

    Attributes:
        to: the key of the promotion whose state comes back.
        undoes: the keys of the promotions that are undone, the earliest first.
        because: the reason given; may be empty.
        rows_of_then: whether models that keep rows also get back the rows that they had, and lose
            those that came since.
        build: whether tables are built from the data of now, although they were kept.
    """

    to: str
    undoes: tuple[str, ...]
    because: str = ""
    rows_of_then: bool = False
    build: bool = False

    def to_json(self) -> dict[str, Any]:
        """The rollback as the ledger keeps it."""
        return asdict(self)

    @classmethod
    def from_json(cls, data: Mapping[str, Any]) -> Rollback:
        """A rollback as the ledger kept it."""
        return cls(**{**data, "undoes": tuple(data["undoes"])})


class Course(Struct, frozen=True, kw_only=True):
    """Where a rollback leads, among the promotions of an environment.

    Attributes:
        to: the promotion whose state comes back.
        undoes: the keys of the promotions that are undone, the earliest first.
        leaving: the names of the bundles that the environment leaves.
    """

    to: CompletedPromotion
    undoes: tuple[str, ...]
    leaving: tuple[str, ...]


def course_back(
    completed: Sequence[CompletedPromotion], environment: str, to: str | None = None
) -> Course:
    """From the latest promotion that was completed, to the one before or to an earlier one.

    Args:
        completed: the promotions that were completed in the environment, in their order.
        environment: its name, for messages.
        to: the key of the promotion whose state is to come back; the one before by default.

    Raises:
        UsageError: when there is nothing to go back to.
    """
    if len(completed) < 2 and to is None:
        runs = f"only {completed[0].bundle} was ever there" if completed else "nothing was there"
        raise UsageError(
            f"There is nothing before in {environment}: {runs}.",
            next="To take parts away, promote a bundle without them.",
        )
    if to is None:
        return _course(completed, len(completed) - 2)
    places = [place for place, each in enumerate(completed) if each.promotion == to]
    if not places:
        raise UsageError(
            f"{to.rpartition(':')[2]} was not completed in {environment}.",
            next=f"See inchworm history --to {environment}.",
        )
    return _course(completed, places[-1])


def course_from_unfinished(
    completed: Sequence[CompletedPromotion], environment: str, key: str, bundle: str
) -> Course:
    """From a promotion that stopped halfway, to what was completed before it.

    Args:
        completed: the promotions that were completed in the environment, in their order.
        environment: its name, for messages.
        key: the key of the promotion that stopped.
        bundle: the name of its bundle.

    Raises:
        UsageError: when nothing was completed before it.
    """
    if not completed:
        raise UsageError(
            f"Nothing was completed in {environment} before: there is no state to go back to.",
            next="Mend what made it fail, and go on with it.",
        )
    last = completed[-1]
    return Course(to=last, undoes=(key,), leaving=(bundle, last.bundle))


def _course(completed: Sequence[CompletedPromotion], place: int) -> Course:
    since = completed[place + 1 :]
    return Course(
        to=completed[place],
        undoes=tuple(each.promotion for each in since),
        leaving=tuple(dict.fromkeys(each.bundle for each in reversed(since))),
    )


# ---- tables that were kept ---------------------------------------------------------------------


def usable_replaced(
    replaced: Iterable[Aside], rollback: Rollback, completed: Sequence[CompletedPromotion]
) -> dict[RelationName, Aside]:
    """The replaced tables that are of the state that comes back, by the name they had.

    A table that was kept by a promotion is of the state just before that one. Only where this is
    the state to come back is everything that it was built from the same.

    Args:
        replaced: what promotions keep beside the live relations.
        rollback: where to.
        completed: the promotions that were completed there, in their order.
    """
    if rollback.build:
        return {}
    keys = [each.promotion for each in completed]
    usable: dict[RelationName, Aside] = {}
    for each in replaced:
        place = keys.index(each.promotion) if each.promotion in keys else len(keys)
        if each.digest and place and keys[place - 1] == rollback.to:
            usable[each.of] = each
    return usable


# ---- migrations --------------------------------------------------------------------------------


class UndoneMigration(Struct, frozen=True, kw_only=True):
    """A migration that a rollback takes back.

    Attributes:
        ran: the migration as the database recorded it.
        undo: its undo script.
        file: the path of that.
        late: whether it is taken back behind the switch-over of models.
    """

    ran: RanMigration
    undo: str
    file: str
    late: bool = False

    def to_json(self) -> dict[str, Any]:
        """The migration as the ledger keeps it."""
        return asdict(self) | {"ran": asdict(self.ran)}

    @classmethod
    def from_json(cls, data: Mapping[str, Any]) -> UndoneMigration:
        """A migration as the ledger kept it."""
        return cls(**{**data, "ran": RanMigration(**data["ran"])})


Undone = Mapping[PartId, tuple[UndoneMigration, ...]]
"""The migrations that are taken back, the latest first, by schema."""


class Leaving(Struct, frozen=True, kw_only=True):
    """What the bundles that an environment leaves know of the migrations that ran there.

    Attributes:
        scripts: by schema and name.
        missing: the names of bundles that are not in the bundle store any more.
    """

    scripts: Mapping[tuple[str, str], Script] = field(default_factory=dict)
    missing: tuple[str, ...] = ()


def undone_migrations(
    assembly: Assembly, rendered: RenderedParts, live: Composition, leaving: Leaving, dialect: str
) -> tuple[dict[PartId, tuple[UndoneMigration, ...]], list[Finding]]:
    """The migrations to take back, and those of which it has to be said that they stay.

    The latest goes first; one that cannot be taken back stays, with all before it.

    Args:
        assembly: the parts of the bundle that comes back.
        rendered: the same, as they are put into the environment.
        live: what the environment has.
        leaving: the scripts of the bundles that it leaves.
        dialect: of the project.
    """
    undone: dict[PartId, tuple[UndoneMigration, ...]] = {}
    findings: list[Finding] = []
    for schema in assembly.of_kind(Kind.SCHEMA):
        if assembly.outlines[schema].managed_outside:
            continue
        remaining = {script.name for script in rendered.schema(schema).migrations}
        since = sorted(
            (m for m in live.migrations if m.schema == schema.name and m.name not in remaining),
            key=lambda migration: migration.name,
            reverse=True,
        )
        taken: list[UndoneMigration] = []
        for place, migration in enumerate(since):
            script = leaving.scripts.get((schema.name, migration.name))
            hindrance = _hindrance(migration, script, leaving.missing)
            if hindrance or script is None:
                stay = [each.name for each in since[place:]]
                findings.append(_stays(schema, stay, hindrance))
                break
            taken.append(UndoneMigration(ran=migration, undo=script.undo, file=script.undo_file))
        if taken:
            undone[schema] = _placed(taken, leaving, dialect)
    return undone, findings


def _hindrance(migration: RanMigration, script: Script | None, missing: Sequence[str]) -> str:
    """Why a migration cannot be taken back, in words; empty when it can."""
    if script is None:
        if missing:
            return f"{missing[0]}, which may have its undo script, is not in the bundle store"
        return "no bundle that ran here has it"
    if migration.outcome != "ran":
        return "it never ran here: what it makes was there before"
    if script.checksum != migration.checksum:
        return "it ran here with other text"
    if not script.undo:
        return "it has no undo script"
    return ""


def _stays(schema: PartId, names: Sequence[str], why: str) -> Finding:
    latest, *earlier = names
    message = f"{latest} stays, because {why}"
    if earlier:
        message += f"; with it {'stay' if len(earlier) > 1 else 'stays'} {', '.join(earlier)}"
    return rules.MIGRATION_STAYS.finding(message, part=schema)


def _placed(
    taken: Sequence[UndoneMigration], leaving: Leaving, dialect: str
) -> tuple[UndoneMigration, ...]:
    """Before or behind the switch-over: all of a schema, as their order may not be broken.

    What only takes away goes behind it, as what is live may read it until then; what changes or
    brings back something goes before, as what comes back is built upon it.
    """
    from inchworm.core.sql.only_drops import only_drops  # the parser, only where it is needed

    late = all(
        leaving.scripts[each.ran.schema, each.ran.name].when is When.BEFORE
        and only_drops(each.undo, dialect)
        for each in taken
    )
    return tuple(replace(each, late=late) for each in taken)


def lacking_columns(
    assembly: Assembly,
    live: Composition,
    changing: Collection[PartId],
    physical: Mapping[str, RelationName],
) -> Iterable[Finding]:
    """Columns that parts which come back read, and that a migration which stays took away.

    Args:
        assembly: the parts of the bundle that comes back.
        live: what the environment has.
        changing: schemas in which migrations run or are taken back: what they have then, the
            database is asked.
        physical: the name of each table in the environment, by its logical one.
    """
    for name, physical_name in physical.items():
        provider = assembly.provider.get(name)
        if provider is None or provider.kind is not Kind.SCHEMA or provider in changing:
            continue
        if assembly.outlines[provider].managed_outside:
            continue
        table = live.tables.get(physical_name)
        for reader in assembly.touching.get(name, ()):
            if reader == provider:
                continue
            read = assembly.facts[reader].columns_read.get(name, ())
            gone = sorted(c for c in read if table is None or c not in table.by_name)
            if gone:
                what = ", ".join(f"{name}.{column}" for column in gone)
                yield rules.NEWER_STRUCTURE.finding(
                    f"{reader} reads {what}, which {'is' if len(gone) == 1 else 'are'} not there "
                    "any more",
                    part=reader,
                )
