"""The migrations that a database has behind it, and the promotions that were completed."""

from __future__ import annotations

from inchworm.core.promotion.composition import CompletedPromotion, Mixture, RanMigration
from inchworm.targets.databases.bookkeeping.base import Books, read_back

_PROMOTION = ("promotion", "bundle", "digest", "commit", "by", "at")


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
        undoes = "NULL" if ("promotions", "undoes", "VARCHAR") in lacking else "undoes"
        by_exception = ("promotions", "exception", "VARCHAR")
        exception = "NULL" if by_exception in lacking else "exception"
        rules = "NULL" if ("promotions", "rules", "VARCHAR") in lacking else "rules"
        mixture = "NULL" if ("promotions", "mixture", "VARCHAR") in lacking else "mixture"
        rows = self._sorted(
            f"SELECT promotion, bundle, digest, commit_id, done_by, done_at, {number}, "
            f"{undoes}, {exception}, {mixture}, {rules} "
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
            )
            for row in rows
        ]

    def last(self) -> CompletedPromotion | None:
        """The latest promotion of this project that was completed here."""
        promotions = self.promotions()
        return promotions[-1] if promotions else None

    def completed(self, promotion: CompletedPromotion) -> None:
        """Record a completed promotion; its number is given here. Called inside a transaction."""
        self._database.execute(
            f"INSERT INTO {self.schema}.promotions (project, promotion, bundle, digest, "
            "commit_id, done_by, done_at, undoes, exception, mixture, rules, number) "
            "VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, "
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
                self._project,
            ],
        )
