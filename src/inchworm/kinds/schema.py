"""Schemas: managed by migrations or by their wanted structure, or known and managed outside."""

from __future__ import annotations

import re
from collections import ChainMap
from collections.abc import Mapping
from typing import Literal

from msgspec import Struct, field
from msgspec.structs import replace
from sqlglot import exp

from inchworm.core.checks import rules
from inchworm.core.checks.migrations import concerns, outside_transactions
from inchworm.core.errors import did_you_mean
from inchworm.core.identifiers import Kind, PartId
from inchworm.core.lineage.facts import Facts
from inchworm.core.lineage.graph import Node, in_order
from inchworm.core.parameters.values import Value
from inchworm.core.parts import Part, SourceFile, digest_of
from inchworm.core.rendered import Managed, Rendered, RenderedSchema, Script, When
from inchworm.core.sql.names import line_of
from inchworm.core.sql.parse import meaning, parse_statements, split_settings
from inchworm.core.sql.problems import SqlProblem
from inchworm.core.structure.queries import MadeBy, edges_of, queries_after
from inchworm.core.structure.replay import replay, tables_made
from inchworm.core.structure.tables import Table
from inchworm.kinds.base import Surroundings
from inchworm.kinds.settings import Report, Settings, documented, read_document, validate

_MIGRATION = re.compile(r"^(\d{4})_[A-Za-z0-9_]+\.sql$")

_UNDO = ".undo.sql"


class SchemaSettings(Settings):
    """``schema.toml``: how the schema is managed."""

    about: str = ""
    owner: str = ""
    managed: Literal["migrations", "structure", "outside"]
    classes: dict[str, str] = {}
    renames: dict[str, str] = {}
    """New names by old: ``station = "gauge"``, ``"gauge.stream" = "river"``."""


class ScriptSettings(Settings):
    """The settings comment of a migration or script."""

    about: str = ""
    baseline: bool = False
    when: Literal["before", "after"] = "before"
    transaction: bool = True
    """False for a statement that a database refuses to run in a transaction."""
    takes_up: dict[str, str] = {}
    """What was changed by hand, with a digest of what it was changed to."""


class Schema(Struct, frozen=True, kw_only=True):
    """A schema that has been read, with the tables that its scripts make."""

    part: PartId
    settings: SchemaSettings
    migrations: tuple[Script, ...] = ()
    before: tuple[Script, ...] = ()
    after: tuple[Script, ...] = ()
    dialect: str
    tables: tuple[Table, ...] = ()
    queries: Mapping[str, MadeBy] = field(default_factory=dict)
    """The relations that are made by a query, such as views, by name."""
    desired: str = ""
    """The script that makes the structure which the schema should have."""


