"""A month: deeds drawn from a seed, each followed by the judge; and the smallest that fails."""

from __future__ import annotations

import random
import shutil
import tempfile
import time
import traceback
from collections.abc import Iterator, Sequence
from contextlib import ExitStack, contextmanager
from dataclasses import dataclass, field
from pathlib import Path

from tests import postgres
from tests.storm.board import listening
from tests.storm.deeds import DEEDS
from tests.storm.judge import judge
from tests.storm.team import ROUTE, Team
from tests.storm.truth import Wrong

KINDS = ("duckdb", "sqlite", "postgresql")
Drawn = tuple[str, str]
"""A deed's name, and the seed of its chance."""


@dataclass
class Lived:
    """What came of a month."""

    deeds: list[Drawn] = field(default_factory=list)
    wrong: str = ""
    log: list[str] = field(default_factory=list)


def drawn(seed: str, number: int) -> list[Drawn]:
    """So many deeds of a month."""
    chance = random.Random(seed)
    names = [*DEEDS]
    weights = [DEEDS[name][1] for name in names]
    begin = ["add a model", "promote"]
    rest = chance.choices(names, weights, k=number)
    return [(name, f"{seed}/{n}") for n, name in enumerate([*begin, *rest])]


def live(
    deeds: Sequence[Drawn], kind: str, server: str | None, until: float | None = None
) -> Lived:
    """Live through deeds, until one goes wrong or the time is over."""
    lived = Lived()
    with _databases(kind, server) as (folder, urls), listening() as board:
        team = Team(folder, urls, board)
        lived.log = team.log
        for name, seed in deeds:
            if until is not None and time.monotonic() > until:
                break
            lived.deeds.append((name, seed))
            team.log.append(f"# {name}")
            try:
                place = DEEDS[name][0](team, random.Random(seed))
                if place is not None:
                    judge(team, place)
            except Exception as error:  # whatever it is, it is what a user would meet
                lived.wrong = f"{name}: {type(error).__name__}: {error}"
                if not isinstance(error, Wrong):
                    team.log.append(traceback.format_exc())
                break
    return lived


def shrunk(lived: Lived, kind: str, server: str | None, until: float) -> Lived:
    """The same fault after as few deeds as can be found in time."""
    best = lived
    size = max(1, len(best.deeds) // 2)
    while size and time.monotonic() < until:
        start = 0
        while start < len(best.deeds) - 1 and time.monotonic() < until:
            fewer = [*best.deeds[:start], *best.deeds[start + size :]]
            tried = live(fewer, kind, server)
            if _same(tried.wrong, lived.wrong):
                best = tried
            else:
                start += size
        size //= 2
    return best


def _same(one: str, other: str) -> bool:
    def words(text: str) -> list[str]:
        return [word for word in text[:120].split() if word.isalpha()][:6]

    return bool(one) and words(one) == words(other)


@contextmanager
def _databases(kind: str, server: str | None) -> Iterator[tuple[Path, tuple[str, ...]]]:
    folder = Path(tempfile.mkdtemp(prefix="storm-"))
    with ExitStack() as stack:
        stack.callback(shutil.rmtree, folder, ignore_errors=True)
        if kind == "postgresql":
            assert server is not None
            urls = tuple(stack.enter_context(postgres.database(server)) for _ in ROUTE)
        else:
            urls = tuple(f"{kind}:///{folder}/{name}/{name}.{kind}" for name in ROUTE)
        yield folder, urls
