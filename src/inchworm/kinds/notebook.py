"""Notebooks: what they read and store, found in their code without running it."""

from __future__ import annotations

import ast
import json
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import Any

from inchworm.core.checks import rules
from inchworm.core.facts import Facts, Read, Use
from inchworm.core.lineage import Edge, How, Node, in_order
from inchworm.core.parameters import Value
from inchworm.core.parts import Digest, Kind, Part, PartId, digest_of
from inchworm.core.rendering import Rendered, canonical
from inchworm.core.sql.columns import resolve
from inchworm.core.sql.parse import SqlProblem, parse_query
from inchworm.core.sql.render import parameters_in
from inchworm.core.sql.types import normal_type
from inchworm.core.structure.tables import Column, Table
from inchworm.kinds.base import Surroundings
from inchworm.kinds.settings import Report

_HELPER = "env"
_MAGICS = ("%", "!")


@dataclass(frozen=True, kw_only=True)
class Stored:
    """A table that the notebook writes, with the columns that it promises."""

    table: str
    columns: tuple[Column, ...]
    key: tuple[str, ...]


@dataclass(frozen=True, kw_only=True)
class Notebook:
    """A notebook that has been read."""

    part: PartId
    file: str
    dialect: str
    cells: Mapping[str, Any]
    """The document without outputs and execution counts."""
    digest: Digest
    queries: tuple[tuple[str, int], ...]
    tables: tuple[tuple[str, int], ...]
    values: tuple[tuple[str, int], ...]
    stores: tuple[Stored, ...]
    measures: tuple[str, ...]


class NotebookKind:
    """How notebooks are handled."""

    kind = Kind.NOTEBOOK

    def read(self, part: Part, surroundings: Surroundings, report: Report) -> Notebook | None:
        """The document, and every call of the helper in its code."""
        document = _document(part, report)
        if document is None:
            return None
        calls = _Calls(part, surroundings.dialect, report, _lines_of_cells(part.main.content))
        for index, cell in enumerate(document["cells"]):
            if cell["cell_type"] == "code":
                calls.cell(index, _source(cell))
        kept = _without_outputs(document)
        return Notebook(
            part=part.id,
            file=part.main.path,
            dialect=surroundings.dialect,
            cells=kept,
            digest=digest_of(canonical(kept)),
            queries=tuple(calls.queries),
            tables=tuple(calls.tables),
            values=tuple(calls.values),
            stores=tuple(calls.stores),
            measures=tuple(calls.measures),
        )

    def facts(self, notebook: Notebook, tables: Mapping[str, Table], report: Report) -> Facts:
        """Columns read flow into the notebook, and from it into every column that it stores."""
        here = Node(str(notebook.part))
        edges: set[Edge] = set()
        reads: list[Read] = []
        uses = [
            Use(parameter=n, file=notebook.file, line=line, safe=True)
            for n, line in notebook.values
        ]
        for text, line in notebook.queries:
            try:
                query = parse_query(text, notebook.dialect)
            except SqlProblem as problem:
                report(
                    rules.NOTEBOOK_CODE.finding(
                        f"SQL of env.query: {problem.reason}",
                        part=notebook.part,
                        file=notebook.file,
                        line=line,
                    )
                )
                continue
            resolution = resolve(query, tables, notebook.dialect)
            uses += [Use(parameter=n, file=notebook.file, line=line) for n in parameters_in(query)]
            for column in resolution.columns:
                edges |= {Edge(source, here, How.COMPUTED) for source, _ in column.sources}
            edges |= {Edge(source, here, How.ROWS) for source, _ in resolution.rows}
            for table in resolution.tables:
                columns = frozenset(e.source.field or "" for e in edges if e.source.owner == table)
                reads.append(
                    Read(table=table, columns=columns - {""}, file=notebook.file, line=line)
                )
                if not columns:
                    edges.add(Edge(Node(table), here, How.WHOLE))
        for table, line in notebook.tables:
            reads.append(Read(table=table, columns=None, file=notebook.file, line=line))
            known = tables.get(table)
            fields = [Node(table, c.name) for c in known.columns] if known else []
            edges |= {Edge(node, here, How.COMPUTED) for node in fields or [Node(table)]}
        for stored in notebook.stores:
            targets = [Node(stored.table, column.name) for column in stored.columns]
            edges |= {Edge(here, node, How.COMPUTED) for node in targets}
            edges.add(Edge(here, Node(stored.table), How.ROWS))
        return Facts(
            part=notebook.part,
            provides=tuple(
                Table(stored.table, stored.columns, open=not stored.columns)
                for stored in notebook.stores
            ),
            fills=tuple(stored.table for stored in notebook.stores),
            reads=tuple(reads),
            edges=tuple(in_order(edges)),
            uses=tuple(uses),
        )

    def render(self, notebook: Notebook, values: Mapping[str, Value]) -> Rendered:
        """The cells, and the values that the code asks for."""
        asked = sorted({name for name, _ in notebook.values})
        for text, _ in notebook.queries:
            asked += parameters_in(parse_query(text, notebook.dialect))
        document = {
            "notebook": notebook.cells,
            "values": {name: values[name].text for name in sorted(set(asked))},
            "stores": [
                {
                    "table": stored.table,
                    "columns": [[column.name, column.type] for column in stored.columns],
                    "key": list(stored.key),
                }
                for stored in notebook.stores
            ],
        }
        return Rendered(part=notebook.part, document=document)


