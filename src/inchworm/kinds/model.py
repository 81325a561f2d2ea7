"""Models: one SELECT that becomes a view or a table."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Mapping
from typing import Any, Literal, Self, TypeVar

from msgspec import Struct
from pydantic import Field, model_validator
from sqlglot import exp

from inchworm.core.checks import rules
from inchworm.core.errors import did_you_mean
from inchworm.core.identifiers import Kind, PartId
from inchworm.core.lineage.facts import Facts, Read, Trait, Use
from inchworm.core.lineage.graph import Edge, How, Node, in_order
from inchworm.core.parameters.values import Value
from inchworm.core.parts import Part
from inchworm.core.rendered import Rendered, RenderedCheck, RenderedModel, Store
from inchworm.core.sql.columns import Resolution, resolve, tables_in
from inchworm.core.sql.declared import Declaring
from inchworm.core.sql.edges import edges_to
from inchworm.core.sql.parse import MAYBE_PARAMETER, parse_query, split_settings
from inchworm.core.sql.problems import SqlProblem
from inchworm.core.sql.render import line_of_parameter, parameters_in, to_text, with_values
from inchworm.core.structure.tables import Column, Table
from inchworm.core.toml import KeyPath, TomlDocument
from inchworm.kinds.base import Surroundings
from inchworm.kinds.column_checks import check_column_checks
from inchworm.kinds.settings import Report, Settings, documented, read_document, validate
from inchworm.kinds.sql_rules import QueryReview, rule_of, unportable

Bound = int | float
S = TypeVar("S", bound=Settings)


class ColumnSettings(Settings):
    """The description of a column, and the checks that its data must satisfy."""

    about: str = ""
    unit: str = ""
    class_: str = Field("", alias="class")
    declassified: str = ""
    required: bool = False
    unique: bool = False
    one_of: tuple[str | int | float, ...] = ()
    between: tuple[Bound, Bound] | None = None
    matches: str | None = None
    points_to: str | None = None

    def checks(self) -> dict[str, Any]:
        """The data checks that are declared, by name."""
        declared = self.model_dump(
            include={"required", "unique", "one_of", "between", "matches", "points_to"},
            exclude_defaults=True,
            mode="json",
        )
        return {name: value for name, value in declared.items() if value}


class ModelSettings(Settings):
    """The settings comment of a model."""

    about: str = ""
    owner: str = ""
    store: Literal["view", "table", "increment"] = "view"
    key: tuple[str, ...] = ()
    since: str | None = None
    """Of an increment, the column that tells new rows."""
    day: str | None = None
    """Of an increment, the column that tells of which day a row is: a run may tell one anew."""
    on_change: Literal["rebuild", "keep"] = "rebuild"
    """Whether an increment's rows are rebuilt or stay when its logic changes."""
    moved_from: str | None = Field(None, pattern=r"^[^.\s]+\.\S+$")
    """The name that it had before: its rows and rights come along."""
    columns: dict[str, ColumnSettings] = {}

    @property
    def keeps_rows(self) -> bool:
        """Whether its rows stay when it changes, and are nowhere else."""
        return self.since is not None and self.on_change == "keep"

    @model_validator(mode="after")
    def _grows_by_something(self) -> Self:
        if (self.store == "increment") != (self.since is not None):
            raise ValueError('store = "increment" and since = "column" go together')
        if self.day is not None and self.since is None:
            raise ValueError("day = ... is for an increment: anything else is built whole")
        return self


class Model(Struct, frozen=True, kw_only=True):
    """A model that has been read."""

    part: PartId
    file: str
    dialect: str
    settings: ModelSettings
    document: TomlDocument
    query: exp.Query
    text: str
    declared: Declaring

    @property
    def mentions(self) -> Mapping[str, int | None]:
        """The tables that the SQL names."""
        return tables_in(self.query, self.dialect)


