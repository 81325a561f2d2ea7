"""The bookkeeping that a database carries itself, in the schema ``inchworm``.

It says what is live (part, bundle, digest, commit, promotion, time), which migrations the database
has behind it, and which steps of a promotion took effect. A step's mark is written in the same
transaction as its work, so after a crash the database itself tells what happened.
"""

from __future__ import annotations

import json
from collections.abc import Iterable, Iterator, Mapping
from itertools import islice

from inchworm.core.composition import LastPromotion, LivePart, RanMigration
from inchworm.core.structure.definitions import Definition, Thing
from inchworm.targets.databases.base import Database

SCHEMA = "inchworm"

_TABLES = (
    """CREATE TABLE IF NOT EXISTS inchworm.parts (
    project VARCHAR NOT NULL, part VARCHAR NOT NULL, bundle VARCHAR NOT NULL,
    digest VARCHAR NOT NULL, content VARCHAR NOT NULL, commit_id VARCHAR,
    promotion VARCHAR NOT NULL, put_at VARCHAR NOT NULL, interface VARCHAR NOT NULL)""",
    """CREATE TABLE IF NOT EXISTS inchworm.migrations (
    project VARCHAR NOT NULL, schema_name VARCHAR NOT NULL, name VARCHAR NOT NULL,
    checksum VARCHAR NOT NULL, outcome VARCHAR NOT NULL, promotion VARCHAR NOT NULL,
    ran_at VARCHAR NOT NULL, ran_by VARCHAR NOT NULL, seconds DOUBLE PRECISION NOT NULL)""",
    """CREATE TABLE IF NOT EXISTS inchworm.promotions (
    project VARCHAR NOT NULL, promotion VARCHAR NOT NULL, bundle VARCHAR NOT NULL,
    digest VARCHAR NOT NULL, commit_id VARCHAR,
    done_by VARCHAR NOT NULL, done_at VARCHAR NOT NULL)""",
    """CREATE TABLE IF NOT EXISTS inchworm.steps (
    promotion VARCHAR NOT NULL, step INTEGER NOT NULL, done_at VARCHAR NOT NULL)""",
    """CREATE TABLE IF NOT EXISTS inchworm.structures (
    project VARCHAR NOT NULL, thing VARCHAR NOT NULL, name VARCHAR NOT NULL,
    of_schema INTEGER NOT NULL, definition VARCHAR NOT NULL, put_at VARCHAR NOT NULL)""",
)


#: Rows per statement: one by one would be slow for thousands of parts.
_AT_ONCE = 200


_INTERFACE = ("values", "tables", "reads", "required", "keys", "managed")
"""What is kept of a part's interface as JSON."""


