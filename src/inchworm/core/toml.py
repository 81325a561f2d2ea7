"""TOML with line numbers, so that a message can say ``pipelines/nightly.toml:14``."""

from __future__ import annotations

import re
import tomllib
from typing import Any

from msgspec import Struct, field

from inchworm.core.conflicts import UNRESOLVED, conflict_line

KeyPath = tuple[str | int, ...]
"""Where something stands in a document: ``("steps", 2, "notebook")``."""

_HEADER = re.compile(r"^\s*(\[\[?)\s*(.+?)\s*\]\]?\s*(?:#.*)?$")
_KEY = re.compile(r"""^\s*((?:"[^"]*"|'[^']*'|[A-Za-z0-9_.\-]|\s*\.\s*)+?)\s*=""")
_BARE = re.compile(r"""\s*(?:"([^"]*)"|'([^']*)'|([A-Za-z0-9_\-]+))\s*(?:\.|$)""")
_AT_LINE = re.compile(r"at line (\d+)")


class TomlProblem(Exception):
    """Text that is not TOML: the reason, and the line."""

    def __init__(self, reason: str, line: int | None) -> None:
        super().__init__(reason)
        self.reason = reason
        self.line = line


class TomlDocument(Struct, frozen=True):
    """Parsed values, and the line of every key."""

    values: dict[str, Any]
    lines: dict[KeyPath, int] = field(default_factory=dict)

    def line_of(self, path: KeyPath) -> int | None:
        """The line of a key, or of the nearest thing around it."""
        while path:
            if path in self.lines:
                return self.lines[path]
            path = path[:-1]
        return None


def read_toml(content: bytes | str) -> TomlDocument:
    """Parse a document and find the line of each of its keys.

    Raises:
        TomlProblem: when it is not UTF-8 or not TOML.
    """
    try:
        text = content if isinstance(content, str) else content.decode("utf-8")
        values = tomllib.loads(text)
    except UnicodeDecodeError as error:
        raise TomlProblem("is not UTF-8 text", content[: error.start].count(b"\n") + 1) from error  # type: ignore[arg-type]
    except tomllib.TOMLDecodeError as error:
        if (conflict := conflict_line(text)) is not None:
            raise TomlProblem(UNRESOLVED, conflict) from error
        at = _AT_LINE.search(str(error))
        reason = re.sub(r" \(at .*\)$", "", str(error))
        raise TomlProblem(f"is not TOML: {reason}", int(at.group(1)) if at else None) from error
    return TomlDocument(values, _key_lines(text))


def _key_lines(text: str) -> dict[KeyPath, int]:
    lines: dict[KeyPath, int] = {}
    table: KeyPath = ()
    counts: dict[KeyPath, int] = {}
    closing: str | None = None
    depth = 0
    for number, line in enumerate(text.splitlines(), start=1):
        if closing:
            if closing in line:
                closing = None
            continue
        if depth > 0:
            depth += _brackets(line)
            continue
        header = _HEADER.match(line)
        if header and "=" not in header.group(2):
            path: KeyPath = _split(header.group(2))
            path = _with_counts(path, counts)
            if header.group(1) == "[[":
                counts[path] = counts.get(path, -1) + 1
                path = (*path, counts[path])
            table = path
            lines.setdefault(table, number)
            continue
        key = _KEY.match(line)
        if key:
            lines.setdefault((*table, *_split(key.group(1))), number)
            rest = line[key.end() :]
            closing = next((q for q in ('"""', "'''") if rest.count(q) == 1), None)
            depth = max(0, _brackets(rest)) if closing is None else 0
    return lines


def _with_counts(path: KeyPath, counts: dict[KeyPath, int]) -> KeyPath:
    """``[a.b]`` below ``[[a]]`` belongs to the latest item of ``a``."""
    full: KeyPath = ()
    for i, key in enumerate(path):
        full = (*full, key)
        if full in counts and i < len(path) - 1:
            full = (*full, counts[full])
    return full


def _brackets(text: str) -> int:
    """How many more ``[`` and ``{`` open than close, outside strings and comments."""
    bare = re.sub(r'"(?:\\.|[^"\\])*"|\'[^\']*\'', "", text).split("#", 1)[0]
    return sum(bare.count(c) for c in "[{") - sum(bare.count(c) for c in "]}")


def _split(dotted: str) -> KeyPath:
    return tuple(
        next(g for g in match.groups() if g is not None) for match in _BARE.finditer(dotted)
    )
