"""Building models and checking them, as many at a time as the environment has threads.

Each worker has a connection of its own; the journal stays with the caller, in one thread. A step
begins as soon as everything has ended that it needs: a model the models that feed it, a check the
models that it reads.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from concurrent.futures import FIRST_COMPLETED, Future, ThreadPoolExecutor, wait
from contextlib import ExitStack, closing, contextmanager
from dataclasses import replace
from graphlib import TopologicalSorter
from queue import SimpleQueue

from inchworm.core.parts import Kind, PartId
from inchworm.core.promotion import Phase, Step, StepReport
from inchworm.engine.steps import Steps
from inchworm.targets.databases.bookkeeping import Bookkeeping

#: Phases whose steps only work on what nobody sees yet, each by itself.
PARALLEL = frozenset({Phase.BUILD, Phase.CHECK})

THREADS = 4
"""How many models are built at a time where the environment does not say."""

_PATIENCE = 0.2
"""Seconds between two attempts to interrupt a statement that may only just have begun."""


@contextmanager
def crew(doing: Steps, size: int) -> Iterator[list[Steps]]:
    """Up to ``size`` workers for the steps of a promotion, the first of them the one given.

    A database that only one connection can write to gets one.
    """
    workers = [doing]
    with ExitStack() as stack:
        while len(workers) < size and (database := doing.database.new_session()) is not None:
            stack.enter_context(closing(database))
            bookkeeping = Bookkeeping(database, doing.place.project, doing.place.bookkeeping.schema)
            place = replace(doing.place, database=database, bookkeeping=bookkeeping)
            workers.append(doing.at(place))
        yield workers


def needs_of(steps: Collection[Step], doing: Steps) -> dict[Step, list[Step]]:
    """For each step of building and checking, the others among them that come before it."""
    assembly = doing.assembly
    building = {PartId.parse(step.part): step for step in steps if step.phase is Phase.BUILD}
    by_table = {part.name.lower(): step for part, step in building.items()}
    needs: dict[Step, list[Step]] = {}
    for step in steps:
        part = PartId.parse(step.part)
        if step.phase is Phase.BUILD:
            upstream = [building[p] for p in assembly.upstream[part] if p in building]
        elif part.kind is Kind.CHECK:
            upstream = [by_table[t] for t in assembly.outlines[part].reads if t in by_table]
        else:
            columns = doing.document(step.part)["checks"].values()
            pointed_at = {c["points_to"].rpartition(".")[0] for c in columns if "points_to" in c}
            tables = {part.name.lower(), *map(str.lower, pointed_at)}
            upstream = [by_table[table] for table in sorted(tables) if table in by_table]
        needs[step] = upstream
    return needs


def together(
    workers: Sequence[Steps],
    needs: Mapping[Step, Sequence[Step]],
    begin: Callable[[Step], None],
    do: Callable[[Steps, Step], StepReport],
    end: Callable[[Step, StepReport], bool],
) -> None:
    """Do steps, each when all that it needs has ended.

    Args:
        workers: who does them, each one at a time.
        needs: the steps, each with those that come before it.
        begin: hears that a step begins.
        do: does a step; called in other threads.
        end: hears how a step ended, and says whether to go on. If not, what still runs is
            interrupted, and nothing more is heard of it.
    """
    order = TopologicalSorter(needs)
    order.prepare()
    free: SimpleQueue[Steps] = SimpleQueue()
    for worker in workers:
        free.put(worker)

    def work(step: Step) -> StepReport:
        worker = free.get()
        try:
            return do(worker, step)
        finally:
            free.put(worker)

    running: dict[Future[StepReport], Step] = {}
    waiting: list[Step] = []
    with ThreadPoolExecutor(len(workers)) as pool:
        try:
            while order.is_active():
                waiting = sorted([*waiting, *order.get_ready()], key=lambda step: step.number)
                while waiting and len(running) < len(workers):
                    step = waiting.pop(0)
                    begin(step)
                    running[pool.submit(work, step)] = step
                ended, _ = wait(running, return_when=FIRST_COMPLETED)
                for future in ended:
                    step = running.pop(future)
                    if not end(step, future.result()):
                        return
                    order.done(step)
        finally:
            _interrupt(workers, running)


def _interrupt(workers: Sequence[Steps], running: Collection[Future[StepReport]]) -> None:
    while running:
        for worker in workers:
            worker.database.interrupt()
        _, still = wait(running, timeout=_PATIENCE)
        running = still
