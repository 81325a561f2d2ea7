"""Working out many parts at once, on all cores.

Parts go to worker processes in batches, each part after those whose tables it is believed to read.
A worker is given the structures of just those tables. Should it need another one, it hands the part
back, and it is worked out here: a wrong belief costs time, never a wrong answer.
"""

from __future__ import annotations

import gc
import os
from collections import deque
from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from concurrent.futures import FIRST_COMPLETED, Future, ProcessPoolExecutor, wait
from functools import lru_cache

from msgspec import Struct

from inchworm.core.identifiers import PartId
from inchworm.core.lineage.facts_text import read_tables, tables_line
from inchworm.core.parts import Contents, Part, SourceFile
from inchworm.core.structure.tables import Table
from inchworm.kinds.analysis import work_out

_BATCH = 24
_AHEAD = 2
"""Batches that wait for each process, so that none has to wait for us."""

GivenTables = Mapping[str, str]
"""Tables by name, each as the line that tells all tables of the part that provides it."""

_Task = tuple[PartId, dict[str, bytes]]


class Common(Struct, frozen=True, kw_only=True):
    """The values that every worker has."""

    dialect: str
    shared: Contents
    names: frozenset[str]
    """All tables that exist, given or not."""


class _NotGivenError(Exception):
    """A table exists, but this worker was not told its structure."""


class _Given(Mapping[str, Table]):
    """The tables that a worker was given."""

    def __init__(self, given: GivenTables, names: frozenset[str]) -> None:
        self._given = given
        self._names = names

    def __getitem__(self, name: str) -> Table:
        line = self._given.get(name)
        if line is not None:
            return next(table for table in _tables(line) if table.name == name)
        if name in self._names:
            raise _NotGivenError(name)
        raise KeyError(name)

    def __iter__(self) -> Iterator[str]:
        return iter(self._names)

    def __len__(self) -> int:
        return len(self._names)


_tables = lru_cache(maxsize=512)(read_tables)

_common: Common | None = None


def _begin(common: Common, thresholds: tuple[int, int, int]) -> None:
    """A new process takes over what the first one has set."""
    global _common
    _common = common
    gc.set_threshold(*thresholds)


def _work(tasks: Sequence[_Task], given: GivenTables) -> list[str | None]:
    """In a worker: each part, or None where it cannot be done here."""
    assert _common is not None  # set when the process began
    tables = _Given(given, _common.names)
    done: list[str | None] = []
    for part, held in tasks:
        contents = Contents(held)
        files = tuple(SourceFile(path, contents) for path in held)
        whole = Part(id=part, files=files)
        try:
            done.append(work_out(whole, _common.dialect, _common.shared, tables))
        except _NotGivenError:
            done.append(None)
    return done


def work_out_many(
    parts: Sequence[Part],
    after: Mapping[PartId, Collection[PartId]],
    texts: Mapping[PartId, str],
    provider: Mapping[str, PartId],
    reads: Mapping[PartId, Collection[str]],
    common: Common,
) -> Iterator[tuple[Part, str | None]]:
    """Every part that could be worked out, in any order that keeps to ``after``.

    Args:
        parts: what to work out.
        after: for a part, those of ``parts`` that come before it, as far as is believed.
        texts: facts as text by part; the caller adds each result before asking for the next.
        provider: which part each table comes from.
        reads: tables that a part is believed to read.
        common: what every worker knows.
    """
    by_id = {part.id: part for part in parts}
    waiting = {part.id: len(set(after.get(part.id, ()))) for part in parts}
    behind: dict[PartId, list[PartId]] = {}
    for part, others in after.items():
        for other in set(others):
            behind.setdefault(other, []).append(part)
    ready = deque(part for part in by_id if waiting[part] == 0)
    running: dict[Future[list[str | None]], list[PartId]] = {}
    cores = os.cpu_count() or 1
    start = (common, gc.get_threshold())
    with ProcessPoolExecutor(cores, initializer=_begin, initargs=start) as pool:
        while ready or running:
            while ready and len(running) < cores * (1 + _AHEAD):
                count = max(1, min(_BATCH, len(ready) // cores))
                batch = [ready.popleft() for _ in range(count)]
                given = _given(batch, reads, provider, texts)
                tasks = [(p, {f.path: f.content for f in by_id[p].files}) for p in batch]
                running[pool.submit(_work, tasks, given)] = batch
            for future in wait(running, return_when=FIRST_COMPLETED).done:
                for part, text in zip(running.pop(future), future.result(), strict=True):
                    yield by_id[part], text
                    for follower in behind.get(part, ()):
                        waiting[follower] -= 1
                        if waiting[follower] == 0:
                            ready.append(follower)


def _given(
    batch: Iterable[PartId],
    reads: Mapping[PartId, Collection[str]],
    provider: Mapping[str, PartId],
    texts: Mapping[PartId, str],
) -> dict[str, str]:
    tables = {table for part in batch for table in reads.get(part, ())}
    return {
        t: tables_line(texts[provider[t]]) for t in tables if t in provider and provider[t] in texts
    }
