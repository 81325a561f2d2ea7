"""Who is downstream of tables in an environment, by what is live there.

The database's bookkeeping says which tables every live part reads and provides, those of other
projects too: neither the source tree nor the bundle has a say in it.
"""

from __future__ import annotations

from collections import defaultdict, deque
from collections.abc import Iterable

from inchworm.core.promotion.composition import Composition, LivePart


def downstream(live: Composition, tables: Iterable[str], project: str) -> list[str]:
    """The live parts that depend on tables, directly or through others, by name.

    Args:
        live: what is live in the environment.
        tables: logical names of tables.
        project: the project's name; parts of others are told with theirs.
    """
    readers: dict[str, list[LivePart]] = defaultdict(list)
    for part in (*live.parts.values(), *live.foreign_parts):
        for table in part.reads:
            readers[table].append(part)
    waiting = deque(tables)
    seen = set(waiting)
    affected: set[str] = set()
    while waiting:
        for part in readers[waiting.popleft()]:
            of_other = "" if part.project == project else f" of {part.project}"
            affected.add(f"{part.part}{of_other}")
            news = [table for table in part.table_names if table not in seen]
            seen.update(news)
            waiting.extend(news)
    return sorted(affected)