class ModelKind:
    """How models are handled."""

    kind = Kind.MODEL

    def read(self, part: Part, surroundings: Surroundings, report: Report) -> Model | None:
        """The settings comment and the syntax tree."""
        for other in part.files[1:]:
            message = f"has the same name as {part.main.path}"
            report(rules.TWO_WITH_ONE_NAME.finding(message, part=part.id, file=other.path))
        validated = read_sql(part, ModelSettings, surroundings, report)
        if validated is None:
            return None
        settings, document, query = validated
        return Model(
            part=part.id,
            file=part.main.path,
            dialect=surroundings.dialect,
            settings=settings,
            document=document,
            query=query,
            text=part.main.content.decode(),
            declared=surroundings.declared,
        )

    def facts(self, model: Model, tables: Mapping[str, Table], report: Report) -> Facts:
        """The table that the model provides, and where its columns come from."""
        resolution = resolve(model.query, tables, model.dialect, model.declared)
        table = model.part.name.lower()
        report_problems(model.part, model.file, resolution, report)
        grows = model.settings.store == "increment"
        review = QueryReview(model.part, tables, model.dialect, report, grows=grows)
        review.look(model.query, resolution, model.file)
        check_column_checks(model, resolution, tables, report)
        self._report_columns(model, resolution, report)
        required = {n for n, s in model.settings.columns.items() if s.required}
        key = tuple(name.lower() for name in model.settings.key)
        required |= set(key)
        columns = tuple(Column(c.name, c.type, c.name in required) for c in resolution.columns)
        return Facts(
            part=model.part,
            provides=(Table(table, columns, open=resolution.open, key=key),),
            reads=reads_of(model.file, resolution),
            edges=tuple(edges_to(table, resolution)),
            uses=sql_uses(model.query, model.file, model.text),
            classes=self._said(model, "class_"),
            owner=model.settings.owner,
            documented=documented(model.settings, model.settings.columns),
            declassified=self._said(model, "declassified"),
            counts=tuple(Node(table, c.name) for c in resolution.columns if c.is_count),
            keeps_rows=model.settings.keeps_rows,
            checks=tuple(_promised(model.settings)),
            traits=tuple(self._traits(model)),
            moved_from=(model.settings.moved_from or "").lower(),
            unportable=unportable(resolution, model.dialect, model.file),
        )

    @staticmethod
    def _traits(model: Model) -> Iterator[Trait]:
        if model.settings.store == "view":
            yield Trait.VIEW
        select = model.query
        while isinstance(select, exp.SetOperation):
            select = select.this
        if isinstance(select, exp.Select) and any(each.is_star for each in select.expressions):
            yield Trait.STAR

    @staticmethod
    def _said(model: Model, setting: str) -> tuple[tuple[Node, str], ...]:
        """The values of a column setting, by column, where it has one."""
        return tuple(
            (Node(model.part.name.lower(), name.lower()), setting_value)
            for name, column in model.settings.columns.items()
            if (setting_value := getattr(column, setting))
        )

    def _report_columns(self, model: Model, resolution: Resolution, report: Report) -> None:
        names = [column.name for column in resolution.columns]
        for name, count in sorted(Counter(names).items()):
            if count == 1:
                continue
            report(
                rules.TWO_COLUMNS.finding(
                    f"shows {count} columns named {name}",
                    part=model.part,
                    file=model.file,
                )
            )
        if resolution.open:
            return
        named: list[tuple[str, KeyPath]] = [(n, ("columns", n)) for n in model.settings.columns]
        named += [(name, ("key",)) for name in model.settings.key]
        for setting in ("since", "day"):
            if (name := getattr(model.settings, setting)) is not None:
                named.append((name, (setting,)))
        for name, path in named:
            if name.lower() not in names:
                report(
                    rules.COLUMN_NOT_SHOWN.finding(
                        f"names the column {name} in its settings, but does not show it",
                        part=model.part,
                        file=model.file,
                        line=model.document.line_of(path),
                        remedy=did_you_mean(name, names, rules.COLUMN_NOT_SHOWN.remedy),
                    )
                )

    def render(self, model: Model, values: Mapping[str, Value]) -> Rendered:
        """The SELECT with this environment's values, and the checks on its data."""
        settings = model.settings
        return RenderedModel(
            part=model.part,
            sql=to_text(with_values(model.query, values), model.dialect),
            store=Store(settings.store),
            key=settings.key,
            checks={n: checks for n, s in settings.columns.items() if (checks := s.checks())},
            since=settings.since,
            keeps_rows=settings.keeps_rows,
            day=settings.day,
        )


def _promised(settings: ModelSettings) -> Iterator[str]:
    """The checks on the rows, in words."""
    if settings.key:
        yield f"unique by {', '.join(settings.key)}"
    for name, column in settings.columns.items():
        for check, argument in column.checks().items():
            shown = f"{name} {check.replace('_', ' ')}"
            listed = argument if isinstance(argument, list) else [argument]
            yield shown if argument is True else f"{shown} {', '.join(map(str, listed))}"


class CheckSettings(Settings):
    """The settings comment of a check file."""

    about: str = ""
    owner: str = ""
    severity: Literal["error", "warning"] = "error"
    message: str = ""


class DataCheck(Struct, frozen=True, kw_only=True):
    """A check file that has been read: a SELECT that must return no row."""

    part: PartId
    file: str
    dialect: str
    settings: CheckSettings
    query: exp.Query
    text: str
    declared: Declaring


class CheckKind:
    """How check files are handled."""

    kind = Kind.CHECK

    def read(self, part: Part, surroundings: Surroundings, report: Report) -> DataCheck | None:
        """The settings comment and the syntax tree."""
        validated = read_sql(part, CheckSettings, surroundings, report)
        if validated is None:
            return None
        settings, _, query = validated
        return DataCheck(
            part=part.id,
            file=part.main.path,
            dialect=surroundings.dialect,
            settings=settings,
            query=query,
            text=part.main.content.decode(),
            declared=surroundings.declared,
        )

    def facts(self, check: DataCheck, tables: Mapping[str, Table], report: Report) -> Facts:
        """The tables and columns that the check reads."""
        resolution = resolve(check.query, tables, check.dialect, check.declared)
        report_problems(check.part, check.file, resolution, report)
        counted = {rules.NO_ORDER}  # which of the rows it returns does not matter
        review = QueryReview(check.part, tables, check.dialect, report, leave_out=counted)
        review.look(check.query, resolution, check.file)
        sources = {s for column in resolution.columns for s in column.sources} | resolution.rows
        edges = {Edge(source, Node(str(check.part)), How.ROWS) for source, _ in sources}
        return Facts(
            part=check.part,
            reads=reads_of(check.file, resolution),
            edges=tuple(in_order(edges)),
            uses=sql_uses(check.query, check.file, check.text),
            unportable=unportable(resolution, check.dialect, check.file),
        )

    def render(self, check: DataCheck, values: Mapping[str, Value]) -> Rendered:
        """The SELECT with this environment's values."""
        return RenderedCheck(
            part=check.part,
            sql=to_text(with_values(check.query, values), check.dialect),
            refuses=check.settings.severity == "error",
            message=check.settings.message or check.settings.about,
        )


