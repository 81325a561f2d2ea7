"""The parts that are live, and which of them are on hold."""

from __future__ import annotations

import datetime as dt
from collections.abc import Iterable

from inchworm.core.identifiers import PartId
from inchworm.core.parts import Digest
from inchworm.core.promotion.composition import LivePart
from inchworm.core.promotion.holds import Hold
from inchworm.targets.databases.bookkeeping.base import AT_ONCE, Books, batched, read_back

_ADDED = ("recipe", "structure", "built_on")
"""Columns that former versions did not have."""


class Parts(Books):
    """Parts and holds."""

    @read_back
    def parts(self) -> list[LivePart]:
        """Parts that are live, of all projects."""
        if not self.exists:
            return []
        lacking = self._lacking()
        more = ", ".join(
            "NULL" if ("parts", column, "VARCHAR") in lacking else column for column in _ADDED
        )
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
        for some in batched(parts, AT_ONCE):
            self.remove(*(part.part for part in some))
            self._database.add_rows(
                f"{self.schema}.parts",
                (
                    *("project", "part", "bundle", "digest", "content", "commit_id"),
                    *("promotion", "put_at", "interface", *_ADDED),
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
                        part.built_on,
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

    @read_back
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
        built_on=row[11] or "",
    )
