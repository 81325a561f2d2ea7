"""Running all migrations of a schema on an empty database in memory, before they run anywhere.

It shows that a new environment can be made, that undo scripts lead back, and that what was worked
out from the text is what a database makes of it. Only a project that has an environment in such a
database, and is written in its dialect, can be asked so; otherwise the bind check of a promotion
tries what is pending.
"""

from __future__ import annotations

import json
from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import closing
from pathlib import PurePosixPath
from typing import Any

from inchworm.core.checks import rules
from inchworm.core.checks.findings import Finding, finding_from
from inchworm.core.environments.environment import Environment
from inchworm.core.errors import OutsideAccess, TargetError
from inchworm.core.identifiers import Kind, PartId
from inchworm.core.lineage.facts import Assembly
from inchworm.core.parts import digest_of
from inchworm.core.rendered import RenderedSchema, Script
from inchworm.core.sql.parse import split_script
from inchworm.core.sql.problems import SqlProblem
from inchworm.core.structure.definitions import differences
from inchworm.core.structure.tables import UNKNOWN_TYPE, Table
from inchworm.engine.error_location import line_of_named
from inchworm.kinds.project_reader import Reading
from inchworm.targets.databases import Database
from inchworm.targets.databases.quoting import quoted, quoted_one
from inchworm.targets.databases.registry import in_memory

Known = Mapping[str, Any]
"""Results of earlier replays, by part: a digest of all they depend on, and their findings."""


def replay_migrations(
    reading: Reading, environments: Iterable[Environment], known: Known
) -> tuple[list[Finding], dict[str, Any]]:
    """What running the migrations says, and what to keep of it for the next time.

    Args:
        reading: the project.
        environments: where it goes.
        known: what was kept the last time.
    """
    assembly = reading.assembly
    if not any(e.database.url.startswith(f"{assembly.dialect}:") for e in environments):
        return [], {}
    findings: list[Finding] = []
    results: dict[str, Any] = {}
    for part in assembly.of_kind(Kind.SCHEMA):
        files = (PurePosixPath(file.path) for file in assembly.parts[part].files)
        if not any(file.parent.name == "migrations" for file in files):
            continue  # its tables need not be read from the text again
        if not assembly.outlines[part].readable or not assembly.facts[part].provides:
            continue
        schema = reading.render(part, {})
        scripts = schema.migrations if isinstance(schema, RenderedSchema) else ()
        if not scripts:
            continue
        others = _others(assembly, part, scripts)
        seen = [
            [s.document for s in scripts],
            *(repr(table) for table in (*others, *assembly.facts[part].provides)),
        ]
        digest = str(digest_of(json.dumps([assembly.dialect, *seen]).encode()))
        before = known.get(str(part))
        if before and before["digest"] == digest:
            of_part = [finding_from(finding) for finding in before["findings"]]
        else:
            database = in_memory(assembly.dialect)
            if database is None:
                return [], {}
            with closing(database):
                of_part = list(_Replay(database, assembly, part).run(scripts, others))
        results[str(part)] = {"digest": digest, "findings": [f.to_json() for f in of_part]}
        findings += of_part
    return findings, results


def _others(assembly: Assembly, part: PartId, scripts: Sequence[Script]) -> list[Table]:
    """Tables of other schemas that the scripts may name."""
    text = "\n".join(script.sql.lower() for script in scripts)
    return [
        table
        for name, table in sorted(assembly.tables.items())
        if table.schema != part.name.lower() and f"{table.schema}." in text and table.columns
    ]


class _Replay:
    def __init__(self, database: Database, assembly: Assembly, part: PartId) -> None:
        self.database = database
        self.assembly = assembly
        self.part = part
        self.schema = part.name.lower()
        self._line: int | None = None
        """That of the statement that ran last, in its file."""

    def run(self, scripts: Sequence[Script], others: list[Table]) -> Iterator[Finding]:
        """Run the scripts; the first that is refused ends it."""
        for schema in sorted({self.schema, *(table.schema for table in others)}):
            self.database.create_schema(schema)
        for table in others:
            columns = ", ".join(
                f"{quoted_one(c.name)} {'' if c.type == UNKNOWN_TYPE else c.type}"
                for c in table.columns
            )
            if self._refused(f"CREATE TABLE {quoted(table.name)} ({columns})") is not None:
                return  # a type that is not known here: nothing can be proved
        for script in scripts:
            try:
                wrong = self._there(script) if not script.undo else self._there_and_back(script)
            except OutsideAccess as error:
                # places outside are reached in environments alone
                yield rules.REPLAY_OUTSIDE.finding(
                    f"{script.name} reaches a place outside, so it is not tried here: {error.what}",
                    part=self.part,
                    file=script.file,
                    line=self._line,
                )
                return
            if wrong is not None:
                yield wrong
                return
        yield from self._other_than_worked_out(scripts[-1].file)

    def _there(self, script: Script) -> Finding | None:
        return self._run(script.sql, script.file)

    def _there_and_back(self, script: Script) -> Finding | None:
        """Run a script, undo it, compare with what was before, and run it again."""
        file = script.undo_file
        before = self.database.definitions([self.schema])
        wrong = self._there(script) or self._run(script.undo, file)
        if wrong is not None:
            return wrong
        left = differences(before, self.database.definitions([self.schema]))
        if left:
            return rules.UNDO_DIFFERS.finding(
                f"after it, {'; '.join(f'{d.key} is {d.what}' for d in left)}",
                part=self.part,
                file=file,
            )
        return self._there(script)

    def _other_than_worked_out(self, file: str) -> Iterator[Finding]:
        tables = self.database.structure([self.schema])
        for table in self.assembly.facts[self.part].provides:
            live_table = tables.get(table.name)
            if table.open:
                continue
            if live_table is None:
                wrong = [f"{table.name} would not be there"]
            else:
                wrong = [
                    f"{table.name}.{c.name} {difference}"
                    for c in table.columns
                    if (difference := _differs(c.type, live_table, c.name))
                ]
                expected = table.by_name
                wrong += [
                    f"{table.name}.{c.name} would be there, too"
                    for c in live_table.columns
                    if c.name.lower() not in expected
                ]
            for problem in wrong:
                message = f"{problem}, after all migrations ran in order"
                yield rules.REPLAY_DIFFERS.finding(message, part=self.part, file=file)

    def _run(self, sql: str, file: str) -> Finding | None:
        try:
            statements = split_script(sql, self.assembly.dialect)
        except SqlProblem:
            return None  # reading the script has reported it
        for statement in statements:
            at = sql.find(statement.strip()[:40])
            self._line = sql.count("\n", 0, at) + 1 if at >= 0 else None
            refused = self._refused(statement)
            if refused is not None:
                message = f"does not run after those before it: {refused}"
                return rules.REPLAY_DIFFERS.finding(
                    message,
                    part=self.part,
                    file=file,
                    line=line_of_named(refused, sql) or self._line,
                )
        return None

    def _refused(self, sql: str) -> str | None:
        try:
            self.database.execute(sql)
        except OutsideAccess:
            raise
        except TargetError as error:
            return error.what.partition(" says: ")[2] or error.what
        return None


def _differs(type_: str, live_table: Table, name: str) -> str:
    """How a column is otherwise in the database than was worked out; empty if it is not."""
    column = live_table.by_name.get(name.lower())
    if column is None:
        return "would not be there"
    if UNKNOWN_TYPE in (type_, column.type) or column.type == type_:
        return ""
    return f"would be {column.type}, not {type_}"
