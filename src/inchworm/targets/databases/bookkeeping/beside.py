"""Relations that promotions and runs put beside the live ones."""

from __future__ import annotations

from collections.abc import Iterable

from inchworm.core.identifiers import RelationName
from inchworm.core.parts import Digest
from inchworm.core.promotion.aside import Aside, Purpose
from inchworm.targets.databases.bookkeeping.base import AT_ONCE, Books, batched, read_back


class RelationsBeside(Books):
    """Relations beside the live ones."""

    @read_back
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
        for some in batched(names, AT_ONCE):
            places = ", ".join("?" * len(some))
            self._database.execute(
                f"DELETE FROM {self.schema}.aside WHERE project = ? AND name IN ({places}){only}",
                [self._project, *some, *asked],
            )
