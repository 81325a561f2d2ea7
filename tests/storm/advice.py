"""Does literally what a refusal advises; the same refusal must not come again."""

from __future__ import annotations

import re
from typing import Any

from tests.storm.team import Team
from tests.storm.truth import Place, Wrong

_LOST = re.compile(
    r"(?:loses \S+ values of|drops|empties|changes the type of) (\S+)(?: and loses .*)?$"
    r"|^(\S+) keeps rows that are nowhere else"
)


def advised(team: Team, place: Place, words: list[str], document: Any) -> list[str] | None:
    """The command with which to go on; None where a person has to decide.

    Raises:
        Wrong: when the same was advised, and done, before.
    """
    findings = document.get("findings", []) if isinstance(document, dict) else []
    errors = [(f["message"], f["remedy"]) for f in findings if f["severity"] == "error"]
    on, is_done = list(words), bool(errors)
    for message, remedy in errors:
        lost = _LOST.search(message)
        option = next((o for o in ("--overwrite", "--with-upstream") if o in remedy), "")
        if "may_lose" in remedy and lost:
            name = lost[1] or lost[2]
            if name in place.may_lose:
                raise Wrong(f"{name} may be lost, and is refused all the same: {message}")
            place.may_lose.add(name)
            team.write_environments()
        elif "--except" in remedy and "--except" in words:
            part = remedy.partition("--except ")[2].partition(". Or")[0]
            if part in words:
                raise Wrong(f"{part} is left out, and is to be left out: {message}")
            on += ["--except", part] if part not in on else []
        elif option and option not in words:
            on += [option] if option not in on else []
        elif option:
            raise Wrong(f"{option} was advised, is given, and is advised again: {message}")
        else:
            is_done = False
    return on if is_done else None
