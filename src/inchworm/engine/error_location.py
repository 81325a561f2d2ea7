"""Where in a text something stands that a database refuses."""

from __future__ import annotations

import re

_NAMED = re.compile(
    r"[\"'`]([^\"'`]+)[\"'`]|\b(?:column|function|table|name|type):? ([\w.]+)", re.IGNORECASE
)


def line_of_named(message: str, text: str) -> int | None:
    """The line on which something that the database names stands."""
    for match in _NAMED.finditer(message):
        named = next(group for group in match.groups() if group).rpartition(".")[2]
        place = re.search(rf"\b{re.escape(named)}\b", text, re.IGNORECASE)
        if place is not None:
            return text.count("\n", 0, place.start()) + 1
    return None