class SchemaKind:
    """How schemas are handled."""

    kind = Kind.SCHEMA

    def read(self, part: Part, surroundings: Surroundings, report: Report) -> Schema | None:
        """The settings, the scripts, and the tables that they leave behind."""
        base = "/".join(part.main.path.split("/")[:2]) + "/"
        files = {file.path.removeprefix(base): file for file in part.files}
        main = files.get("schema.toml")
        if main is None:
            report(
                rules.MALFORMED.finding(
                    f"{base}schema.toml is missing",
                    part=part.id,
                    file=part.main.path,
                    remedy='Write one with managed = "migrations", "structure" or "outside".',
                )
            )
            return None
        document = read_document(main.content, part.id, main.path, report)
        settings = None
        if document is not None:
            settings = validate(SchemaSettings, document, part.id, main.path, report)
        if settings is None:
            return None
        reading = _Reading(part.id, surroundings.dialect, report)
        declared = files.get("tables.sql")
        if settings.managed == "outside":
            tables = reading.structure([declared] if declared else [], is_ours=False)
            return Schema(
                part=part.id,
                settings=settings,
                dialect=surroundings.dialect,
                tables=tables,
                queries=reading.queries,
            )
        scripts = {
            when: tuple(
                script
                for path, file in sorted(files.items())
                if path.startswith(f"{when}/") and (script := reading.script(file)) is not None
            )
            for when in ("before", "after")
        }
        if settings.managed == "structure":
            return Schema(
                part=part.id,
                settings=settings,
                before=scripts["before"],
                after=scripts["after"],
                dialect=surroundings.dialect,
                tables=reading.structure([declared] if declared else []),
                queries=reading.queries,
                desired=reading.desired(declared, f"{base}tables.sql"),
            )
        migrations = reading.migrations(
            [file for path, file in files.items() if path.startswith("migrations/")]
        )
        by_path = {file.path: file for file in part.files}
        tables = reading.structure(
            [by_path[m.file] for m in migrations], {m.file: m for m in migrations}
        )
        return Schema(
            part=part.id,
            settings=settings,
            migrations=migrations,
            before=scripts["before"],
            after=scripts["after"],
            dialect=surroundings.dialect,
            tables=tables,
            queries=reading.queries,
        )

    def facts(self, schema: Schema, tables: Mapping[str, Table], report: Report) -> Facts:
        """The tables that exist because of the schema."""
        outside = schema.settings.managed == "outside"
        classes = tuple(
            (Node(f"{schema.part.name}.{table}".lower(), column.lower()), class_)
            for name, class_ in schema.settings.classes.items()
            for table, _, column in [name.partition(".")]
        )
        known = {Node(t.name, c.name) for t in schema.tables for c in t.columns}
        for node, _ in classes:
            if node not in known:
                report(
                    rules.UNKNOWN_COLUMN.finding(
                        f"gives a class to {node}, which does not exist",
                        part=schema.part,
                        file=f"schemas/{schema.part.name}/schema.toml",
                        remedy=did_you_mean(str(node), map(str, known), "Write table.column."),
                    )
                )
        made = {table.name for table in schema.tables}
        for old, new in schema.settings.renames.items():
            name, dot, _ = old.partition(".")
            table = f"{schema.part.name}.{name if dot else new}".lower()
            is_there = Node(table, new.lower()) in known if dot else table in made
            if not is_there:
                report(
                    rules.RENAME_UNKNOWN.finding(
                        f"{old} is to become {new}, which {schema.part.name} does not have",
                        part=schema.part,
                        file=f"schemas/{schema.part.name}/schema.toml",
                    )
                )
        own = {table.name: table for table in schema.tables}
        readable = ChainMap(own, tables)  # type: ignore[arg-type]
        edges = [
            edge
            for name, made in sorted(schema.queries.items())
            if name in own
            for edge in edges_of(name, made, readable, schema.dialect)
        ]
        return Facts(
            part=schema.part,
            provides=schema.tables,
            edges=tuple(in_order(edges)),
            managed_outside=outside,
            owner=schema.settings.owner,
            documented=documented(schema.settings),
            classes=classes,
        )

    def render(self, schema: Schema, values: Mapping[str, Value]) -> Rendered:
        """The scripts; a schema managed outside is only known by its tables."""
        managed = Managed(schema.settings.managed)
        tables = [(t.name, tuple((c.name, c.type) for c in t.columns)) for t in schema.tables]
        return RenderedSchema(
            part=schema.part,
            managed=managed,
            tables=tuple(tables) if managed is Managed.OUTSIDE else (),
            desired=schema.desired,
            renames=schema.settings.renames,
            migrations=schema.migrations,
            before=schema.before,
            after=schema.after,
        )


