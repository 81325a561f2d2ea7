"""The bookkeeping that a database carries itself, in a schema of its own, usually ``inchworm``.

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

_TABLES = (
    """CREATE TABLE IF NOT EXISTS {schema}.parts (
    project VARCHAR NOT NULL, part VARCHAR NOT NULL, bundle VARCHAR NOT NULL,
    digest VARCHAR NOT NULL, content VARCHAR NOT NULL, commit_id VARCHAR,
    promotion VARCHAR NOT NULL, put_at VARCHAR NOT NULL, interface VARCHAR NOT NULL)""",
    """CREATE TABLE IF NOT EXISTS {schema}.migrations (
    project VARCHAR NOT NULL, schema_name VARCHAR NOT NULL, name VARCHAR NOT NULL,
    checksum VARCHAR NOT NULL, outcome VARCHAR NOT NULL, promotion VARCHAR NOT NULL,
    ran_at VARCHAR NOT NULL, ran_by VARCHAR NOT NULL, seconds DOUBLE PRECISION NOT NULL,
    script VARCHAR)""",
    """CREATE TABLE IF NOT EXISTS {schema}.promotions (
    project VARCHAR NOT NULL, promotion VARCHAR NOT NULL, bundle VARCHAR NOT NULL,
    digest VARCHAR NOT NULL, commit_id VARCHAR,
    done_by VARCHAR NOT NULL, done_at VARCHAR NOT NULL)""",
    """CREATE TABLE IF NOT EXISTS {schema}.steps (
    promotion VARCHAR NOT NULL, step INTEGER NOT NULL, done_at VARCHAR NOT NULL)""",
    """CREATE TABLE IF NOT EXISTS {schema}.structures (
    project VARCHAR NOT NULL, thing VARCHAR NOT NULL, name VARCHAR NOT NULL,
    of_schema INTEGER NOT NULL, definition VARCHAR NOT NULL, put_at VARCHAR NOT NULL)""",
)


#: Rows per statement: one by one would be slow for thousands of parts.
_AT_ONCE = 200


_INTERFACE = ("values", "tables", "reads", "required", "keys", "managed")
"""What is kept of a part's interface as JSON."""


