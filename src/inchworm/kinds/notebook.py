"""Notebooks: what they read and store, found in their code without running it."""

from __future__ import annotations

from collections.abc import Container, Mapping
from typing import Any

from msgspec import Struct, field
from sqlglot import exp

from inchworm.core.checks import rules
from inchworm.core.identifiers import Kind, PartId
from inchworm.core.lineage.facts import Facts, Read, Unportable, Use
from inchworm.core.lineage.graph import Edge, How, Node, in_order
from inchworm.core.parameters.values import Value
from inchworm.core.parts import Digest, Part, digest_of
from inchworm.core.rendered import Rendered, RenderedNotebook, canonical
from inchworm.core.sql.columns import Resolution, resolve, tables_in
from inchworm.core.sql.declared import Declaring
from inchworm.core.sql.parse import parse_query
from inchworm.core.sql.problems import SqlProblem
from inchworm.core.sql.render import parameters_in
from inchworm.core.structure.tables import Table
from inchworm.kinds.base import Surroundings
from inchworm.kinds.imports import imported_modules
from inchworm.kinds.model import reads_of, report_problems
from inchworm.kinds.notebook_code import Asked, CodeReader, Module, Place, Stored
from inchworm.kinds.notebook_document import (
    PYTHON,
    findings_of,
    language_of,
    lines_of_cells,
    read_cell,
    read_document_of,
    source_of,
    without_outputs,
)
from inchworm.kinds.notebook_readers import Other, Way
from inchworm.kinds.settings import Report
from inchworm.kinds.sql_rules import rule_of, unportable


class Notebook(Struct, frozen=True, kw_only=True):
    """A notebook that has been read."""

    part: PartId
    file: str
    dialect: str
    declared: Declaring
    cells: Mapping[str, Any]
    """The document without outputs and execution counts."""
    digest: Digest
    asked: Asked
    imports: tuple[tuple[str, int], ...]


class _Lineage(Struct):
    """What a notebook reads and writes, as it is gathered."""

    owner: Node
    edges: set[Edge] = field(default_factory=set)
    reads: list[Read] = field(default_factory=list)
    uses: list[Use] = field(default_factory=list)
    unportable: list[Unportable] = field(default_factory=list)

    def query(
        self, resolution: Resolution, place: Place, known: Container[str] | None = None
    ) -> None:
        """Read what a query reads; of tables, only those that are known, where that counts."""
        sources = {(s, How.COMPUTED) for column in resolution.columns for s, _ in column.sources}
        sources |= {(source, How.ROWS) for source, _ in resolution.rows}
        reads = reads_of(place.file, resolution, first_line=place.line)
        sourced = {source.owner for source, _ in sources}
        sources |= {(Node(read.table), How.WHOLE) for read in reads if read.table not in sourced}
        self.edges |= {
            Edge(source, self.owner, how)
            for source, how in sources
            if known is None or source.owner in known
        }
        self.reads += [read for read in reads if known is None or read.table in known]

    def table(self, name: str, known: Table | None, place: Place) -> None:
        """Read a whole table."""
        self.reads.append(Read(name, None, place.file, place.line))
        fields = [Node(name, c.name) for c in known.columns] if known else []
        self.edges |= {Edge(node, self.owner, How.COMPUTED) for node in fields or [Node(name)]}

    def function(self, dotted: str) -> None:
        """Use a function of a library."""
        library, _, name = dotted.partition(".")
        node = Node(f"{Kind.LIBRARY.value}:{library}", name)
        self.edges.add(Edge(node, self.owner, How.COMPUTED))

    def store(self, stored: Stored) -> None:
        """Write a table."""
        targets = [Node(stored.table, column.name) for column in stored.columns]
        self.edges |= {Edge(self.owner, node, How.COMPUTED) for node in targets}
        self.edges.add(Edge(self.owner, Node(stored.table), How.ROWS))


