"""Rows that a notebook stores, by the columns of the table that they go into."""

from __future__ import annotations

from collections.abc import Collection, Iterable

from inchworm.core.errors import UsageError, did_you_mean


def promised_columns(
    table: str, given: Iterable[object], columns: Collection[str] | None
) -> list[str]:
    """The columns of a frame that go into a table.

    Args:
        table: the table's name, for messages.
        given: the columns that the frame has.
        columns: those that the notebook promises; None for all that the frame has.

    Raises:
        UsageError: when the frame lacks one that is promised.
    """
    names = list(map(str, given))
    missing = [name for name in columns or () if name not in names]
    if missing:
        raise UsageError(
            f"The rows for {table} lack {', '.join(missing)}.",
            next="Give the frame all columns that columns = ... promises.",
        )
    return list(columns) if columns else names


def columns_in_table(names: Collection[str], table: str, live: Iterable[str]) -> dict[str, str]:
    """The columns of a table that columns of a frame go into; case does not count.

    Args:
        names: those of the frame.
        table: the table's name, for messages.
        live: the columns that it has.

    Returns:
        By the name in the frame, the name in the table.

    Raises:
        UsageError: when the table lacks one of them.
    """
    known = {name.lower(): name for name in live}
    for name in names:
        if name.lower() not in known:
            near = did_you_mean(name.lower(), known, f"It has: {', '.join(known.values())}.")
            raise UsageError(f"{table} has no column {name}.", next=near)
    return {name: known[name.lower()] for name in names}
