"""The bookkeeping that a database carries itself, in a schema of its own, usually ``inchworm``.

It says which environment of the project this is, and which promotion was at work here last; what is
live (part, bundle, digest, commit, promotion, time), with which structure, and what stands beside
it; which migrations the database has behind it, and which steps of a promotion took effect. A
step's mark is written in the same transaction as its work, so after a crash the database itself
tells what happened.
"""

from __future__ import annotations

import datetime as dt
from collections.abc import Iterable, Iterator, Mapping, Sequence
from itertools import groupby, islice
from operator import itemgetter
from typing import Any, TypeVar

from msgspec import Struct

from inchworm.core.identifiers import PartId, RelationName
from inchworm.core.ledger.entries import Head
from inchworm.core.parts import Digest
from inchworm.core.promotion.aside import Aside, Purpose
from inchworm.core.promotion.composition import (
    CompletedPromotion,
    LivePart,
    Mixture,
    RanMigration,
    SetSchedule,
)
from inchworm.core.promotion.holds import Hold
from inchworm.core.structure.definitions import Definition, Thing
from inchworm.targets.databases.bookkeeping_tables import COLUMNS_ADDED, DUE_TIMES, TABLES
from inchworm.targets.databases.protocols import Database

T = TypeVar("T")

#: Rows per statement: one by one would be slow for thousands of parts.
_AT_ONCE = 200


class Claim(Struct, frozen=True):
    """A promotion's claim to an environment; an empty one where there has been none.

    Attributes:
        environment: the name that the environment has; None where it is not known.
        promotion: the key of the promotion.
        number: how often one began or went on here; given under the database's own lock.
    """

    environment: str | None = None
    promotion: str | None = None
    number: int = 0


