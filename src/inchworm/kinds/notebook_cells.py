"""Cells that somebody changed where a notebook runs, taken into its file."""

from __future__ import annotations

import json
from collections.abc import Iterator, Mapping, Sequence
from difflib import SequenceMatcher
from typing import Any

import nbformat

from inchworm.kinds.notebook_document import without_outputs

Cell = Mapping[str, Any]
"""A cell as promotions put it in place: its ``cell_type`` and its ``source``."""


def with_changed_cells(content: bytes, was: Sequence[Cell], now: Sequence[Cell]) -> bytes | None:
    """A notebook's file with the cells that it has where it runs.

    Cells that nobody changed stay as they are in the file, with outputs and ids; one that was
    changed keeps its id and loses its outputs, which are none of what it says now.

    Args:
        content: the file.
        was: the cells that a promotion put in place.
        now: the cells that are there.

    Returns:
        The file; None where it has other cells than those that were put in place.
    """
    text = content.decode()
    document = json.loads(text)
    if without_outputs(document)["cells"] != [dict(cell) for cell in was]:
        return None
    document["cells"] = list(_merged(document["cells"], was, now, _has_ids(document)))
    lines = text.splitlines()
    indent = len(lines[1]) - len(lines[1].lstrip(" ")) if len(lines) > 1 else 0
    changed = json.dumps(document, indent=indent or 1, ensure_ascii=text.isascii())
    return (changed + ("\n" if text.endswith("\n") else "")).encode()


def _merged(
    cells: Sequence[dict[str, Any]], was: Sequence[Cell], now: Sequence[Cell], has_ids: bool
) -> Iterator[dict[str, Any]]:
    """The cells of the file, changed as those that were put in place have been changed."""
    old, new = ([(cell["cell_type"], cell["source"]) for cell in some] for some in (was, now))
    matcher = SequenceMatcher(None, old, new, autojunk=False)
    for what, start, end, first, last in matcher.get_opcodes():
        if what == "equal":
            yield from cells[start:end]
            continue
        for at, cell in enumerate(now[first:last], start):
            before = cells[at] if at < end else None
            if before is not None and before["cell_type"] == cell["cell_type"]:
                yield _changed(before, cell["source"])
            else:
                yield _new(cell, has_ids)


def _changed(cell: dict[str, Any], source: str) -> dict[str, Any]:
    lines = source if isinstance(cell["source"], str) else source.splitlines(keepends=True)
    changed = {**cell, "source": lines}
    if cell["cell_type"] == "code":
        changed |= {"outputs": [], "execution_count": None}
    return changed


def _new(cell: Cell, has_ids: bool) -> dict[str, Any]:
    make = {
        "code": nbformat.v4.new_code_cell,
        "markdown": nbformat.v4.new_markdown_cell,
        "raw": nbformat.v4.new_raw_cell,
    }[cell["cell_type"]]
    made = dict(make(source=cell["source"].splitlines(keepends=True)))
    if not has_ids:
        del made["id"]
    return made


def _has_ids(document: Mapping[str, Any]) -> bool:
    """Whether cells of its version of the format have ids: from 4.5 on."""
    return bool(document.get("nbformat_minor", 0) >= 5)
