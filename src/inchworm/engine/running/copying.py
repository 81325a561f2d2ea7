"""Copying flows: each file that matches is taken once, whole, and told when it changed since.

A file is fetched to this machine first. Its rows, and the mark that it was taken, are written in
one transaction; a file that goes into a folder is written under another name, renamed, and marked
then, so that a run that was killed in between finds its own file there, by its content. A file that
cannot be taken whole is not taken at all: it is named with the reason, and tried again by the next
run.
"""

from __future__ import annotations

import datetime as dt
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from msgspec import Struct, field

from inchworm.core.counting import counted
from inchworm.core.errors import InchwormError, TargetError
from inchworm.core.execution import StepReport, StepState
from inchworm.core.identifiers import PartId, RelationName
from inchworm.core.running.copying import (
    FileFormat,
    FileStanding,
    ListedFile,
    TakenFile,
    format_of,
)
from inchworm.core.running.states import FlowTask
from inchworm.core.structure.tables import Column
from inchworm.engine.running.arrivals import looked_at
from inchworm.engine.running.failure import StepFailed
from inchworm.engine.running.site import RunSite
from inchworm.targets.databases.quoting import quoted
from inchworm.targets.databases.sent_rows import TakenFiles
from inchworm.targets.file_places import FilePlace, UnreadableFile
from inchworm.targets.file_rows import check_parquet, file_rows

_MOST_REASONS = 20
"""Files whose reasons stand in the log of the run."""


class Outcome(Struct):
    """What became of the files of a flow."""

    taken: int = 0
    known: int = 0
    noted: int = 0
    """Files that were recorded as taken, because they were taken otherwise."""
    waiting: int = 0
    rows: int = 0
    changed: list[str] = field(default_factory=list)
    """Files that were taken, and have other content now, in words."""
    refused: list[str] = field(default_factory=list)
    """Files that cannot be taken, in words."""

    @property
    def text(self) -> str:
        """It in words."""
        outcomes = [counted(self.taken, "file") + " taken"]
        outcomes += [f"{self.known:,} taken before"] * bool(self.known)
        outcomes += [f"{self.noted:,} recorded as taken before"] * bool(self.noted)
        outcomes += [f"{self.waiting:,} still being written"] * bool(self.waiting)
        outcomes += [f"{counted(len(self.changed), 'file')} changed since"] * bool(self.changed)
        outcomes += [f"{counted(len(self.refused), 'file')} not taken"] * bool(self.refused)
        return ", ".join(outcomes)

    @property
    def log(self) -> str:
        """The files that somebody has to look at, each with the reason."""
        reasons = [*self.refused, *self.changed]
        more = len(reasons) - _MOST_REASONS
        return "\n".join([*reasons[:_MOST_REASONS], *([f"and {more:,} more"] if more > 0 else [])])


def copy_files(
    part: PartId, document: Mapping[str, Any], places: Mapping[str, FilePlace], site: RunSite
) -> StepReport:
    """Take the files of a copying flow that were not taken yet.

    Args:
        part: the flow.
        document: it, rendered.
        places: the folders behind its connections, by the end: ``from``, and ``to`` if it has one.
        site: where it runs.

    Raises:
        StepFailed: when the folder or the table cannot be reached.
    """
    copying = _Copying(part, document, places, site)
    try:
        copying.run()
    except InchwormError as error:
        raise StepFailed(
            f"{error.what.rstrip('.')}; {copying.outcome.text}.",
            next=error.next or "Run it again: what was taken is not taken again.",
            log=copying.outcome.log,
        ) from error
    outcome = copying.outcome
    return StepReport(
        state=StepState.WARNED if outcome.log else StepState.DONE,
        message=outcome.text,
        rows=outcome.rows if document["to"].get("table") else None,
        log=outcome.log,
    )