class _Reading(Struct):
    part: PartId
    dialect: str
    report: Report
    queries: dict[str, MadeBy] = field(default_factory=dict)

    def script(self, file: SourceFile) -> Script | None:
        """A script with its settings, or None after reporting what is wrong."""
        try:
            text = file.content.decode("utf-8")
            parts = split_settings(text)
            checksum = digest_of(meaning(parts.sql, self.dialect).encode())
        except UnicodeDecodeError:
            self.report(
                rules.SQL_UNREADABLE.finding("is not UTF-8 text", part=self.part, file=file.path)
            )
            return None
        except SqlProblem as problem:
            self._unreadable(file, problem)
            return None
        document = read_document(parts.settings, self.part, file.path, self.report)
        settings = None
        if document is not None:
            settings = validate(ScriptSettings, document, self.part, file.path, self.report)
        if settings is None:
            return None
        name = file.path.rpartition("/")[2].removesuffix(".sql")
        return Script(
            name=name,
            file=file.path,
            sql=parts.sql.strip(),
            checksum=checksum,
            when=When(settings.when),
            baseline=settings.baseline,
            in_transaction=settings.transaction,
            takes_up=settings.takes_up,
        )

    def desired(self, file: SourceFile | None, path: str) -> str:
        """The script of a wanted structure, which only says what there should be."""
        if file is None:
            message = "is missing, so it is not known what there should be"
            self.report(rules.MALFORMED.finding(message, part=self.part, file=path))
            return ""
        try:
            text = split_settings(file.content.decode("utf-8", "replace")).sql
            statements = parse_statements(text, self.dialect)
        except SqlProblem:
            return ""  # reading its tables has reported it
        for statement in statements:
            if not _only_says(statement):
                self.report(
                    rules.NOT_A_DEFINITION.finding(
                        f"{statement.key.upper()} does something, which a wanted structure cannot",
                        part=self.part,
                        file=path,
                        line=line_of(statement),
                    )
                )
        return text.rstrip()

    def migrations(self, files: list[SourceFile]) -> tuple[Script, ...]:
        """The migrations in order of their numbers."""
        scripts: list[Script] = []
        numbers: dict[str, str] = {}
        undoing = {f.path: f for f in files if f.path.endswith(_UNDO)}
        for file in sorted(files, key=lambda f: f.path):
            if file.path.endswith(_UNDO):
                continue
            name = file.path.rpartition("/")[2]
            match = _MIGRATION.match(name)
            if match is None or match.group(1) in numbers:
                other = numbers.get(match.group(1)) if match else None
                message = f"has the same number as {other}" if other else f"{name} has no number"
                self.report(rules.MIGRATION_NUMBER.finding(message, part=self.part, file=file.path))
                continue
            if numbers and int(match.group(1)) != int(max(numbers)) + 1:
                self.report(
                    rules.MIGRATION_GAP.finding(
                        f"{name} comes after {numbers[max(numbers)]}",
                        part=self.part,
                        file=file.path,
                    )
                )
            numbers[match.group(1)] = name
            script = self.script(file)
            undo = undoing.pop(file.path.removesuffix(".sql") + _UNDO, None)
            back = self.script(undo) if undo is not None else None
            if script is not None:
                scripts.append(replace(script, undo=back.sql) if back is not None else script)
        for file in undoing.values():
            message = f"{file.path.rpartition('/')[2]} takes no migration back"
            self.report(rules.MIGRATION_NUMBER.finding(message, part=self.part, file=file.path))
        return tuple(scripts)

    def structure(
        self,
        files: list[SourceFile],
        migrations: Mapping[str, Script] | None = None,
        *,
        is_ours: bool = True,
    ) -> tuple[Table, ...]:
        """The tables after running the scripts one after another.

        Args:
            files: the scripts.
            migrations: those that are migrations, by path.
            is_ours: whether the tables are made here, and not only known.
        """
        tables: dict[str, Table] = {}
        made_in: dict[str, SourceFile] = {}
        for file in files:
            try:
                text = split_settings(file.content.decode("utf-8", "replace")).sql
                statements = parse_statements(text, self.dialect)
            except SqlProblem as problem:
                self._unreadable(file, problem)
                continue
            migration = (migrations or {}).get(file.path)
            if migration is not None:
                concerned = [] if migration.baseline else concerns(statements, tables, self.dialect)
                alone = outside_transactions(statements, in_one=migration.in_transaction)
                for concern in (*concerned, *alone):
                    self.report(
                        concern.rule.finding(
                            concern.message, part=self.part, file=file.path, line=concern.line
                        )
                    )
            if migration is None or not migration.baseline:  # what was there before is as it is
                made_in |= dict.fromkeys(tables_made(statements, self.dialect), file)
            tables, notes = replay(statements, tables, self.dialect)
            self.queries = queries_after(statements, self.queries, self.dialect)
            for note in notes:
                self.report(
                    rules.SCHEMA_NOT_FOLLOWED.finding(
                        note.message, part=self.part, file=file.path, line=note.line
                    )
                )
        if is_ours:
            self._keyless(tables, made_in)
        return tuple(tables[name] for name in sorted(tables))

    def _keyless(self, tables: Mapping[str, Table], made_in: Mapping[str, SourceFile]) -> None:
        """Tables of which nothing keeps a row from being there twice."""
        for name, file in made_in.items():
            table = tables.get(name)
            if table is not None and not table.open and not table.key:
                message = f"{name} has no key"
                self.report(rules.NO_KEY.finding(message, part=self.part, file=file.path))

    def _unreadable(self, file: SourceFile, problem: SqlProblem) -> None:
        self.report(
            rules.SQL_UNREADABLE.finding(
                problem.reason,
                part=self.part,
                file=file.path,
                line=problem.line,
                cause=str(self.part),  # what its tables are missed for follows from it
            )
        )


def _only_says(statement: exp.Expr) -> bool:
    """Whether a statement says what there should be, rather than doing something."""
    if isinstance(statement, exp.Alter):
        actions = statement.args.get("actions") or []
        return all(isinstance(action, exp.AddConstraint) for action in actions)
    is_comment = isinstance(statement, exp.Comment)
    return is_comment or (isinstance(statement, exp.Create) and not statement.args.get("replace"))
