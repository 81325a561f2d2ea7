"""Having the database itself read what a promotion is about to build, before the first step.

Everything happens in scratch schemas that are gone afterwards: empty copies of the tables that are
read, pending migrations run upon them, and every model as an empty table. So no data is read,
nothing that is live is locked, and nothing stays.
"""

from __future__ import annotations

import hashlib
import re
from collections.abc import Iterable, Iterator, Mapping

from inchworm.core.checks import rules
from inchworm.core.errors import TargetError
from inchworm.core.findings import Finding
from inchworm.core.parts import Kind, PartId
from inchworm.core.promotion import Phase
from inchworm.core.sql.parse import SqlProblem, split_script
from inchworm.core.sql.schema_names import with_physical_schemas
from inchworm.core.structure.definitions import differences, in_working_order
from inchworm.core.structure.tables import UNKNOWN_TYPE, Column, Table
from inchworm.engine.error_location import line_of_named
from inchworm.engine.steps import Steps
from inchworm.targets.databases.base import quoted, quoted_one

_CONCURRENTLY = re.compile(r"\bCONCURRENTLY\b", re.IGNORECASE)


def try_out(doing: Steps) -> list[Finding]:
    """What the database refuses of the models, checks and migrations of a promotion."""
    trial = _Trial(doing)
    schemas = sorted(schema + trial.suffix for schema in trial.schemas)
    doing.staging.reserve_scratch(schemas)
    with doing.database.scratch_schemas(schemas):
        found = list(trial.run())
    doing.staging.forget_scratch(schemas)
    return found