class _Copying:
    """One flow at work."""

    def __init__(
        self,
        part: PartId,
        document: Mapping[str, Any],
        places: Mapping[str, FilePlace],
        site: RunSite,
    ) -> None:
        self._source, self._target = places["from"], places.get("to")
        self._document = document
        self._fields = {str(c).lower(): str(f) for c, f in document.get("fields", {}).items()}
        self._site = site
        self._part = part
        project = site.prepared.bundle.project
        self._marks = TakenFiles(site.database, site.bookkeeping.schema, project, part.name)
        self.outcome = Outcome()

    def run(self) -> None:
        """Look at every file that matches, and take those that were not taken."""
        self._marks.ensure()
        taken = self._marks.all()
        now = dt.datetime.fromisoformat(self._site.now())
        for listed, stands in looked_at(self._document, self._source, taken, now):
            if self._site.context.stopping.is_set():
                raise TargetError("the run was stopped.")
            match stands:
                case FileStanding.UNSETTLED:
                    self.outcome.waiting += 1
                case FileStanding.AHEAD:
                    self.outcome.refused.append(
                        f"{listed.path}: it was written at {listed.changed_at}, says its place, "
                        "which is still to come. Set the clock right there, and write it again."
                    )
                case FileStanding.TAKEN:
                    self.outcome.known += 1
                case FileStanding.NEW | FileStanding.TOUCHED:
                    self._look_into(listed, taken.get(listed.path))

    def _look_into(self, listed: ListedFile, earlier: TakenFile | None) -> None:
        """Fetch a file, and take it unless it was taken before, or is not whole."""
        copy = self._site.context.folder / f"{self._part.name}.file"
        try:
            digest = self._source.fetch(listed.path, copy)
            if self._source.listed(listed.path).stamp != listed.stamp:
                self.outcome.waiting += 1
                return
            if earlier is not None:
                self._compare(listed, earlier, digest)
                return
            taken = TakenFile(
                path=listed.path,
                digest=digest,
                stamp=listed.stamp,
                at=self._site.now(),
                run=str(self._site.id),
            )
            if self._site.context.flow_task is FlowTask.ALREADY_TAKEN:
                self._note(taken)
                return
            self._take(copy, taken)
        except UnreadableFile as error:
            self.outcome.refused.append(f"{listed.path}: {error.what}")
        finally:
            copy.unlink(missing_ok=True)

    def _compare(self, listed: ListedFile, earlier: TakenFile, digest: str) -> None:
        """Tell of a file that has other content than when it was taken: its rows stay."""
        if digest == earlier.digest:
            self.outcome.known += 1
            with self._site.database.transaction():
                self._marks.stamped(listed.path, listed.stamp)
            return
        self.outcome.changed.append(
            f"{listed.path}: changed since {earlier.run} took it at {earlier.at}; it is not taken "
            "again. If its rows are to come in, put them into a file of another name."
        )

    def _note(self, taken: TakenFile) -> None:
        """Record a file as taken that was taken otherwise, before there was a flow for it."""
        with self._site.database.transaction():
            self._marks.add(taken)
        self.outcome.noted += 1

    def _take(self, copy: Path, taken: TakenFile) -> None:
        if self._target is None:
            rows = self._take_rows(copy, taken)
            self.outcome.rows += rows
        else:
            self._take_file(copy, taken, self._target)
        self.outcome.taken += 1

    def _take_rows(self, copy: Path, taken: TakenFile) -> int:
        """Write a file's rows into the table, with the mark that it was taken; how many."""
        import pandas as pd

        format_ = self._format_of(taken.path)
        database = self._site.database
        table = self._site.physical(self._document["to"]["table"])
        columns = self._columns(table)
        rows = 0
        with database.transaction():
            if format_ is FileFormat.PARQUET and (added := self._parquet(copy, table)) is not None:
                self._marks.add(taken)
                return added
            for batch in file_rows(copy, format_, self._fields, columns):
                names = [column.name for column in columns]
                try:
                    database.append_frame(
                        str(table), pd.DataFrame(batch, columns=names, dtype=object)
                    )
                except TargetError as error:
                    what = f"{quoted(table)} does not take it: {error.what}"
                    raise UnreadableFile(what) from error
                rows += len(batch)
            self._marks.add(taken)
        return rows

    def _parquet(self, copy: Path, table: RelationName) -> int | None:
        """Have the database read a Parquet file; the rows, or None where it cannot."""
        check_parquet(copy, list(self._fields.values()))
        try:
            return self._site.database.append_parquet(table, copy, self._fields)
        except TargetError as error:
            raise UnreadableFile(f"{quoted(table)} does not take it: {error.what}") from error

    def _format_of(self, path: str) -> FileFormat:
        named = self._document.get("format")
        format_ = FileFormat(named) if named else format_of(path)
        if format_ is None:
            raise UnreadableFile("its name does not say its format: write format = ...")
        return format_

    def _columns(self, table: RelationName) -> list[Column]:
        """The columns of the live table that the flow fills, in the order of its fields."""
        live = self._site.database.tables([table]).get(table)
        if live is None:
            raise TargetError(f"there is no table {table}.", next="Promote its schema first.")
        missing = [column for column in self._fields if column not in live.by_name]
        if missing:
            raise TargetError(f"{table} has no column {missing[0]}.")
        return [live.by_name[column] for column in self._fields]

    def _take_file(self, copy: Path, taken: TakenFile, target: FilePlace) -> None:
        """Write a file into the folder, unless it is there already; never over another one."""
        folder = str(self._document["to"].get("folder", "")).strip("/")
        path = f"{folder}/{taken.path}".lstrip("/")
        existing = target.digest(path)
        if existing is None:
            target.put(copy, path)
        elif existing != taken.digest:
            raise UnreadableFile(f"another file is already at {path} there, and stays as it is")
        with self._site.database.transaction():
            self._marks.add(taken)
