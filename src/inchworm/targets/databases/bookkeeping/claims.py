"""Whose environment a database is, and which promotions and steps have been at work here."""

from __future__ import annotations

from collections.abc import Sequence

from msgspec import Struct

from inchworm.core.ledger.entries import Head
from inchworm.targets.databases.bookkeeping.base import AT_ONCE, Books, batched, read_back


class Claim(Struct, frozen=True):
    """A promotion's claim to an environment; an empty one where there has been none.

    Attributes:
        environment: the name that the environment has; None where it is not known.
        promotion: the key of the promotion.
        number: how often one began or went on here; given under the database's own lock.
        owner: the name of the person whose corner it is; None where it is not known.
    """

    environment: str | None = None
    promotion: str | None = None
    number: int = 0
    owner: str | None = None


class Claims(Books):
    """Claims of promotions to the environment, the ends of ledgers, and the marks of steps."""

    def environment(self) -> str | None:
        """The name of the environment that this database is to the project; None if not known."""
        return self.latest_claim().environment

    @read_back
    def latest_claim(self) -> Claim:
        """What the promotion left that began last, or went on last, under whatever ledger."""
        if not self.has("environments"):
            return Claim()
        lacks_owner = ("environments", "owner", "VARCHAR") in self._lacking()
        owner = "NULL" if lacks_owner else "owner"
        rows = self._database.rows(
            f"SELECT environment, claimed_by, claims, {owner} FROM {self.schema}.environments "
            "WHERE project = ?",
            [self._project],
        )
        return Claim(*rows[0]) if rows else Claim()

    def claim(self, environment: str, promotion: str, owner: str = "") -> None:
        """Record that a promotion begins or goes on here. Called inside a transaction.

        Whoever claims later keeps the promotions before from going on. The first claim gives the
        database the environment's name.

        Args:
            environment: the environment's name.
            promotion: the promotion's key, different for every ledger.
            owner: the name of the person whose corner it is; empty where nobody has one.
        """
        if self.latest_claim().number:
            self._database.execute(
                f"UPDATE {self.schema}.environments "
                "SET environment = ?, claims = claims + 1, claimed_by = ?, owner = ? "
                "WHERE project = ?",
                [environment, promotion, owner, self._project],
            )
            return
        self._database.execute(
            f"INSERT INTO {self.schema}.environments "
            "(project, environment, claims, claimed_by, owner) VALUES (?, ?, 1, ?, ?)",
            [self._project, environment, promotion, owner],
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

    @read_back
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

    @read_back
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

    def forget_steps(self, promotion: str, steps: Sequence[int]) -> None:
        """Take marks back, because what the steps did is undone in the same transaction."""
        for some in batched(steps, AT_ONCE):
            places = ", ".join("?" * len(some))
            self._database.execute(
                f"DELETE FROM {self.schema}.steps WHERE promotion = ? AND step IN ({places})",
                [promotion, *some],
            )