class _Trial:
    def __init__(self, doing: Steps) -> None:
        self.doing = doing
        self.database = doing.database
        self.suffix = f"__try_{hashlib.sha256(doing.key.encode()).hexdigest()[:8]}"
        """Ends the names of the scratch schemas; different for every promotion."""
        self.built = [PartId.parse(step.part) for step in doing.steps if step.phase is Phase.BUILD]
        self.checks = [
            part
            for step in doing.steps
            if step.phase is Phase.CHECK and (part := PartId.parse(step.part)).kind is Kind.CHECK
        ]
        self.migrations = [
            step
            for step in doing.steps
            if step.phase in {Phase.MIGRATE, Phase.MIGRATE_AFTER} and step.action != "assume"
        ]
        self.wanted = sorted({step.part for step in self.migrations if step.action == "change"})
        self.migrations = [step for step in self.migrations if step.action != "change"]
        self.changing = {step.part.partition(":")[2] for step in self.migrations}
        self.unsure: set[str] = set()
        """Schemas of which not everything could be copied."""
        self.tables = self._copied()
        named = [*self.tables, *self._promised(), *(part.name for part in self.built)]
        self.schemas = {name.rpartition(".")[0] for name in named}
        self.schemas |= self.changing
        self.schemas |= {part.partition(":")[2] for part in self.wanted}

    def _copied(self) -> dict[str, Table]:
        """Live tables, by logical name, that are read, of schemas in which nothing changes."""
        assembly = self.doing.assembly
        reading = [*self.built, *self.checks]
        wanted = {table for part in reading for table in assembly.outlines[part].reads}
        of_wanted = {
            table.name
            for part in map(PartId.parse, self.wanted)
            for table in assembly.facts[part].provides
        }
        wanted = {
            name
            for name in wanted - of_wanted - {part.name for part in self.built}
            if name.rpartition(".")[0] not in self.changing
        }
        live = self.database.structure()
        real = {name: self.doing.real(name) for name in wanted}
        return {name: live[place] for name, place in real.items() if place in live}

    def _copy(self, schema: str) -> None:
        """Make a scratch schema as the live one is, empty, for migrations to run upon.

        What cannot be made there, because it needs what is not told with the schema (a function,
        say), is left out; then a refusal may be due to that.
        """
        real = self.doing.names.schema(schema)
        building = {self.doing.real(part.name) for part in self.built}
        aside = self.doing.place.aside()
        live = [
            definition
            for definition in self.database.definitions([real])
            if definition.name not in building and definition.name not in aside
        ]
        dialect = self.database.dialect
        names = {self.doing.names.schema(s): s + self.suffix for s in self.schemas}
        for definition in in_working_order(live, dialect):
            if self._not_copied(definition.sql, names, dialect):
                self.unsure.add(schema)

    def _not_copied(self, sql: str, names: Mapping[str, str], dialect: str) -> bool:
        try:
            here = with_physical_schemas(sql, lambda s: names.get(s, s), dialect, dialect)
        except SqlProblem:
            return True
        return self._refused(here) is not None

    def _promised(self) -> dict[str, Table]:
        """Tables that the promotion will make for notebooks."""
        assembly = self.doing.assembly
        made = {
            s.item: assembly.tables[s.item] for s in self.doing.steps if s.phase is Phase.PREPARE
        }
        return {
            name: Table(name, tuple(Column(c.name, self.doing.type(c.type)) for c in table.columns))
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
        for schema in self.wanted:
            file = f"schemas/{schema.partition(':')[2]}/tables.sql"
            found = self._script(schema, file, self.doing.document(schema)["wanted"])
            if found is not None:
                yield found
                return
        for step in self.migrations:
            found = self._migration(step.part, step.item)
            if found is not None:
                yield found
                return  # what comes after would only fail for the same reason
        missing: set[str] = set()
        for part in [*self.built, *self.checks]:
            is_model = part.kind is Kind.MODEL
            if not missing.isdisjoint(self.doing.assembly.outlines[part].reads):
                refused: list[Finding] = []  # only because of what it reads, which has been said
                missing.add(part.name)
            else:
                refused = list(self._view(part, self._scratch(part.name) if is_model else None))
            if refused and is_model:
                missing.add(part.name)
            yield from refused

    def _migration(self, part: str, name: str) -> Finding | None:
        """Run a migration; one that can be taken back runs, goes back, and runs again."""
        scripts = self.doing.document(part)["migrations"]
        script = next(script for script in scripts if script["name"] == name)
        sql, file = script["sql"], script["file"]
        if not script.get("transaction", True):  # here it has to run in one
            sql = _CONCURRENTLY.sub("", sql)
        schema = part.partition(":")[2]
        before = self.database.definitions([schema + self.suffix])
        found = self._script(part, file, sql)
        if found is not None and schema in self.unsure:
            return None  # a copy that is not whole proves nothing
        if found is None and "undo" in script:
            undo_file = file.removesuffix(".sql") + ".undo.sql"
            found = self._script(part, undo_file, script["undo"])
            after = self.database.definitions([schema + self.suffix])
            wrong = [f"{d.key} is {d.what}" for d in differences(before, after)]
            if found is None and wrong:
                found = rules.UNDO_DIFFERS.finding(
                    f"after it, {'; '.join(wrong)}".replace(self.suffix, ""),
                    part=part,
                    file=undo_file,
                )
            found = found or self._script(part, file, sql)
        return found

    def _script(self, part: str, file: str, sql: str) -> Finding | None:
        dialect, target = self.doing.assembly.dialect, self.database.dialect
        for statement in split_script(sql, dialect):
            try:
                text = with_physical_schemas(statement, self._scratch_schema, dialect, target)
            except SqlProblem:  # it would reach the live schema, so it cannot be tried
                self.unsure.add(part.partition(":")[2])
                continue
            refused = self._refused(text)
            if refused is not None:
                return self._finding(refused, part, file, sql)
        return None

    def _view(self, part: PartId, name: str | None) -> Iterator[Finding]:
        document = self.doing.document(str(part))
        sql = self.doing.sql(document["sql"], self._scratch)
        if name is None:
            refused = self._refused(f"SELECT 1 FROM ({sql}) AS tried WHERE 1 = 0")
        else:
            refused = self._refused(self.database.empty_copy(name, sql))
        if refused is not None:
            main = self.doing.assembly.parts[part].main
            text = main.content.decode("utf-8", "replace")
            yield self._finding(refused, str(part), main.path, text)

    def _scratch(self, name: str) -> str:
        schema, _, table = name.lower().rpartition(".")
        return f"{schema}{self.suffix}.{table}"

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

    def _finding(self, said: str, part: str, file: str, text: str) -> Finding:
        message = said.partition(" says: ")[2] or said
        return rules.DOES_NOT_BIND.finding(
            message.replace(self.suffix, ""),
            part=part,
            file=file,
            line=line_of_named(message, text),
        )


def spelled(findings: Iterable[Finding]) -> str:
    """The findings in one text, a line each, for the ledger."""
    return "".join(f"\n  {finding.place}: {finding.message}" for finding in findings)
