"""Deeds that run what is live."""

from __future__ import annotations

import json
import random
from typing import Any

from tests.driver import Answer
from tests.storm.team import Team, said
from tests.storm.truth import Place, Wrong, ordered


def run(team: Team, chance: random.Random) -> Place | None:
    """The pipeline is run."""
    place = team.place(chance)
    if not place.models or place.ran == 0:
        return None
    answer = team("run", "nightly", "--in", place.name, "--yes", "--json")
    document = said(answer)
    if isinstance(document, dict) and "text" in document:
        document = _last_line(answer)
    if answer.code != 0:
        return place
    built = {
        s["part"].removeprefix("model:")
        for s in document.get("steps", [])
        if s["work"] == "build" and s["state"] == "done"
    }
    growing = {n for n in built & set(place.models) if place.models[n].store.grows}
    place.mark_behind(built)
    place.behind -= built - growing
    for name in built:
        place.day[name] = team.today
    return place


def _last_line(answer: Answer) -> Any:
    lines = [json.loads(line) for line in answer.out.splitlines() if line.startswith("{")]
    return next((line for line in reversed(lines) if "steps" in line), {})


def run_flow(team: Team, chance: random.Random) -> Place | None:
    """A flow takes the files that lie there, each once; or another sends rows, each once."""
    place = team.place(chance)
    if not place.has_flows or "src.s1" not in place.tables:
        return None
    name = chance.choice(["loggers", "board"])
    answer = team("run", f"flow:{name}", "--in", place.name, "--yes", "--json")
    if answer.code != 0:
        return place
    if name == "loggers":
        table = place.tables["src.s1"]
        for file in set(place.files) - place.taken:
            table.rows.append(dict.fromkeys(table.columns) | place.files[file])
            place.mark_behind({"src.s1"})
        place.taken = set(place.files)
        return place
    came = team.board.rows[f"/{place.key}/rows"]
    for row in place.tables["src.s1"].rows:
        keys = came.get((row["id"], row["grp"], row["val"]), set())
        if len(keys) != 1:
            raise Wrong(f"{place.name}: {row} came under {len(keys)} keys")
    return place


def _times(value: int | None, factor: int) -> int | None:
    return None if value is None else value * factor


def run_notebook(team: Team, chance: random.Random) -> Place | None:
    """The notebook stores what it reads."""
    place = team.place(chance)
    if not place.has_flows or "src.s2" not in place.tables:
        return None
    answer = team("run", "notebook:study", "--in", place.name, "--yes", "--json")
    if answer.code == 0:
        rows = place.tables["src.s2"].rows
        place.study = ordered(
            [(row["id"], row["grp"], _times(row["val"], place.factor)) for row in rows]
        )
    return place
