"""Whether facts that were worked out anew tell the rules what the former ones told."""

from __future__ import annotations

from typing import Any

from msgspec.structs import replace

from inchworm.core.checks.findings import Finding
from inchworm.core.lineage.facts_text import read_facts, read_outline
from inchworm.core.parts import digest_of

_OF_ANY_FILES = digest_of(b"")


def equal_facts(before: str, after: str, *, lines_count: bool) -> bool:
    """Whether two texts tell the same facts of a part, from whichever files they were worked out.

    Args:
        before: facts as text, with their outline.
        after: others.
        lines_count: whether facts differ that stand at other lines of their file.

    Raises:
        ValueError, KeyError, IndexError, TypeError: when a text was not written by ``write_facts``.
    """
    return _compared(before, lines_count) == _compared(after, lines_count)


def _compared(text: str, lines_count: bool) -> tuple[object, ...]:
    """What a text tells, without the digest of the files and the order of the edges."""
    outline, facts = read_outline(text), read_facts(text)
    fields = {name: getattr(outline, name) for name in outline.__struct_fields__}
    fields |= {"digest": _OF_ANY_FILES, "reads with columns": facts.reads}
    if not lines_count:
        fields = {name: _without_lines(value) for name, value in fields.items()}
    return fields, facts.provides, frozenset(facts.edges)


def _without_lines(value: Any) -> Any:
    return tuple(map(_without_line, value)) if isinstance(value, tuple) else value


def _without_line(item: Any) -> Any:
    if isinstance(item, Finding):
        return replace(item, line=None)
    return item._replace(line=None) if "line" in getattr(item, "_fields", ()) else item
