"""Files that a copying flow takes: which of them."""

from __future__ import annotations

import datetime as dt
from collections.abc import Mapping
from enum import StrEnum
from pathlib import PurePosixPath

from msgspec import Struct


class FileFormat(StrEnum):
    """How rows stand in a file."""

    CSV = "csv"
    """Comma-separated values with a header (RFC 4180), in UTF-8."""
    JSON_LINES = "jsonl"
    """A JSON object per line."""
    PARQUET = "parquet"


_BY_SUFFIX = {
    ".csv": FileFormat.CSV,
    ".jsonl": FileFormat.JSON_LINES,
    ".ndjson": FileFormat.JSON_LINES,
    ".parquet": FileFormat.PARQUET,
}


def format_of(path: str) -> FileFormat | None:
    """The format that the end of a file's name says; None when it says none."""
    return _BY_SUFFIX.get(PurePosixPath(path).suffix.lower())


class ListedFile(Struct, frozen=True, kw_only=True):
    """A file as its place lists it.

    Attributes:
        path: below the connection's folder, with slashes.
        size: bytes.
        changed_at: when it was written, ISO 8601, UTC; empty where its place does not say.
        stamp: changes with the content, as far as its place can tell without reading it.
    """

    path: str
    size: int
    changed_at: str
    stamp: str


class TakenFile(Struct, frozen=True, kw_only=True):
    """A file that a flow has taken.

    Attributes:
        digest: SHA-256 of its content then, in hexadecimal.
        stamp: as its place listed it then.
        at: when it was taken, ISO 8601, UTC.
        run: by which run.
    """

    path: str
    digest: str
    stamp: str
    at: str
    run: str


class FileStanding(StrEnum):
    """Where a file stands before a flow looks into it."""

    NEW = "new"
    TAKEN = "taken"
    TOUCHED = "touched"
    """It was taken, and is listed otherwise than then: its content decides."""
    UNSETTLED = "unsettled"
    """It was written only a moment ago, and may not be whole."""
    AHEAD = "ahead"
    """It says that it was written later than now: whether it is whole cannot be told."""


CLOCKS_DIFFER = dt.timedelta(minutes=5)
"""How far the clocks of two machines may be apart before something is wrong."""


def standing(
    listed: ListedFile, taken: Mapping[str, TakenFile], now: dt.datetime, rests: dt.timedelta
) -> FileStanding:
    """Where a file stands.

    Args:
        listed: the file.
        taken: the files that were taken before, by path.
        now: the present time, with a zone.
        rests: how long a file has to have been left alone to be whole.
    """
    settled_before = _utc(now - rests)
    if listed.changed_at > _utc(now + CLOCKS_DIFFER):
        return FileStanding.AHEAD
    if listed.changed_at and listed.changed_at > settled_before:
        return FileStanding.UNSETTLED
    earlier = taken.get(listed.path)
    if earlier is None:
        return FileStanding.NEW
    return FileStanding.TAKEN if earlier.stamp == listed.stamp else FileStanding.TOUCHED


def _utc(moment: dt.datetime) -> str:
    return moment.astimezone(dt.UTC).isoformat(timespec="seconds")
