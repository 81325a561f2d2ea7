"""Having the database itself read what a promotion is about to build, before the first step.

Everything happens in scratch schemas that are gone afterwards: empty copies of the tables that are
read, pending migrations run upon them, and every model as an empty table. So no data is read,
nothing that is live is locked, and nothing stays.
"""

from __future__ import annotations

import hashlib
import re
from collections.abc import Iterable, Iterator, Mapping

from msgspec.structs import replace

from inchworm.core.checks import rules
from inchworm.core.checks.findings import Finding
from inchworm.core.environments.verification import Asked
from inchworm.core.errors import TargetError
from inchworm.core.identifiers import Kind, PartId, RelationName, relation
from inchworm.core.rendered import RenderedFlow, RenderedNotebook, Script
from inchworm.core.sql.columns import tables_in
from inchworm.core.sql.parse import parse_query, split_script
from inchworm.core.sql.problems import SqlProblem
from inchworm.core.sql.schema_names import with_physical_schemas
from inchworm.core.structure.definitions import differences, in_working_order
from inchworm.core.structure.tables import UNKNOWN_TYPE, Column, Table
from inchworm.engine.actions.base import Plan
from inchworm.engine.actions.checks import CheckFile
from inchworm.engine.actions.migrations import AssumeMigration, RunMigration
from inchworm.engine.actions.services import Deliver
from inchworm.engine.actions.stored_tables import PrepareTable
from inchworm.engine.actions.structures import ChangeStructure
from inchworm.engine.actions.verifications import AskVerification
from inchworm.engine.error_location import line_of_named
from inchworm.engine.notebook_queries import query_with_values
from inchworm.engine.site import Site
from inchworm.targets.databases import Database
from inchworm.targets.databases.quoting import quoted, quoted_one

_CONCURRENTLY = re.compile(r"\bCONCURRENTLY\b", re.IGNORECASE)


def try_out(site: Site, plan: Plan) -> list[Finding]:
    """Findings about the models, checks and migrations of a promotion that the database refuses.

    Raises:
        TargetError: when a schema of somebody else is called like one of the scratch schemas.
    """
    trial = _Trial(site, plan, site.database)
    schemas = sorted(schema + trial.suffix for schema in trial.schemas)
    # before they are recorded: what is recorded as ours is cleared away with all that is in it
    taken = {name.schema for name in map(RelationName, site.database.kinds())}
    if theirs := sorted(taken.intersection(schemas)):
        raise TargetError(
            f"the schema {theirs[0]}, in which statements would be tried, belongs to somebody.",
            next="Nothing was changed by it. Draft again: another promotion tries elsewhere.",
        )
    site.staging.reserve_scratch(schemas)
    with site.database.scratch_schemas(schemas):
        findings = list(trial.run())
    site.staging.forget_scratch(schemas)
    return findings


def try_draft(site: Site, plan: Plan, tables: Mapping[str, Table]) -> list[Finding] | None:
    """The same findings for a draft, while nothing is written in the environment.

    Args:
        site: where the plan would be carried out.
        plan: the actions.
        tables: what is live, by physical name.

    Returns:
        None where the database has no place to try statements in: then carrying out tries them.
    """
    declared = site.assembly.sources
    if (declared.reads or declared.others) and not site.database.board_sees_outside:
        return None
    trial = _Trial(site, plan, site.database, tables)
    schemas = sorted(schema + trial.suffix for schema in trial.schemas)
    try:
        with site.database.board(schemas) as board:
            if board is None:
                return None
            trial.database = board
            return list(trial.run())
    except TargetError:  # whoever drafts may not make schemas there
        return None