class Bookkeeping:
    """The bookkeeping of one project in one database."""

    def __init__(self, database: Database, project: str) -> None:
        self._database = database
        self._project = project

    @property
    def exists(self) -> bool:
        """Whether the database has bookkeeping at all."""
        return f"{SCHEMA}.parts" in self._database.kinds()

    def ensure(self) -> None:
        """Make the tables unless they are all there."""
        if f"{SCHEMA}.structures" in self._database.kinds():
            return
        self._database.create_schema(SCHEMA)
        with self._database.transaction():
            for statement in _TABLES:
                self._database.execute(statement)

    def parts(self) -> list[LivePart]:
        """Parts that are live, of all projects."""
        if not self.exists:
            return []
        return [
            _live_part(row)
            for row in self._database.rows(
                "SELECT project, part, bundle, digest, content, commit_id, promotion, put_at, "
                "interface FROM inchworm.parts ORDER BY project, part"
            )
        ]

    def put(self, parts: Iterable[LivePart]) -> None:
        """Record parts as live, each replacing its former self. Called inside a transaction."""
        for some in _batched(parts, _AT_ONCE):
            self.remove(*(part.part for part in some))
            values: list[object] = []
            for part in some:
                interface = {name: getattr(part, name) for name in _INTERFACE}
                values += [
                    self._project,
                    part.part,
                    part.bundle,
                    part.digest,
                    part.content,
                    part.commit,
                    part.promotion,
                    part.put_at,
                    json.dumps(interface, sort_keys=True),
                ]
            places = ", ".join(["(?, ?, ?, ?, ?, ?, ?, ?, ?)"] * len(some))
            self._database.execute(f"INSERT INTO inchworm.parts VALUES {places}", values)

    def remove(self, *parts: str) -> None:
        """Forget parts. Called inside a transaction."""
        places = ", ".join("?" * len(parts))
        self._database.execute(
            f"DELETE FROM inchworm.parts WHERE project = ? AND part IN ({places})",
            [self._project, *parts],
        )

    def migrations(self) -> list[RanMigration]:
        """The migrations of this project that the database has behind it."""
        if not self.exists:
            return []
        return [
            RanMigration(
                schema=row[0],
                name=row[1],
                checksum=row[2],
                outcome=row[3],
                promotion=row[4],
                ran_at=row[5],
            )
            for row in self._database.rows(
                "SELECT schema_name, name, checksum, outcome, promotion, ran_at "
                "FROM inchworm.migrations WHERE project = ? ORDER BY schema_name, name",
                [self._project],
            )
        ]

    def ran(self, migration: RanMigration, by: str, seconds: float) -> None:
        """Record a migration. Called inside its transaction."""
        self._database.execute(
            "INSERT INTO inchworm.migrations VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)",
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
            ],
        )

    def last(self) -> LastPromotion | None:
        """The latest promotion of this project that was completed here."""
        if not self.exists:
            return None
        rows = self._database.rows(
            "SELECT promotion, bundle, digest, commit_id, done_by, done_at "
            "FROM inchworm.promotions WHERE project = ? ORDER BY done_at DESC LIMIT 1",
            [self._project],
        )
        if not rows:
            return None
        promotion, bundle, digest, commit, by, at = rows[0]
        return LastPromotion(
            promotion=promotion, bundle=bundle, digest=digest, commit=commit, by=by, at=at
        )

    def completed(self, last: LastPromotion) -> None:
        """Record a completed promotion. Called inside a transaction."""
        self._database.execute(
            "INSERT INTO inchworm.promotions VALUES (?, ?, ?, ?, ?, ?, ?)",
            [
                self._project,
                last.promotion,
                last.bundle,
                last.digest,
                last.commit,
                last.by,
                last.at,
            ],
        )

    def structures(self) -> list[Definition]:
        """What the latest promotion left in the database."""
        if f"{SCHEMA}.structures" not in self._database.kinds():
            return []
        return [
            Definition(thing=Thing(thing), name=name, sql=sql, is_of_schema=bool(of_schema))
            for thing, name, sql, of_schema in self._database.rows(
                "SELECT thing, name, definition, of_schema FROM inchworm.structures "
                "WHERE project = ? ORDER BY thing, name",
                [self._project],
            )
        ]

    def left(self, definitions: Iterable[Definition], at: str) -> None:
        """Record what a promotion leaves in the database. Called inside a transaction."""
        self._database.execute("DELETE FROM inchworm.structures WHERE project = ?", [self._project])
        waiting = iter(definitions)
        while some := list(islice(waiting, _AT_ONCE)):
            values: list[object] = []
            for one in some:
                of_schema = int(one.is_of_schema)
                values += [self._project, one.thing.value, one.name, of_schema, one.sql, at]
            places = ", ".join(["(?, ?, ?, ?, ?, ?)"] * len(some))
            self._database.execute(f"INSERT INTO inchworm.structures VALUES {places}", values)

    def marks(self, promotion: str) -> set[int]:
        """The steps of a promotion that took effect here."""
        if not self.exists:
            return set()
        return {
            int(row[0])
            for row in self._database.rows(
                "SELECT step FROM inchworm.steps WHERE promotion = ?", [promotion]
            )
        }

    def mark(self, promotion: str, step: int, at: str) -> None:
        """Record that a step took effect. Called inside the step's transaction."""
        self._database.execute("INSERT INTO inchworm.steps VALUES (?, ?, ?)", [promotion, step, at])

    def unmark(self, promotion: str, step: int) -> None:
        """Take a mark back, because what the step did is undone in the same transaction."""
        self._database.execute(
            "DELETE FROM inchworm.steps WHERE promotion = ? AND step = ?", [promotion, step]
        )


def _live_part(row: tuple[str, ...]) -> LivePart:
    interface = json.loads(row[8])
    return LivePart(
        project=row[0],
        part=row[1],
        bundle=row[2],
        digest=row[3],
        content=row[4],
        commit=row[5],
        promotion=row[6],
        put_at=row[7],
        values=interface["values"],
        tables={
            name: tuple((column, kind) for column, kind in columns)
            for name, columns in interface["tables"].items()
        },
        reads=_names(interface["reads"]),
        required=_names(interface.get("required", {})),
        keys=_names(interface.get("keys", {})),
        managed=interface.get("managed", True),
    )


def _names(listed: Mapping[str, list[str]]) -> dict[str, tuple[str, ...]]:
    return {table: tuple(columns) for table, columns in listed.items()}


def _batched(parts: Iterable[LivePart], size: int) -> Iterator[list[LivePart]]:
    """The parts in lists of at most ``size``."""
    waiting = iter(parts)
    while some := list(islice(waiting, size)):
        yield some
