"""Conflicts that git has left in a file for somebody to resolve."""

from __future__ import annotations

import re

UNRESOLVED = "has git's conflict markers: a merge is not resolved"
_BEGINS = re.compile(r"^<{7} ", re.MULTILINE)
_ENDS = re.compile(r"^>{7} ", re.MULTILINE)


def conflict_line(text: str) -> int | None:
    """The line at which the first conflict of a text begins; None where there is none."""
    begins = _BEGINS.search(text)
    if begins is None or _ENDS.search(text, begins.end()) is None:
        return None
    return text.count("\n", 0, begins.start()) + 1