class _Trial:
    """A trial of what a plan does.

    Args:
        site: where the plan is going to be carried out; it is only read.
        plan: the actions.
        database: in which everything is tried.
        tables: what is live, by physical name, where that was read already.
    """

    def __init__(
        self,
        site: Site,
        plan: Plan,
        database: Database,
        tables: Mapping[str, Table] | None = None,
    ) -> None:
        self.site = site
        self.live = site.database
        self.database = database
        self.suffix = f"__try_{hashlib.sha256(site.id.key.encode()).hexdigest()[:8]}"
        """Ends the names of the scratch schemas; different for every promotion."""
        self.built = list(plan.building)
        self.checks = [action.part for action in plan if isinstance(action, CheckFile)]
        self.migrations = [
            action
            for action in plan
            if isinstance(action, RunMigration) and not isinstance(action, AssumeMigration)
        ]
        self.desired = sorted({a.part for a in plan if isinstance(a, ChangeStructure)})
        self.prepared = [a.step.item for a in plan if isinstance(a, PrepareTable)]
        self.changing = {action.part.name for action in self.migrations}
        self.askers = self._askers(plan)
        self.asked = [
            verification
            for action in plan
            if isinstance(action, AskVerification)
            and (verification := action.verification(site)).asked is Asked.QUERY
        ]
        self.unsure: set[str] = set()
        """Schemas of which not everything could be copied."""
        self.tables = self._copied(tables)
        named = [*self.tables, *self._promised(), *(part.name for part in self.built)]
        self.schemas = {RelationName(name).schema for name in named}
        self.schemas |= self.changing
        self.schemas |= {part.name for part in self.desired}

    def _askers(self, plan: Plan) -> list[PartId]:
        """Flows and notebooks that are delivered, or that read what changes."""
        assembly = self.site.assembly
        delivered = {action.part for action in plan if isinstance(action, Deliver)}
        built = {part.name for part in self.built}
        return [
            part
            for kind in (Kind.FLOW, Kind.NOTEBOOK)
            for part in assembly.of_kind(kind)
            if part in delivered
            or not built.isdisjoint(assembly.outlines[part].reads)
            or any(RelationName(t).schema in self.changing for t in assembly.outlines[part].reads)
        ]

    def _copied(self, live: Mapping[str, Table] | None) -> dict[str, Table]:
        """Live tables, by logical name, that are read, of schemas in which nothing changes."""
        assembly = self.site.assembly
        reading = [*self.built, *self.checks, *self.askers]
        read = {table for part in reading for table in assembly.outlines[part].reads}
        read |= self._read_by_questions()
        of_desired = {t.name for part in self.desired for t in assembly.facts[part].provides}
        physical = {
            name: self.site.physical(name)
            for name in read - of_desired - {part.name for part in self.built}
            if RelationName(name).schema not in self.changing
        }
        if live is None:
            live = self.live.tables(physical.values())
        return {
            name: live[name_there] for name, name_there in physical.items() if name_there in live
        }

    def _read_by_questions(self) -> set[str]:
        """Logical names of the tables that verifications read."""
        dialect = self.site.assembly.dialect
        queries = (parse_query(each.question, dialect) for each in self.asked)
        return {table for query in queries for table in tables_in(query, dialect)}

    def _copy(self, schema: str) -> None:
        """Make a scratch schema as the live one is, empty, for migrations to run upon.

        What cannot be made there, because it needs what is not told with the schema (a function,
        say), is left out; then a refusal may be due to that.
        """
        physical = self.site.names.schema(schema)
        building = {self.site.physical(part.name) for part in self.built}
        aside = self.site.place.aside()
        live = [
            definition
            for definition in self.live.definitions([physical])
            if definition.name not in building and definition.name not in aside
        ]
        dialect = self.database.dialect
        names = {self.site.names.schema(s): s + self.suffix for s in self.schemas}
        for definition in in_working_order(live, dialect):
            if self._not_copied(definition.sql, names, dialect):
                self.unsure.add(schema)

    def _not_copied(self, sql: str, names: Mapping[str, str], dialect: str) -> bool:
        try:
            physical_sql = with_physical_schemas(sql, lambda s: names.get(s, s), dialect, dialect)
        except SqlProblem:
            return True
        return self._refused(physical_sql) is not None

    def _promised(self) -> dict[str, Table]:
        """Tables that the promotion will make for notebooks."""
        made = {name: self.site.assembly.tables[name] for name in self.prepared}
        return {
            name: Table(name, tuple(Column(c.name, self.site.type(c.type)) for c in table.columns))
            for name, table in made.items()
        }

    def run(self) -> Iterator[Finding]:
        """Try everything, in the order in which it would come."""
        for name, table in {**self.tables, **self._promised()}.items():
            columns = ", ".join(
                f"{quoted_one(c.name)} {'' if c.type == UNKNOWN_TYPE else c.type}"
                for c in table.columns
            )
            self.database.execute(f"CREATE TABLE {quoted(self._scratch(name))} ({columns})")
        for schema in sorted(self.changing):
            self._copy(schema)
        for part in self.desired:
            file = f"schemas/{part.name}/tables.sql"
            refusal = self._script(part, file, self.site.rendered.schema(part).desired)
            if refusal is not None:
                yield refusal
                return
        for action in self.migrations:
            refusal = self._migration(action.part, action.script(self.site))
            if refusal is not None:
                yield refusal
                return  # what comes after would only fail for the same reason
        missing: set[str] = set()
        for part in [*self.built, *self.checks]:
            is_model = part.kind is Kind.MODEL
            if not missing.isdisjoint(self.site.assembly.outlines[part].reads):
                refused: list[Finding] = []  # only because of what it reads, which has been said
                missing.add(part.name)
            else:
                refused = list(self._view(part, self._scratch(part.name) if is_model else None))
            if refused and is_model:
                missing.add(part.name)
            yield from refused
        for part in self.askers:
            if missing.isdisjoint(self.site.assembly.outlines[part].reads):
                yield from self._asked_for(part)
        for verification in self.asked if not missing else ():
            sql = self.site.sql(verification.question, self._scratch)
            refusal_of_query = self._refused(f"SELECT 1 FROM ({sql}) AS tried WHERE 1 = 0")
            if refusal_of_query is not None:
                message = refusal_of_query.partition(" says: ")[2] or refusal_of_query
                yield rules.DOES_NOT_BIND.finding(
                    f"[[verify]] {verification.name}: {message}".replace(self.suffix, ""),
                    file=self.site.environment.file,
                )

    def _migration(self, part: PartId, script: Script) -> Finding | None:
        """Run a migration; one that can be taken back runs, goes back, and runs again."""
        sql, file = script.sql, script.file
        if not script.in_transaction:  # here it has to run in one
            sql = _CONCURRENTLY.sub("", sql)
        schema = part.name
        before = self.database.definitions([schema + self.suffix])
        refusal = self._script(part, file, sql)
        if refusal is not None and schema in self.unsure:
            return None  # a copy that is not whole proves nothing
        if refusal is None and script.undo:
            undo_file = script.undo_file
            refusal = self._script(part, undo_file, script.undo)
            after = self.database.definitions([schema + self.suffix])
            wrong = [f"{d.key} is {d.what}" for d in differences(before, after)]
            if refusal is None and wrong:
                refusal = rules.UNDO_DIFFERS.finding(
                    f"after it, {'; '.join(wrong)}".replace(self.suffix, ""),
                    part=part,
                    file=undo_file,
                )
            refusal = refusal or self._script(part, file, sql)
        return refusal

    def _script(self, part: PartId, file: str, sql: str) -> Finding | None:
        dialect, target = self.site.assembly.dialect, self.database.dialect
        for statement in split_script(sql, dialect):
            try:
                text = with_physical_schemas(statement, self._scratch_schema, dialect, target)
            except SqlProblem:  # it would reach the live schema, so it cannot be tried
                self.unsure.add(part.name)
                continue
            refused = self._refused(text)
            if refused is not None:
                return self._finding(refused, part, file, sql)
        return None

    def _view(self, part: PartId, name: RelationName | None) -> Iterator[Finding]:
        rendered = self.site.rendered
        query = rendered.model(part).sql if name is not None else rendered.check(part).sql
        sql = self.site.sql(query, self._scratch)
        if name is None:
            refused = self._refused(f"SELECT 1 FROM ({sql}) AS tried WHERE 1 = 0")
        else:
            refused = self._refused(self.database.empty_copy(name, sql))
            if refused is None and rendered.model(part).is_view:
                refused = self._refused_as_view(name, sql)
        if refused is not None:
            main = self.site.assembly.parts[part].main
            text = main.content.decode("utf-8", "replace")
            yield self._finding(refused, part, main.path, text)

    def _asked_for(self, part: PartId) -> Iterator[Finding]:
        """Findings about the queries of a flow or notebook."""
        rendered = self.site.rendered[part]
        main = self.site.assembly.parts[part].main
        queries: list[tuple[str, int | None]] = []
        if isinstance(rendered, RenderedNotebook):
            queries += rendered.queries
        elif isinstance(rendered, RenderedFlow):
            query = rendered.content["from"].get("query")
            queries += [(query, None)] if query else []
        dialect, values = self.site.assembly.dialect, self.site.prepared.values
        for text, line in queries:
            sql = self.site.sql(query_with_values(text, dialect, values), self._scratch)
            refused = self._refused(f"SELECT 1 FROM ({sql}) AS tried WHERE 1 = 0")
            if refused is not None:
                content = main.content.decode("utf-8", "replace")
                finding = self._finding(refused, part, main.path, content)
                yield replace(finding, line=line) if line is not None else finding

    def _scratch(self, name: str) -> RelationName:
        logical = self.site.names.logical(name)
        return relation(logical.schema + self.suffix, logical.table)

    def _scratch_schema(self, schema: str) -> str:
        return schema + self.suffix if schema in self.schemas else schema

    def _refused(self, sql: str) -> str | None:
        """Run a statement; in words why the database refuses it. What it did before stays tried."""
        try:
            with self.database.savepoint():
                self.database.execute(sql)
        except TargetError as error:
            return error.what
        return None

    def _refused_as_view(self, name: RelationName, sql: str) -> str | None:
        """The same of a view, which may be refused although its query is not."""
        view = quoted(relation(name.schema, f"{name.table}__view"))
        refused = self._refused(f"CREATE VIEW {view} AS {sql}")
        if refused is None:
            self.database.execute(f"DROP VIEW {view}")
            return None
        return refused.replace(f"{name.table}__view", name.table)

    def _finding(self, refusal: str, part: PartId, file: str, text: str) -> Finding:
        message = refusal.partition(" says: ")[2] or refusal
        return rules.DOES_NOT_BIND.finding(
            message.replace(self.suffix, ""),
            part=part,
            file=file,
            line=line_of_named(message, text),
        )


def spelled(findings: Iterable[Finding]) -> str:
    """The findings in one text, a line each, for the ledger."""
    return "".join(f"\n  {finding.place}: {finding.message}" for finding in findings)
