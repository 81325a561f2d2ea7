"""Notebooks: what they read and store, found in their code without running it."""

from __future__ import annotations

import ast
import json
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from sqlglot import exp

from inchworm.core.checks import rules
from inchworm.core.identifiers import Kind, PartId
from inchworm.core.lineage.facts import Facts, Read, Use
from inchworm.core.lineage.graph import Edge, How, Node, in_order
from inchworm.core.parameters.values import Value
from inchworm.core.parts import Digest, Part, digest_of
from inchworm.core.rendered import Rendered, RenderedDocument, canonical
from inchworm.core.sql.columns import resolve
from inchworm.core.sql.declared import Declaring
from inchworm.core.sql.parse import parse_query
from inchworm.core.sql.problems import SqlProblem
from inchworm.core.sql.render import parameters_in
from inchworm.core.structure.tables import Table
from inchworm.kinds.base import Surroundings
from inchworm.kinds.model import reads_of, report_problems
from inchworm.kinds.notebook_code import Asked, CodeReader, Module, Place
from inchworm.kinds.settings import Report
from inchworm.kinds.sql_rules import rule_of

_MAGICS = ("%", "!")


@dataclass(frozen=True, kw_only=True)
class Notebook:
    """A notebook that has been read."""

    part: PartId
    file: str
    dialect: str
    declared: Declaring
    cells: Mapping[str, Any]
    """The document without outputs and execution counts."""
    digest: Digest
    asked: Asked


class NotebookKind:
    """How notebooks are handled."""

    kind = Kind.NOTEBOOK

    def read(self, part: Part, surroundings: Surroundings, report: Report) -> Notebook | None:
        """The document, and every call of the helper in its code."""
        document = _document(part, report)
        if document is None:
            return None
        code = CodeReader(surroundings.dialect, surroundings.shared)
        module = Module(part.main.path)
        lines = _lines_of_cells(part.main.content)
        for index, cell in enumerate(document["cells"]):
            if cell["cell_type"] == "code":
                base = lines[index] if index < len(lines) else 1
                code.read(
                    module, _statements(part, _source(cell), f"cell {index + 1}", base, report)
                )
        code.finish(module)
        for reason, place in code.asked.not_followed:
            report(
                rules.NOTEBOOK_NOT_FOLLOWED.finding(
                    reason, part=part.id, file=place.file, line=place.line
                )
            )
        stripped = _without_outputs(document)
        return Notebook(
            part=part.id,
            file=part.main.path,
            dialect=surroundings.dialect,
            declared=surroundings.declared,
            cells=stripped,
            digest=digest_of(canonical(stripped)),
            asked=code.asked,
        )

    def facts(self, notebook: Notebook, tables: Mapping[str, Table], report: Report) -> Facts:
        """Columns read flow into the notebook, and from it into every column that it stores."""
        owner = Node(str(notebook.part))
        asked = notebook.asked
        edges: set[Edge] = set()
        reads: list[Read] = []
        uses = [
            Use(parameter=name, file=place.file, line=place.line, safe=True)
            for name, place in asked.values
        ]
        for text, place in asked.queries:
            query = self._query(notebook, text, place, report)
            if query is None:
                continue
            resolution = resolve(query, tables, notebook.dialect, notebook.declared)
            report_problems(notebook.part, place.file, resolution, report, first_line=place.line)
            uses += [Use(n, place.file, place.line) for n in parameters_in(query)]
            for column in resolution.columns:
                edges |= {Edge(source, owner, How.COMPUTED) for source, _ in column.sources}
            edges |= {Edge(source, owner, How.ROWS) for source, _ in resolution.rows}
            read_here = reads_of(place.file, resolution, first_line=place.line)
            reads += read_here
            sourced = {edge.source.owner for edge in edges}
            edges |= {
                Edge(Node(read.table), owner, How.WHOLE)
                for read in read_here
                if read.table not in sourced
            }
        for table, place in asked.tables:
            reads.append(Read(table, None, place.file, place.line))
            known = tables.get(table)
            fields = [Node(table, c.name) for c in known.columns] if known else []
            edges |= {Edge(node, owner, How.COMPUTED) for node in fields or [Node(table)]}
        for stored in asked.stores:
            targets = [Node(stored.table, column.name) for column in stored.columns]
            edges |= {Edge(owner, node, How.COMPUTED) for node in targets}
            edges.add(Edge(owner, Node(stored.table), How.ROWS))
        return Facts(
            part=notebook.part,
            provides=tuple(
                Table(stored.table, stored.columns, open=not stored.columns, key=stored.key)
                for stored in notebook.asked.stores
            ),
            fills=tuple(stored.table for stored in notebook.asked.stores),
            reads=tuple(reads),
            edges=tuple(in_order(edges)),
            uses=tuple(uses),
        )

    @staticmethod
    def _query(notebook: Notebook, text: str, place: Place, report: Report) -> exp.Query | None:
        try:
            return parse_query(text, notebook.dialect, notebook.declared)
        except SqlProblem as problem:
            line = place.line + (problem.line - 1 if problem.line else 0)
            message = f"SQL of env.query: {problem.reason}"
            rule = rule_of(problem, rules.NOTEBOOK_CODE)
            report(rule.finding(message, part=notebook.part, file=place.file, line=line))
            return None

    def render(self, notebook: Notebook, values: Mapping[str, Value]) -> Rendered:
        """The cells, and the values that the code asks for."""
        asked = [name for name, _ in notebook.asked.values]
        for text, _ in notebook.asked.queries:
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
                for stored in notebook.asked.stores
            ],
        }
        return RenderedDocument(part=notebook.part, content=document)


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
    """The cells as a person wrote them: outputs, counts and ids change with every run."""
    cells = []
    for cell in document["cells"]:
        stripped = {"cell_type": cell["cell_type"], "source": _source(cell)}
        cells.append(stripped)
    kernel = document.get("metadata", {}).get("kernelspec", {}).get("name", "python3")
    return {"nbformat": 4, "kernel": kernel, "cells": cells}


def _source(cell: Mapping[str, Any]) -> str:
    source = cell["source"]
    return source if isinstance(source, str) else "".join(source)


def _lines_of_cells(content: bytes) -> list[int]:
    """The line in the file on which the source of each cell begins."""
    lines = content.decode("utf-8", "replace").splitlines()
    return [number for number, line in enumerate(lines, start=1) if '"source":' in line]


def _statements(part: Part, source: str, cell: str, base: int, report: Report) -> list[ast.stmt]:
    """The statements of a cell, with the lines that they have in the notebook's file."""

    def finding(rule: rules.Rule, message: str, line: int) -> None:
        report(rule.finding(message, part=part.id, file=part.main.path, line=line))

    if source.lstrip().startswith("%%"):
        finding(rules.NOTEBOOK_NOT_FOLLOWED, f"{cell} is a magic of its own", base)
        return []
    code = "\n".join(
        "" if line.lstrip().startswith(_MAGICS) or line.endswith("?") else line
        for line in source.splitlines()
    )
    try:
        tree = ast.parse(code)
    except (SyntaxError, ValueError) as error:
        line = getattr(error, "lineno", None) or 1
        finding(rules.NOTEBOOK_CODE, f"{cell}: {getattr(error, 'msg', error)}", base + line)
        return []
    return ast.increment_lineno(tree, base).body