class Bookkeeping:
    """The bookkeeping of one project in one database.

    Args:
        schema: where it is kept; a plain name in lower case.
    """

    def __init__(self, database: Database, project: str, schema: str = "inchworm") -> None:
        self._database = database
        self._project = project
        self.schema = schema

    @property
    def exists(self) -> bool:
        """Whether the database has bookkeeping at all."""
        return f"{self.schema}.parts" in self._database.kinds()

    def ensure(self) -> None:
        """Make the tables unless they are all there, as they have to be."""
        if f"{self.schema}.structures" in self._database.kinds() and self._keeps_scripts:
            return
        self._database.create_schema(self.schema)
        with self._database.transaction():
            for statement in _TABLES:
                self._database.execute(statement.format(schema=self.schema))
            if not self._keeps_scripts:  # it was made before they were kept
                self._database.execute(
                    f"ALTER TABLE {self.schema}.migrations ADD COLUMN script VARCHAR"
                )

    @property
    def _keeps_scripts(self) -> bool:
        """Whether the texts of migrations are kept."""
        there = self._database.structure([self.schema]).get(f"{self.schema}.migrations")
        return there is not None and "script" in there.by_name

    def parts(self) -> list[LivePart]:
        """Parts that are live, of all projects."""
        if not self.exists:
            return []
        return [
            _live_part(row)
            for row in self._database.rows(
                "SELECT project, part, bundle, digest, content, commit_id, promotion, put_at, "
                f"interface FROM {self.schema}.parts ORDER BY project, part"
            )
        ]

    def parts_of_ours(self) -> list[LivePart]:
        """Parts of this project that are live."""
        return [part for part in self.parts() if part.project == self._project]

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
            self._database.execute(f"INSERT INTO {self.schema}.parts VALUES {places}", values)

    def remove(self, *parts: str) -> None:
        """Forget parts. Called inside a transaction."""
        places = ", ".join("?" * len(parts))
        self._database.execute(
            f"DELETE FROM {self.schema}.parts WHERE project = ? AND part IN ({places})",
            [self._project, *parts],
        )

    def migrations(self) -> list[RanMigration]:
        """The migrations of this project that the database has behind it."""
        if not self.exists:
            return []
        script = "script" if self._keeps_scripts else "NULL"
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
            for row in self._database.rows(
                f"SELECT schema_name, name, checksum, outcome, promotion, ran_at, {script} "
                f"FROM {self.schema}.migrations WHERE project = ? ORDER BY schema_name, name",
                [self._project],
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

    def unran(self, schema: str, name: str) -> None:
        """Forget a migration, because it is undone in the same transaction."""
        self._database.execute(
            f"DELETE FROM {self.schema}.migrations "
            "WHERE project = ? AND schema_name = ? AND name = ?",
            [self._project, schema, name],
        )

    def last(self) -> LastPromotion | None:
        """The latest promotion of this project that was completed here."""
        if not self.exists:
            return None
        rows = self._database.rows(
            "SELECT promotion, bundle, digest, commit_id, done_by, done_at "
            f"FROM {self.schema}.promotions WHERE project = ? ORDER BY done_at DESC LIMIT 1",
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
            f"INSERT INTO {self.schema}.promotions VALUES (?, ?, ?, ?, ?, ?, ?)",
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
        if f"{self.schema}.structures" not in self._database.kinds():
            return []
        return [
            Definition(thing=Thing(thing), name=name, sql=sql, is_of_schema=bool(of_schema))
            for thing, name, sql, of_schema in self._database.rows(
                f"SELECT thing, name, definition, of_schema FROM {self.schema}.structures "
                "WHERE project = ? ORDER BY thing, name",
                [self._project],
            )
        ]

    def left(self, definitions: Iterable[Definition], at: str) -> None:
        """Record what a promotion leaves in the database. Called inside a transaction."""
        self._database.execute(
            f"DELETE FROM {self.schema}.structures WHERE project = ?", [self._project]
        )
        self._insert_structures(definitions, at)

    def left_in(self, schema: str, definitions: Iterable[Definition], at: str) -> None:
        """Record what one schema has now, apart from models. Called inside a transaction."""
        own = f"{schema}."
        self._database.execute(
            f"DELETE FROM {self.schema}.structures "
            "WHERE project = ? AND of_schema = 1 AND substr(name, 1, ?) = ?",
            [self._project, len(own), own],
        )
        of_schema = (d for d in definitions if d.is_of_schema and d.name.startswith(own))
        self._insert_structures(of_schema, at)

    def recorded(self) -> dict[str, str]:
        """When what each schema has was recorded last, by real name."""
        rows = self._database.rows(
            f"SELECT name, put_at FROM {self.schema}.structures WHERE project = ?", [self._project]
        )
        return {name.partition(".")[0]: at for name, at in sorted(rows, key=lambda row: row[1])}

    def _insert_structures(self, definitions: Iterable[Definition], at: str) -> None:
        waiting = iter(definitions)
        while some := list(islice(waiting, _AT_ONCE)):
            values: list[object] = []
            for one in some:
                of_schema = int(one.is_of_schema)
                values += [self._project, one.thing.value, one.name, of_schema, one.sql, at]
            places = ", ".join(["(?, ?, ?, ?, ?, ?)"] * len(some))
            self._database.execute(f"INSERT INTO {self.schema}.structures VALUES {places}", values)

    def marks(self, promotion: str) -> set[int]:
        """The steps of a promotion that took effect here."""
        if not self.exists:
            return set()
        return {
            int(row[0])
            for row in self._database.rows(
                f"SELECT step FROM {self.schema}.steps WHERE promotion = ?", [promotion]
            )
        }

    def mark(self, promotion: str, step: int, at: str) -> None:
        """Record that a step took effect. Called inside the step's transaction."""
        self._database.execute(
            f"INSERT INTO {self.schema}.steps VALUES (?, ?, ?)", [promotion, step, at]
        )

    def unmark(self, promotion: str, step: int) -> None:
        """Take a mark back, because what the step did is undone in the same transaction."""
        self._database.execute(
            f"DELETE FROM {self.schema}.steps WHERE promotion = ? AND step = ?", [promotion, step]
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
