"""Text from outside, made harmless to a terminal.

Names, messages of databases and commits may hold control characters that move the cursor, hide text
or change the title of a window. Lines and tabs stay.
"""

from __future__ import annotations

import re

_CONTROLS = re.compile(r"[\x00-\x08\x0b-\x1f\x7f-\x9f\u202a-\u202e\u2066-\u2069]")
"""Control characters, and those that turn the direction of text around."""
_REPLACEMENT = "\N{REPLACEMENT CHARACTER}"


def visible(text: str) -> str:
    """The text with a replacement character for every control character."""
    return _CONTROLS.sub(_REPLACEMENT, text)


def escaped(text: str) -> str:
    """JSON with control characters that it would allow in strings spelled out."""
    return _CONTROLS.sub(lambda match: f"\\u{ord(match[0]):04x}", text)
