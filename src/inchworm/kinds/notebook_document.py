"""The document that a notebook is: nbformat 4, its cells, and the Python code in them.

Cells may have what is no Python: commands of the interactive shell that begin with ``%``, ``!`` or
``?``. They are left out, each with a note, and the rest of the cell is read.
"""

from __future__ import annotations

import ast
import json
import re
from collections.abc import Iterator, Mapping
from typing import Any

from msgspec import Struct, field

from inchworm.core.checks import rules
from inchworm.core.checks.findings import Finding
from inchworm.core.parts import Part
from inchworm.kinds.settings import Report

PYTHON = "python"
_OF_PYTHON = frozenset({"time", "timeit", "prun", "capture", "memit", "mprun", "lprun"})
"""Magics that run the Python code behind them."""
_COMMAND = re.compile(r"^(?P<indent>\s*)(?P<target>[\w.,\s]+=\s*)?(?P<sign>[%!])(?P<rest>.*)$")
_QUESTION = re.compile(r"^(?P<indent>\s*)(?:\?.*|[\w.]+\?\??)\s*$")


def read_document_of(part: Part, report: Report) -> dict[str, Any] | None:
    """The notebook as plain data, checked against the nbformat schema."""
    file = part.main
    try:
        document = json.loads(file.content)
    except (UnicodeDecodeError, json.JSONDecodeError) as error:
        line = error.lineno if isinstance(error, json.JSONDecodeError) else None
        message = "is not JSON, so not a notebook"
        report(rules.UNREADABLE.finding(message, part=part.id, file=file.path, line=line))
        return None
    fault = _fault(document)
    if fault is not None:
        report(
            rules.UNREADABLE.finding(
                f"is not a notebook (nbformat 4): {fault}", part=part.id, file=file.path
            )
        )
        return None
    return dict(document)


def _fault(document: object) -> str | None:
    """Why a document is not a notebook, by the format's own JSON Schema."""
    import nbformat

    if not isinstance(document, dict) or document.get("nbformat") != 4:
        return "it does not say nbformat 4"
    if type(document.get("nbformat_minor", 0)) is not int:
        return "its nbformat_minor is no whole number"
    try:
        nbformat.validate(nbformat.from_dict(document), relax_add_props=True)
    except nbformat.ValidationError as error:
        return str(error.message).splitlines()[0][:200]
    except (KeyError, TypeError, AttributeError):  # it repairs cells before it looks at them
        has_cells = isinstance(document.get("cells"), list)
        return "what stands for a cell is none" if has_cells else "it has no list of cells"
    return None


def without_outputs(document: Mapping[str, Any]) -> dict[str, Any]:
    """The cells as a person wrote them: outputs, counts and ids change with every run."""
    cells = []
    for cell in document["cells"]:
        stripped = {"cell_type": cell["cell_type"], "source": source_of(cell)}
        cells.append(stripped)
    kernel = document.get("metadata", {}).get("kernelspec", {}).get("name", "python3")
    return {"nbformat": 4, "kernel": kernel, "cells": cells}


def source_of(cell: Mapping[str, Any]) -> str:
    source = cell["source"]
    return source if isinstance(source, str) else "".join(source)


def lines_of_cells(content: bytes) -> list[int]:
    """The line in the file on which the source of each cell begins."""
    lines = content.decode("utf-8", "replace").splitlines()
    return [number for number, line in enumerate(lines, start=1) if '"source":' in line]


def language_of(document: Mapping[str, Any]) -> str:
    """The language of a notebook's kernel, in lower case."""
    metadata = document.get("metadata", {})
    language = metadata.get("language_info", {}).get("name")
    language = language or metadata.get("kernelspec", {}).get("language") or PYTHON
    name = str(language).lower()
    return PYTHON if name.startswith((PYTHON, "ipython")) else name


class Cell(Struct):
    """The Python code of a cell.

    Attributes:
        statements: with the lines that they have in the notebook's file.
        left_out: lines that are no Python, with their numbers.
        problem: why the rest cannot be read, and on which line.
    """

    statements: list[ast.stmt] = field(default_factory=list)
    left_out: list[tuple[str, int]] = field(default_factory=list)
    problem: tuple[str, int] | None = None


def read_cell(source: str, base: int) -> Cell:
    """Read a cell.

    Args:
        source: its text.
        base: the line in the notebook's file above its first one.
    """
    cell = Cell()
    first = source.lstrip().partition("\n")[0].strip()
    if first.startswith("%%"):
        lead = len(source) - len(source.lstrip())
        cell.left_out.append((first, base + source.count("\n", 0, lead) + 1))
        if first[2:].split(" ")[0] not in _OF_PYTHON:
            return cell
        source = source.replace(first, "", 1)
    tree, problem = _parsed(source)
    if tree is None:
        source = "\n".join(_plain(line, base + n, cell) for n, line in _lines(source))
        tree, problem = _parsed(source)
    if tree is None:
        reason, line = problem
        cell.problem = (reason, base + line)
    else:
        cell.statements = ast.increment_lineno(tree, base).body
    return cell


def _lines(source: str) -> Iterator[tuple[int, str]]:
    return enumerate(source.splitlines(), start=1)


def _plain(line: str, number: int, cell: Cell) -> str:
    """A line as Python reads it: a command of the shell does nothing, one about code runs it."""
    command, question = _COMMAND.match(line), _QUESTION.match(line)
    if command is None and question is None:
        return line
    cell.left_out.append((line.strip(), number))
    if command is None:
        return f"{question.group('indent')}pass" if question else line
    magic, _, code = command.group("rest").strip().partition(" ")
    if command.group("sign") == "%" and magic in _OF_PYTHON and not command.group("target"):
        return command.group("indent") + (code.strip() or "pass")
    target = command.group("target")
    return command.group("indent") + (f"{target.strip()} None" if target else "pass")


def _parsed(source: str) -> tuple[ast.Module | None, tuple[str, int]]:
    try:
        return ast.parse(source), ("", 0)
    except (SyntaxError, ValueError, RecursionError) as error:
        return None, (str(getattr(error, "msg", error)), getattr(error, "lineno", None) or 1)


def findings_of(cell: Cell, part: Part, name: str) -> Iterator[Finding]:
    """What is to be said of a cell: code that cannot be read, and lines that are not followed."""
    file = part.main.path
    if cell.problem is not None:
        reason, line = cell.problem
        yield rules.NOTEBOOK_CODE.finding(f"{name}: {reason}", part=part.id, file=file, line=line)
    for text, line in cell.left_out:
        shown = text if len(text) <= _SHOWN else f"{text[:_SHOWN]}..."
        yield rules.NOTEBOOK_NOT_FOLLOWED.finding(
            f"{name} has {shown!r}, which is no Python", part=part.id, file=file, line=line
        )


_SHOWN = 40
"""Letters of a line that a note shows."""
