"""The migrations that a database has behind it, and the promotions that were completed."""

from __future__ import annotations

import json

from inchworm.core.promotion.composition import (
    Circumstances,
    CompletedPromotion,
    Mixture,
    RanMigration,
)
from inchworm.targets.databases.bookkeeping.base import Books, read_back

_PROMOTION = ("promotion", "bundle", "digest", "commit", "by", "at")
_ADDED = ("undoes", "exception", "mixture", "rules", "circumstances")
"""Columns that former versions lack."""


class History(Books):
    """Migrations and promotions."""

    @read_back
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

    @read_back
    def promotions(self) -> list[CompletedPromotion]:
        """All promotions of this project that were completed here, the latest last.

        The database's own number says which came later; times are those of its clock.
        """
        if not self.exists:
            return []
        lacking = self._lacking()
        is_numbered = ("promotions", "number", "INTEGER") not in lacking
        number = "coalesce(number, 0)" if is_numbered else "0"
        added = ", ".join(
            "NULL" if ("promotions", column, "VARCHAR") in lacking else column for column in _ADDED
        )
        rows = self._sorted(
            f"SELECT promotion, bundle, digest, commit_id, done_by, done_at, {number}, "
            f"{added} "
            f"FROM {self.schema}.promotions WHERE project = ?",
            [self._project],
            by=[6, 5],
        )
        return [
            CompletedPromotion(
                **dict(zip(_PROMOTION, row[:6], strict=True)),
                number=int(row[6]),
                undoes=tuple((row[7] or "").split()),
                exception=row[8] or "",
                mixture=Mixture.read(row[9]),
                rules=row[10] or "",
                circumstances=Circumstances.from_json(json.loads(row[11]) if row[11] else None),
            )
            for row in rows
        ]

    def last(self) -> CompletedPromotion | None:
        """The latest promotion of this project that was completed here."""
        promotions = self.promotions()
        return promotions[-1] if promotions else None

    def completed(self, promotion: CompletedPromotion) -> None:
        """Record a completed promotion; its number is given here. Called inside a transaction."""
        circumstances = promotion.circumstances
        self._database.execute(
            f"INSERT INTO {self.schema}.promotions (project, promotion, bundle, digest, "
            f"commit_id, done_by, done_at, {', '.join(_ADDED)}, number) "
            "VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, "
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
                promotion.rules,
                json.dumps(circumstances.to_json()) if circumstances else None,
                self._project,
            ],
        )