def _document(part: Part, report: Report) -> dict[str, Any] | None:
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
    try:
        nbformat.validate(nbformat.from_dict(document), relax_add_props=True)
    except nbformat.ValidationError as error:
        return str(error.message).splitlines()[0][:200]
    return None


def _without_outputs(document: Mapping[str, Any]) -> dict[str, Any]:
    """What a person wrote: outputs, execution counts and cell ids change with every run or save."""
    cells = []
    for cell in document["cells"]:
        kept = {"cell_type": cell["cell_type"], "source": _source(cell)}
        cells.append(kept)
    kernel = document.get("metadata", {}).get("kernelspec", {}).get("name", "python3")
    return {"nbformat": 4, "kernel": kernel, "cells": cells}


def _source(cell: Mapping[str, Any]) -> str:
    source = cell["source"]
    return source if isinstance(source, str) else "".join(source)


def _lines_of_cells(content: bytes) -> list[int]:
    """The line in the file on which the source of each cell begins."""
    lines = content.decode("utf-8", "replace").splitlines()
    return [number for number, line in enumerate(lines, start=1) if '"source":' in line]


@dataclass
class _Calls:
    """Collects what a notebook's code asks of the helper."""

    part: Part
    dialect: str
    report: Report
    cell_lines: list[int]

    def __post_init__(self) -> None:
        self.queries: list[tuple[str, int]] = []
        self.tables: list[tuple[str, int]] = []
        self.values: list[tuple[str, int]] = []
        self.stores: list[Stored] = []
        self.measures: list[str] = []
        self.constants: dict[str, str] = {}

    def cell(self, index: int, source: str) -> None:
        base = self.cell_lines[index] if index < len(self.cell_lines) else 1
        code = "\n".join(
            "" if line.lstrip().startswith(_MAGICS) or line.endswith("?") else line
            for line in source.splitlines()
        )
        if source.lstrip().startswith("%%"):
            self._finding(
                rules.NOTEBOOK_NOT_FOLLOWED, f"cell {index + 1} is a magic of its own", base
            )
            return
        try:
            tree = ast.parse(code)
        except SyntaxError as error:
            line = base + (error.lineno or 1)
            message = f"cell {index + 1}: {error.msg}"
            self._finding(rules.NOTEBOOK_CODE, message, line)
            return
        for statement in tree.body:
            if isinstance(statement, ast.Assign) and len(statement.targets) == 1:
                target, text = statement.targets[0], self._text(statement.value)
                if isinstance(target, ast.Name):
                    self.constants.pop(target.id, None)
                    if text is not None:
                        self.constants[target.id] = text
            for call in _helper_calls(statement):
                self._call(call, base + call.lineno)

    def _call(self, call: ast.Call, line: int) -> None:
        method = call.func.attr if isinstance(call.func, ast.Attribute) else ""
        first = self._text(call.args[0]) if call.args else None
        if method not in {"query", "table", "value", "store", "measure"}:
            return
        if first is None:
            message = f"the first argument of env.{method} is not constant"
            self._finding(rules.NOTEBOOK_NOT_FOLLOWED, message, line)
            return
        match method:
            case "query":
                self.queries.append((first, line))
            case "table":
                self.tables.append((first.lower(), line))
            case "value":
                self.values.append((first, line))
            case "measure":
                self.measures.append(first)
            case "store":
                given = {k.arg: k.value for k in call.keywords if k.arg}
                self.stores.append(
                    Stored(
                        table=first.lower(),
                        columns=self._columns(given.get("columns")),
                        key=self._names(given.get("key")),
                    )
                )

    def _text(self, node: ast.expr) -> str | None:
        """The text of a string that is constant, f-strings of constants included."""
        match node:
            case ast.Constant(value=str(text)):
                return text
            case ast.Name(id=name):
                return self.constants.get(name)
            case ast.JoinedStr(values=pieces):
                texts = [
                    self._text(p.value) if isinstance(p, ast.FormattedValue) else self._text(p)
                    for p in pieces
                ]
                return None if None in texts else "".join(t for t in texts if t is not None)
            case ast.BinOp(left=left, op=ast.Add(), right=right):
                one, other = self._text(left), self._text(right)
                return None if one is None or other is None else one + other
        return None

    def _columns(self, node: ast.expr | None) -> tuple[Column, ...]:
        if not isinstance(node, ast.Dict):
            return ()
        pairs = [
            (self._text(key) if key is not None else None, self._text(value))
            for key, value in zip(node.keys, node.values, strict=True)
        ]
        return tuple(
            Column(name.lower(), normal_type(kind, self.dialect))
            for name, kind in pairs
            if name is not None and kind is not None
        )

    def _names(self, node: ast.expr | None) -> tuple[str, ...]:
        items = node.elts if isinstance(node, ast.List | ast.Tuple) else []
        return tuple(text.lower() for item in items if (text := self._text(item)) is not None)

    def _finding(self, rule: rules.Rule, message: str, line: int) -> None:
        self.report(rule.finding(message, part=self.part.id, file=self.part.main.path, line=line))


def _helper_calls(statement: ast.stmt) -> Iterator[ast.Call]:
    """Calls ``env.something(...)``, the helper being known by its usual name."""
    for node in ast.walk(statement):
        if (
            isinstance(node, ast.Call)
            and isinstance(node.func, ast.Attribute)
            and isinstance(node.func.value, ast.Name)
            and node.func.value.id == _HELPER
        ):
            yield node