def read_sql(
    part: Part, model: type[S], surroundings: Surroundings, report: Report
) -> tuple[S, TomlDocument, exp.Query] | None:
    """A ``.sql`` file with one query and a settings comment."""
    file = part.main
    try:
        text = split_settings(file.content.decode("utf-8"))
        query = parse_query(text.sql, surroundings.dialect, surroundings.declared)
    except UnicodeDecodeError:
        report(rules.SQL_UNREADABLE.finding("is not UTF-8 text", part=part.id, file=file.path))
        return None
    except SqlProblem as problem:
        rule = rule_of(problem, rules.SQL_UNREADABLE)
        report(rule.finding(problem.reason, part=part.id, file=file.path, line=problem.line))
        return None
    document = read_document(text.settings, part.id, file.path, report)
    settings = validate(model, document, part.id, file.path, report) if document else None
    if document is None or settings is None:
        return None
    return settings, document, query


def sql_uses(query: exp.Expr, file: str, text: str) -> tuple[Use, ...]:
    """The parameters that a query uses; ``text`` is the file that it stands in."""
    if ":" not in text or not MAYBE_PARAMETER.search(text):
        return ()
    return tuple(
        Use(parameter=name, file=file, line=line_of_parameter(name, text))
        for name in parameters_in(query)
    )


def reads_of(file: str, resolution: Resolution, first_line: int = 1) -> tuple[Read, ...]:
    """The tables and columns that a query reads; a column that does not exist has its own line.

    ``first_line`` is that of the query in the file.
    """

    def at(line: int | None) -> int | None:
        return None if line is None else line + first_line - 1

    missing = {(p.table, p.name): p.line for p in resolution.problems if p.kind == "unknown-column"}
    columns: dict[str, set[str]] = {table: set() for table in resolution.tables}
    sources = {s for column in resolution.columns for s in column.sources} | resolution.rows
    for node in resolution.used | {node for node, _ in sources}:
        is_here = node.owner in columns  # and not in a place outside
        if is_here and node.field is not None and (node.owner, node.field) not in missing:
            columns[node.owner].add(node.field)
    reads = [
        Read(table=t, columns=frozenset(names), file=file, line=at(resolution.tables.get(t)))
        for t, names in columns.items()
    ]
    reads += [
        Read(table=table, columns=frozenset({name}), file=file, line=at(line))
        for (table, name), line in missing.items()
        if table is not None
    ]
    return tuple(reads)


def report_problems(
    part: PartId, file: str, resolution: Resolution, report: Report, first_line: int = 1
) -> None:
    """Problems that only the resolver sees; the rest is found from the reads.

    ``first_line`` is that of the query in the file.
    """
    for problem in resolution.problems:
        match problem.kind:
            case "unknown-table" if problem.name not in resolution.tables:
                rule, message = (
                    rules.UNKNOWN_TABLE,
                    f"uses {problem.name}, which is no table or alias here",
                )
            case "unknown-column" if problem.table is None:
                rule, message = rules.UNKNOWN_COLUMN, f"reads {problem.name}, which does not exist"
            case "ambiguous-column":
                rule = rules.AMBIGUOUS_COLUMN
                message = f"reads {problem.name}, which more than one table has here"
            case "not-understood":
                rule, message = (
                    rules.SQL_NOT_UNDERSTOOD,
                    f"has a {problem.name}, which is not followed column by column",
                )
            case "reaches-outside":
                rule, message = (
                    rules.READS_OUTSIDE,
                    f"reads {problem.name}, which is not declared",
                )
            case "unknown-catalogue":
                rule, message = (
                    rules.UNKNOWN_CATALOGUE,
                    f"reads {problem.name}, in a database that is not declared",
                )
            case "not-taken":
                report(
                    rules.SQL_NOT_UNDERSTOOD.finding(
                        f"cannot be followed at all, by a fault of Inchworm ({problem.name}); "
                        "it counts with whole tables",
                        part=part,
                        file=file,
                        remedy="Please report it, with this file.",
                    )
                )
                continue
            case _:
                continue
        near = f"Did you mean {problem.suggestion}?" if problem.suggestion else None
        line = problem.line + first_line - 1 if problem.line else None
        report(rule.finding(message, part=part, file=file, line=line, remedy=near))