class NotebookKind:
    """How notebooks are handled."""

    kind = Kind.NOTEBOOK

    def read(self, part: Part, surroundings: Surroundings, report: Report) -> Notebook | None:
        """The document, and every call of the helper in its code."""
        document = read_document_of(part, report)
        if document is None:
            return None
        code = CodeReader(surroundings.dialect, surroundings.shared)
        module = Module(part.main.path)
        lines = lines_of_cells(part.main.content)
        imports: list[tuple[str, int]] = []
        is_python = language_of(document) == PYTHON
        if not is_python:
            report(
                rules.NOTEBOOK_NOT_FOLLOWED.finding(
                    f"is in the language {language_of(document)}",
                    part=part.id,
                    file=part.main.path,
                    remedy="Say in its settings what it reads, or move its queries into models.",
                )
            )
        for index, cell in enumerate(document["cells"]):
            if cell["cell_type"] == "code" and is_python:
                base = lines[index] if index < len(lines) else 1
                read = read_cell(source_of(cell), base)
                for finding in findings_of(read, part, f"cell {index + 1}"):
                    report(finding)
                code.read(module, read.statements)
                imports += imported_modules(read.statements)
        code.finish(module)
        for name, place in dict.fromkeys(code.asked.missing):
            report(
                rules.NOTEBOOK_MISSING.finding(
                    f"imports {name}, which the project's libraries do not have",
                    part=part.id,
                    file=place.file,
                    line=place.line,
                )
            )
        for reason, place in dict.fromkeys(code.asked.not_followed):
            report(
                rules.NOTEBOOK_NOT_FOLLOWED.finding(
                    reason, part=part.id, file=place.file, line=place.line
                )
            )
        stripped = without_outputs(document)
        return Notebook(
            part=part.id,
            file=part.main.path,
            dialect=surroundings.dialect,
            declared=surroundings.declared,
            cells=stripped,
            digest=digest_of(canonical(stripped)),
            asked=code.asked,
            imports=tuple(sorted(set(imports))),
        )

    def facts(self, notebook: Notebook, tables: Mapping[str, Table], report: Report) -> Facts:
        """Columns read flow into the notebook, and from it into every column that it stores."""
        asked = notebook.asked
        lineage = _Lineage(Node(str(notebook.part)))
        lineage.uses += [
            Use(parameter=name, file=place.file, line=place.line, safe=True)
            for name, place in asked.values
        ]
        for text, place in dict.fromkeys(asked.queries):
            query = self._query(notebook, text, place, report)
            if query is not None:
                resolution = resolve(query, tables, notebook.dialect, notebook.declared)
                report_problems(
                    notebook.part, place.file, resolution, report, first_line=place.line
                )
                lineage.uses += [Use(n, place.file, place.line) for n in parameters_in(query)]
                lineage.query(resolution, place)
                lineage.unportable += unportable(
                    resolution, notebook.dialect, place.file, place.line
                )
        for table, place in asked.tables:
            lineage.table(table, tables.get(table), place)
        for other, place in dict.fromkeys(asked.others):
            self._other(notebook, other, place, tables, lineage, report)
        for name in asked.functions:
            lineage.function(name)
        for stored in asked.stores:
            lineage.store(stored)
        return Facts(
            part=notebook.part,
            provides=tuple(
                Table(stored.table, stored.columns, open=not stored.columns, key=stored.key)
                for stored in asked.stores
            ),
            fills=tuple(stored.table for stored in asked.stores),
            reads=tuple(lineage.reads),
            edges=tuple(in_order(lineage.edges)),
            uses=tuple(lineage.uses),
            unportable=tuple(lineage.unportable),
        )

    @staticmethod
    def _other(
        notebook: Notebook,
        other: Other,
        place: Place,
        tables: Mapping[str, Table],
        lineage: _Lineage,
        report: Report,
    ) -> None:
        """Follow a call that reads or writes by a connection of its own, or say why not."""

        def note(reason: str) -> None:
            report(
                rules.NOTEBOOK_NOT_FOLLOWED.finding(
                    reason, part=notebook.part, file=place.file, line=place.line
                )
            )

        match other.way:
            case Way.UNKNOWN:
                note(other.text)
            case Way.WRITE:
                note(f"{other.called} writes {other.text} by a connection of its own")
                if other.text.lower() in tables:
                    lineage.edges.add(Edge(lineage.owner, Node(other.text.lower()), How.WHOLE))
            case Way.TABLE if other.text.lower() in tables:
                lineage.table(other.text.lower(), tables.get(other.text.lower()), place)
            case Way.TABLE:
                note(f"{other.called} reads {other.text}, which is no table of the project")
            case Way.QUERY:
                try:
                    query = parse_query(other.text, notebook.dialect, notebook.declared)
                except SqlProblem as problem:
                    note(f"the SQL of {other.called} {problem.reason}")
                    return
                known = {name for name in tables_in(query, notebook.dialect) if name in tables}
                resolution = resolve(query, tables, notebook.dialect, notebook.declared)
                lineage.query(resolution, place, known)
                for name in sorted(resolution.tables.keys() - known):
                    note(f"{other.called} reads {name}, which is no table of the project")

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
        queries = dict.fromkeys((text, place.line) for text, place in notebook.asked.queries)
        return RenderedNotebook(
            part=notebook.part, content=document, queries=tuple(queries), imports=notebook.imports
        )