class Bookkeeping:
    """The bookkeeping of one project in one database.

    Args:
        schema: where it is kept; a plain name in lower case.
    """

    def __init__(self, database: Database, project: str, schema: str = "inchworm") -> None:
        self._database = database
        self._project = project
        self.schema = schema
        self._known = _Known()

    def over(self, database: Database) -> Bookkeeping:
        """The same bookkeeping over another connection to its database."""
        other = Bookkeeping(database, self._project, self.schema)
        other._known = self._known
        return other

    @property
    def exists(self) -> bool:
        """Whether the database has bookkeeping at all."""
        return self.has("parts")

    def has(self, table: str) -> bool:
        """Whether one of its tables is there."""
        if table not in self._known.tables:
            self._known.tables |= self._database.tables_in(self.schema)
        return table in self._known.tables

    def ensure(self) -> None:
        """Make the tables, and the columns that earlier versions had not, unless all are there."""
        latest = {"schedules", "holds", "api_versions"}
        if all(map(self.has, latest)) and not self._lacking():
            return
        self._database.create_schema(self.schema)
        with self._database.transaction():
            for statement in TABLES:
                self._database.execute(statement.format(schema=self.schema))
            for table, column, kind in self._missing_columns():
                self._database.execute(
                    f"ALTER TABLE {self.schema}.{table} ADD COLUMN {column} {kind}"
                )

    def _lacking(self) -> list[tuple[str, str, str]]:
        """Columns that bookkeeping of an earlier version lacks: table, name and type."""
        if self._known.is_complete:
            return []
        table, newest, _ = COLUMNS_ADDED[-1]
        is_newest = newest in self._columns(table)  # they are added together: it stands for all
        lacking = [] if is_newest else self._missing_columns()
        self._known.is_complete = not lacking
        return lacking

    def _missing_columns(self) -> list[tuple[str, str, str]]:
        missing = []
        for table, added in groupby(COLUMNS_ADDED, key=itemgetter(0)):
            if columns := self._columns(table):
                missing += [each for each in added if each[1] not in columns]
        return missing

    def _columns(self, table: str) -> list[str]:
        """The columns of one of its tables: to list those of all would take long; none if gone."""
        if not self.has(table):
            return []
        return self._database.select(f"SELECT * FROM {self.schema}.{table} LIMIT 0")[0]

    def _sorted(
        self, sql: str, values: Sequence[str] = (), *, by: Sequence[int]
    ) -> list[tuple[Any, ...]]:
        """Rows sorted here: a database takes longer for that than to read them all.

        Args:
            sql: the query.
            values: of its placeholders.
            by: the positions of the columns that they are sorted by.
        """
        return sorted(self._database.rows(sql, values), key=itemgetter(*by))

    # ---- whose environment it is --------------------------------------------------------------

    def environment(self) -> str | None:
        """The name of the environment that this database is to the project; None if not known."""
        return self.latest_claim().environment

    def latest_claim(self) -> Claim:
        """What the promotion left that began last, or went on last, under whatever ledger."""
        if not self.has("environments"):
            return Claim()
        rows = self._database.rows(
            f"SELECT environment, claimed_by, claims FROM {self.schema}.environments "
            "WHERE project = ?",
            [self._project],
        )
        return Claim(*rows[0]) if rows else Claim()

    def claim(self, environment: str, promotion: str) -> None:
        """Record that a promotion begins or goes on here. Called inside a transaction.

        Whoever claims later keeps the promotions before from going on. The first claim gives the
        database the environment's name.

        Args:
            environment: the environment's name.
            promotion: the promotion's key, different for every ledger.
        """
        if self.latest_claim().number:
            self._database.execute(
                f"UPDATE {self.schema}.environments "
                "SET environment = ?, claims = claims + 1, claimed_by = ? WHERE project = ?",
                [environment, promotion, self._project],
            )
            return
        self._database.execute(
            f"INSERT INTO {self.schema}.environments (project, environment, claims, claimed_by) "
            "VALUES (?, ?, 1, ?)",
            [self._project, environment, promotion],
        )

    def watches(self) -> bool:
        """Whether the surroundings of structures have been recorded, which later versions do."""
        if (
            not self.has("environments")
            or ("environments", "watches", "INTEGER") in self._lacking()
        ):
            return False
        rows = self._database.rows(
            f"SELECT watches FROM {self.schema}.environments WHERE project = ?", [self._project]
        )
        return bool(rows and rows[0][0])

    def begin_watching(self) -> None:
        """Say that the surroundings of structures are recorded. Called inside a transaction."""
        self._database.execute(
            f"UPDATE {self.schema}.environments SET watches = 1 WHERE project = ?", [self._project]
        )

    # ---- ledgers ------------------------------------------------------------------------------

    def heads(self) -> dict[str, Head]:
        """The end of each ledger's chain when a promotion of that ledger was here last."""
        if not self.has("ledgers"):
            return {}
        rows = self._database.rows(
            f"SELECT ledger, entries, hash FROM {self.schema}.ledgers WHERE project = ?",
            [self._project],
        )
        return {str(ledger): Head(int(number), str(hash_)) for ledger, number, hash_ in rows}

    def anchor(self, ledger: str, head: Head) -> None:
        """Record the end of a ledger's chain: a ledger that lacks it was cut or forged.

        Called inside a transaction.
        """
        self._database.execute(
            f"DELETE FROM {self.schema}.ledgers WHERE project = ? AND ledger = ?",
            [self._project, ledger],
        )
        self._database.execute(
            f"INSERT INTO {self.schema}.ledgers VALUES (?, ?, ?, ?)",
            [self._project, ledger, *head],
        )

    # ---- schedules ----------------------------------------------------------------------------

    def schedules(self) -> dict[str, SetSchedule]:
        """The state that promotions gave each ``pipeline.schedule``, and when."""
        if not self.has("schedules"):
            return {}
        rows = self._database.rows(
            f"SELECT schedule, state, set_at FROM {self.schema}.schedules WHERE project = ?",
            [self._project],
        )
        return {str(name): SetSchedule(str(state), str(at)) for name, state, at in rows}

    def set_schedules(self, states: Mapping[str, str], at: str) -> None:
        """Record the states of schedules as they were set. Called inside a transaction."""
        self.forget_schedules(states)
        self._database.add_rows(
            f"{self.schema}.schedules",
            ("project", "schedule", "state", "set_at"),
            [(self._project, name, state, at) for name, state in states.items()],
        )

    def forget_schedules(self, names: Iterable[str]) -> None:
        """Forget schedules that are gone. Called inside a transaction."""
        for some in _batched(names, _AT_ONCE):
            places = ", ".join("?" * len(some))
            self._database.execute(
                f"DELETE FROM {self.schema}.schedules WHERE project = ? AND schedule IN ({places})",
                [self._project, *some],
            )

    def due_times(self) -> dict[str, str]:
        """The latest due time of each schedule for which a run began, ISO 8601, UTC."""
        if not self.has("due_times"):
            return {}
        rows = self._database.rows(
            f"SELECT schedule, due FROM {self.schema}.due_times WHERE project = ?", [self._project]
        )
        return dict(rows)

    def claim_due(self, schedule: str, due: str) -> bool:
        """Take a due time, unless it or a later one was taken. Called inside a transaction."""
        self._database.execute(DUE_TIMES.format(schema=self.schema))
        taken = self.due_times().get(schedule, "")
        if taken >= due:
            return False
        self._database.execute(
            f"DELETE FROM {self.schema}.due_times WHERE project = ? AND schedule = ?",
            [self._project, schedule],
        )
        self._database.execute(
            f"INSERT INTO {self.schema}.due_times VALUES (?, ?, ?)", [self._project, schedule, due]
        )
        return True

    # ---- relations beside the live ones -------------------------------------------------------

    def aside(self, project: str | None = None) -> list[Aside]:
        """Relations that promotions of one project, or of all, put beside the live ones."""
        if not self.has("aside"):
            return []
        digest = "NULL" if ("aside", "digest", "VARCHAR") in self._lacking() else "digest"
        return [
            Aside(
                name=RelationName(name),
                purpose=Purpose(purpose),
                of=RelationName(of),
                promotion=promotion,
                digest=Digest(digest or ""),
            )
            for owner, name, purpose, of, promotion, digest in self._sorted(
                f"SELECT project, name, purpose, of_name, promotion, {digest} "
                f"FROM {self.schema}.aside",
                by=[1],
            )
            if project in (None, owner)
        ]

    def put_aside(self, relations: Iterable[Aside]) -> None:
        """Record relations beside the live ones. Called before, or with, their being made."""
        self._database.add_rows(
            f"{self.schema}.aside",
            ("project", "name", "purpose", "of_name", "promotion", "digest"),
            [
                (self._project, each.name, each.purpose, each.of, each.promotion, each.digest)
                for each in relations
            ],
        )

    def forget_aside(self, names: Iterable[str], purpose: Purpose | None = None) -> None:
        """Forget relations that are gone, or live now. Called inside a transaction."""
        only, asked = ("", []) if purpose is None else (" AND purpose = ?", [purpose])
        for some in _batched(names, _AT_ONCE):
            places = ", ".join("?" * len(some))
            self._database.execute(
                f"DELETE FROM {self.schema}.aside WHERE project = ? AND name IN ({places}){only}",
                [self._project, *some, *asked],
            )

    # ---- parts --------------------------------------------------------------------------------

    def parts(self) -> list[LivePart]:
        """Parts that are live, of all projects."""
        if not self.exists:
            return []
        is_complete = ("parts", "recipe", "VARCHAR") not in self._lacking()
        more = "recipe, structure" if is_complete else "NULL, NULL"
        return [
            _live_part(row)
            for row in self._sorted(
                "SELECT project, part, bundle, digest, content, commit_id, promotion, put_at, "
                f"interface, {more} FROM {self.schema}.parts",
                by=[0, 1],
            )
        ]

    def parts_of_ours(self) -> list[LivePart]:
        """Parts of this project that are live."""
        return [part for part in self.parts() if part.project == self._project]

    def put(self, parts: Iterable[LivePart]) -> None:
        """Record parts as live, each replacing its former self. Called inside a transaction."""
        for some in _batched(parts, _AT_ONCE):
            self.remove(*(part.part for part in some))
            self._database.add_rows(
                f"{self.schema}.parts",
                (
                    *("project", "part", "bundle", "digest", "content", "commit_id"),
                    *("promotion", "put_at", "interface", "recipe", "structure"),
                ),
                [
                    (
                        self._project,
                        str(part.part),
                        part.bundle,
                        part.digest,
                        part.content,
                        part.commit,
                        part.promotion,
                        part.put_at,
                        part.interface_text,
                        part.recipe,
                        part.structure,
                    )
                    for part in some
                ],
            )

    def remove(self, *parts: PartId) -> None:
        """Forget parts. Called inside a transaction."""
        if not parts:
            return
        places = ", ".join("?" * len(parts))
        self._database.execute(
            f"DELETE FROM {self.schema}.parts WHERE project = ? AND part IN ({places})",
            [self._project, *map(str, parts)],
        )

    def migrations(self) -> list[RanMigration]:
        """The migrations of this project that the database has behind it."""
        if not self.exists:
            return []
        script = "NULL" if ("migrations", "script", "VARCHAR") in self._lacking() else "script"
        return [
            RanMigration(
                schema=row[0],
                name=row[1],
                checksum=row[2],
                outcome=row[3],
                promotion=row[4],
                ran_at=row[5],
                script=row[6] or "",
            )
            for row in self._sorted(
                f"SELECT schema_name, name, checksum, outcome, promotion, ran_at, {script} "
                f"FROM {self.schema}.migrations WHERE project = ?",
                [self._project],
                by=[0, 1],
            )
        ]

    def ran(self, migration: RanMigration, by: str, seconds: float) -> None:
        """Record a migration. Called inside its transaction."""
        self._database.execute(
            f"INSERT INTO {self.schema}.migrations VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
            [
                self._project,
                migration.schema,
                migration.name,
                migration.checksum,
                migration.outcome,
                migration.promotion,
                migration.ran_at,
                by,
                seconds,
                migration.script,
            ],
        )

    def forget_migration(self, schema: str, name: str) -> None:
        """Forget a migration, because it is undone in the same transaction."""
        self._database.execute(
            f"DELETE FROM {self.schema}.migrations "
            "WHERE project = ? AND schema_name = ? AND name = ?",
            [self._project, schema, name],
        )

    def promotions(self) -> list[CompletedPromotion]:
        """All promotions of this project that were completed here, the latest last.

        The database's own number says which came later; times are those of its clock.
        """
        if not self.exists:
            return []
        lacking = self._lacking()
        is_numbered = ("promotions", "number", "INTEGER") not in lacking
        number = "coalesce(number, 0)" if is_numbered else "0"
        undoes = "NULL" if ("promotions", "undoes", "VARCHAR") in lacking else "undoes"
        by_exception = ("promotions", "exception", "VARCHAR")
        exception = "NULL" if by_exception in lacking else "exception"
        mixture = "NULL" if ("promotions", "mixture", "VARCHAR") in lacking else "mixture"
        rows = self._sorted(
            f"SELECT promotion, bundle, digest, commit_id, done_by, done_at, {number}, "
            f"{undoes}, {exception}, {mixture} "
            f"FROM {self.schema}.promotions WHERE project = ?",
            [self._project],
            by=[6, 5],
        )
        return [
            CompletedPromotion(
                promotion=promotion,
                bundle=bundle,
                digest=digest,
                commit=commit,
                by=by,
                at=at,
                number=int(number),
                undoes=tuple((undone or "").split()),
                exception=excepted or "",
                mixture=Mixture.read(mixed),
            )
            for promotion, bundle, digest, commit, by, at, number, undone, excepted, mixed in rows
        ]

    def last(self) -> CompletedPromotion | None:
        """The latest promotion of this project that was completed here."""
        promotions = self.promotions()
        return promotions[-1] if promotions else None

    def completed(self, promotion: CompletedPromotion) -> None:
        """Record a completed promotion; its number is given here. Called inside a transaction."""
        self._database.execute(
            f"INSERT INTO {self.schema}.promotions (project, promotion, bundle, digest, "
            "commit_id, done_by, done_at, undoes, exception, mixture, number) "
            "VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, "
            f"(SELECT max(claims) FROM {self.schema}.environments WHERE project = ?))",
            [
                self._project,
                promotion.promotion,
                promotion.bundle,
                promotion.digest,
                promotion.commit,
                promotion.by,
                promotion.at,
                " ".join(promotion.undoes),
                promotion.exception,
                promotion.mixture.text,
                self._project,
            ],
        )

    # ---- holds --------------------------------------------------------------------------------

    def holds(self) -> list[Hold]:
        """The holds of this project, by part; also those whose time is over."""
        if not self.has("holds"):
            return []
        return [
            Hold(
                part=PartId.parse(part),
                because=because,
                until=dt.date.fromisoformat(until) if until else None,
                by=by,
                at=at,
            )
            for part, because, until, by, at in self._sorted(
                f"SELECT part, because, until, held_by, held_at FROM {self.schema}.holds "
                "WHERE project = ?",
                [self._project],
                by=[0],
            )
        ]

    def hold(self, hold: Hold, at: str) -> None:
        """Record a hold. Called inside a transaction."""
        until = hold.until.isoformat() if hold.until else None
        self._database.execute(
            f"INSERT INTO {self.schema}.holds VALUES (?, ?, ?, ?, ?, ?)",
            [self._project, str(hold.part), hold.because, until, hold.by, at],
        )

    def lift(self, part: PartId) -> None:
        """Forget the hold of a part. Called inside a transaction."""
        self._database.execute(
            f"DELETE FROM {self.schema}.holds WHERE project = ? AND part = ?",
            [self._project, str(part)],
        )

    # ---- structures ---------------------------------------------------------------------------

    def structures(self) -> list[Definition]:
        """The definitions that promotions left in the database, as far as they are recorded."""
        if not self.has("structures"):
            return []
        return [
            Definition(thing=Thing(thing), name=name, sql=sql, is_of_schema=bool(of_schema))
            for thing, name, sql, of_schema in self._sorted(
                f"SELECT thing, name, definition, of_schema FROM {self.schema}.structures "
                "WHERE project = ?",
                [self._project],
                by=[0, 1],
            )
        ]

    def record(self, before: Iterable[Definition], after: Iterable[Definition], at: str) -> None:
        """Record what a step changed. Called inside the step's transaction.

        What the step left as it was keeps its record, so that a change made by hand stays one.

        Args:
            before: the definitions before the step.
            after: the same, after it.
            at: the time, ISO 8601.
        """
        old = {definition.key: definition for definition in before}
        new = {definition.key: definition for definition in after}
        changed = [
            definition
            for key, definition in {**old, **new}.items()
            if key not in old or key not in new or old[key].sql != new[key].sql
        ]
        for some in _batched(changed, _AT_ONCE):
            same = " OR ".join(["(thing = ? AND name = ?)"] * len(some))
            named = [value for each in some for value in (each.thing.value, each.name)]
            self._database.execute(
                f"DELETE FROM {self.schema}.structures WHERE project = ? AND ({same})",
                [self._project, *named],
            )
        self._insert_structures((new[d.key] for d in changed if d.key in new), at)

    def leave_unrecorded(self, schema: str) -> None:
        """Say that a schema was changed, and that recording it is still to come.

        Called inside the transaction of the change. ``schema`` is its physical name.
        """
        self._database.execute(
            f"INSERT INTO {self.schema}.unrecorded VALUES (?, ?)", [self._project, schema]
        )

    def unrecorded(self) -> frozenset[str]:
        """The physical names of schemas that a promotion has changed and not yet recorded."""
        if not self.has("unrecorded"):
            return frozenset()
        rows = self._database.rows(
            f"SELECT schema_name FROM {self.schema}.unrecorded WHERE project = ?", [self._project]
        )
        return frozenset(str(name) for (name,) in rows)

    def recorded(self, schema: str) -> None:
        """Say that a schema is recorded as it is. Called inside a transaction."""
        self._database.execute(
            f"DELETE FROM {self.schema}.unrecorded WHERE project = ? AND schema_name = ?",
            [self._project, schema],
        )

    def _insert_structures(self, definitions: Iterable[Definition], at: str) -> None:
        self._database.add_rows(
            f"{self.schema}.structures",
            ("project", "thing", "name", "of_schema", "definition", "put_at"),
            [
                (self._project, one.thing.value, one.name, int(one.is_of_schema), one.sql, at)
                for one in definitions
            ],
        )

    def recorded_steps(self, promotion: str) -> set[int]:
        """The steps of a promotion that took effect here."""
        if not self.exists:
            return set()
        return {
            int(row[0])
            for row in self._database.rows(
                f"SELECT step FROM {self.schema}.steps WHERE promotion = ?", [promotion]
            )
        }

    def record_step(self, promotion: str, step: int, at: str) -> None:
        """Record that a step took effect. Called inside the step's transaction."""
        self._database.execute(
            f"INSERT INTO {self.schema}.steps VALUES (?, ?, ?)", [promotion, step, at]
        )

    def forget_step(self, promotion: str, step: int) -> None:
        """Take a mark back, because what the step did is undone in the same transaction."""
        self._database.execute(
            f"DELETE FROM {self.schema}.steps WHERE promotion = ? AND step = ?", [promotion, step]
        )


class _Known:
    """What is known of the tables; all connections to one database share it."""

    def __init__(self) -> None:
        self.tables: set[str] = set()
        """Those that have been seen; none is ever taken away."""
        self.is_complete = False
        """Whether they are known to have all columns."""


def _live_part(row: tuple[str, ...]) -> LivePart:
    return LivePart(
        project=row[0],
        part=PartId.parse(row[1]),
        bundle=row[2],
        digest=Digest(row[3]),
        content=Digest(row[4]),
        commit=row[5],
        promotion=row[6],
        put_at=row[7],
        interface_text=row[8],
        recipe=row[9] or "",
        structure=row[10] or "",
    )


def _batched(things: Iterable[T], size: int) -> Iterator[list[T]]:
    """The things in lists of at most ``size``."""
    waiting = iter(things)
    while some := list(islice(waiting, size)):
        yield some
