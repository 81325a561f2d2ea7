"""From what a schema has and what it should have to the change, whichever database it is in."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from inchworm.core.structure.altering import altered
from inchworm.core.structure.change import Renames, renaming
from inchworm.core.structure.changes import Change
from inchworm.core.structure.definitions import Definition
from inchworm.core.structure.rebuilding import rebuilt


def changes_between(
    live: Sequence[Definition],
    wanted: Sequence[Definition],
    dialect: str,
    renames: Renames,
    renamed: Sequence[Definition] | None = None,
) -> list[Change]:
    """What turns one structure into the other: first what comes, then, ``late``, what goes.

    Args:
        live: what is there, in the database's own words.
        wanted: what should be there, in the same words.
        dialect: of the database.
        renames: names that changed, of which the values stay.
        renamed: for PostgreSQL, what is there once the renames are done.

    Raises:
        ProjectError: when there is a difference for which no change can be worked out.
    """
    if dialect == "postgres":
        found = [
            *renaming(renames),
            *altered(live if renamed is None else renamed, wanted, renames),
        ]
    else:
        found = rebuilt(live, wanted, renames, dialect)
    return [*(c for c in found if not c.late), *(c for c in found if c.late)]


def in_the_way(changes: Iterable[Change]) -> list[str]:
    """The tables and views of which views of others must not hold on to the former shape."""
    names = []
    for change in changes:
        if change.what == "drop view":
            names.append(change.name)
        elif change.what.startswith("type ") or change.what == "drop column":
            names.append(change.name.rpartition(".")[0])
    return sorted(set(names))
