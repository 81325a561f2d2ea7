"""Doing one step of a promotion: what each phase means in the environment's targets."""

from __future__ import annotations

import time
from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace
from functools import cached_property
from typing import Any

from sqlglot import exp

from inchworm.core.composition import (
    SERVICE_KINDS,
    LastPromotion,
    LivePart,
    RanMigration,
)
from inchworm.core.datachecks import checks_of
from inchworm.core.errors import TargetError
from inchworm.core.increments import kept_rows, new_rows
from inchworm.core.parts import Kind, PartId
from inchworm.core.physical_names import PhysicalNames
from inchworm.core.promotion import Phase, Promotion, Step, StepReport, StepState
from inchworm.core.sql.parse import parse_query, split_script
from inchworm.core.sql.render import to_text, with_tables
from inchworm.core.structure.desired import in_the_way
from inchworm.engine.connections import OpenEnvironment
from inchworm.engine.desired_schema import wanted_structure
from inchworm.engine.promote import Prepared
from inchworm.engine.staging import StagingArea
from inchworm.engine.structure_record import StructureRecord
from inchworm.targets.databases.base import Switch, quoted


class Steps:
    """Does the steps of one promotion in an open environment.

    A step that works on the database is one transaction, which also leaves the step's mark.

    Args:
        key: the promotion's name in the database, different for every ledger.
        by: who is at work.
        now: the current time, ISO 8601, UTC.
    """

    def __init__(
        self,
        prepared: Prepared,
        promotion: Promotion,
        place: OpenEnvironment,
        key: str,
        by: str,
        now: Callable[[], str],
    ) -> None:
        self.prepared = prepared
        self.promotion = promotion
        self.place = place
        self.key = key
        self.by = by
        self.now = now
        self.assembly = prepared.reading.assembly
        self.environment = prepared.environment
        self.database = place.database
        self.names = PhysicalNames(self.assembly, self.environment, self.database.dialect)
        self.steps = promotion.draft.steps
        self.building = {s.part.partition(":")[2] for s in self.steps if s.phase is Phase.BUILD}
        self.staging = StagingArea(place, key)
        self.structures = StructureRecord(place, self.names, self._live_parts, now)
        self.failed: list[str] = []
        """Parts of which a step failed; they are not expected to be in place at the end."""
        self.do: Mapping[Phase, Callable[[Step], StepReport]] = {
            Phase.PAUSE: self._pause,
            Phase.BEFORE: self._script,
            Phase.MIGRATE: self._migrate,
            Phase.PREPARE: self._prepare,
            Phase.BUILD: self._build,
            Phase.CHECK: self._check,
            Phase.SWITCH: self._switch,
            Phase.MIGRATE_AFTER: self._migrate,
            Phase.DELIVER: self._deliver,
            Phase.WITHDRAW: self._withdraw,
            Phase.AFTER: self._script,
            Phase.RESUME: self._resume,
            Phase.VERIFY: self._verify,
            Phase.RECORD: self._record,
        }

    def at(self, place: OpenEnvironment) -> Steps:
        """The same steps, done through another connection."""
        return Steps(self.prepared, self.promotion, place, self.key, self.by, self.now)

    def carry_out(self, step: Step) -> StepReport:
        """Do a step.

        Raises:
            InchwormError: when it fails; then it had no effect.
        """
        return self.do[step.phase](step)

    def make_schemas(self) -> None:
        """Make the schemas that models are built in."""
        for schema in sorted({self.real(name).rpartition(".")[0] for name in self.building}):
            self.database.create_schema(schema)

    def discard_builds(self) -> None:
        """Remove everything that was built beside, and the marks of it."""
        with self.database.transaction():
            self.staging.discard()
            for step in self.steps:
                if step.phase is Phase.BUILD:
                    self.place.bookkeeping.forget_step(self.key, step.number)

    def unpause(self, step: Step) -> None:
        """Let a schedule run again that a pause step stopped."""
        self._set_schedule(step, "on")

    # ---- schedules ----------------------------------------------------------------------------

    def _pause(self, step: Step) -> StepReport:
        self._set_schedule(step, "paused")
        return _DONE

    def _resume(self, step: Step) -> StepReport:
        pipeline = step.part.partition(":")[2]
        declared = self.environment.schedule_state(pipeline, step.item)
        self._set_schedule(step, declared)
        return StepReport(state=StepState.DONE, message=f"is {declared}")

    def _set_schedule(self, step: Step, state: str) -> None:
        self.place.workspace.set_schedule(step.part.partition(":")[2], step.item, state)

    # ---- structure ----------------------------------------------------------------------------

    def document(self, part: str) -> Mapping[str, Any]:
        """A part as it is put into the environment."""
        return self.prepared.rendered[PartId.parse(part)].document

    def _script(self, step: Step) -> StepReport:
        when = "before" if step.phase is Phase.BEFORE else "after"
        script = next(s for s in self.document(step.part)[when] if s["name"] == step.item)
        with self.database.transaction(), self.structures.recording():
            self._run_script(script["sql"])
            self._mark(step)
        return _DONE

    def _migrate(self, step: Step) -> StepReport:
        return self._restructure(step) if step.action == "change" else self._run_migration(step)

    def _restructure(self, step: Step) -> StepReport:
        """Carry out a change of structure as it was drafted, and see that it has the effect."""
        is_late = step.phase is Phase.MIGRATE_AFTER
        drafted = self.promotion.draft.changes[step.part]
        now = [change for change in drafted if change.late is is_late]
        then = [change for change in drafted if change.late and not is_late]
        part = PartId.parse(step.part)
        document = self.document(step.part)
        self.database.create_schema(self.names.schema(part.name))
        wanted = wanted_structure(self.database, self.assembly, self.names, part, document)
        wanted = replace(wanted, others=wanted.others | self._others)
        with self.database.restructuring(in_the_way(now)):
            for change in now:
                for statement in change.statements:
                    self.database.execute(statement)
            left = [c.statements for c in wanted.changes(self.database)]
            if left != [change.statements for change in then]:
                raise TargetError(
                    f"{step.part} did not become what is wanted; left to do: {left[:3]}.",
                    next="Nothing was changed by it. Somebody may have changed it since: draft "
                    "again.",
                )
            self.structures.record_whole(part)
            self._mark(step)
        return StepReport(state=StepState.DONE, message=f"{len(now)} changes")

    def _is_last_in_row(self, step: Step) -> bool:
        """Whether the next step is no migration of the same schema."""
        following = next((s for s in self.steps if s.number == step.number + 1), None)
        return following is None or (following.part, following.phase) != (step.part, step.phase)

    @cached_property
    def _others(self) -> frozenset[str]:
        """What is live and not of our schemas, under its physical name."""
        return self.place.of_others(self.place.bookkeeping.parts())

    def _run_migration(self, step: Step) -> StepReport:
        part = PartId.parse(step.part)
        script = next(s for s in self.document(step.part)["migrations"] if s["name"] == step.item)
        started = time.monotonic()
        if step.action == "assume":
            with self.database.transaction():
                self.structures.record_assumed(part, script)
                self._ran(part, script, "assumed", started)
                self._mark(step)
            return StepReport(state=StepState.DONE, message="assumed")
        physical = self.names.schema(part.name)
        self.database.create_schema(physical)
        self.structures.note_before(part)
        if not script.get("transaction", True):
            self.place.bookkeeping.leave_unrecorded(physical)
            for statement in split_script(script["sql"], self.assembly.dialect):
                self.database.execute_without_transaction(self.names.statement(statement))
        with self.database.transaction():
            if script.get("transaction", True):
                self._run_script(script["sql"])
            self._ran(part, script, "ran", started)
            if self._is_last_in_row(step):
                self.structures.record_migrations(part)
            else:
                self.place.bookkeeping.leave_unrecorded(physical)
            self._mark(step)
        return StepReport(state=StepState.DONE, message="ran")

    def _ran(self, part: PartId, script: Mapping[str, Any], outcome: str, started: float) -> None:
        migration = RanMigration(
            schema=part.name,
            name=script["name"],
            checksum=script["checksum"],
            outcome=outcome,
            promotion=self.promotion.id,
            ran_at=self.now(),
            script=script["sql"],
        )
        self.place.bookkeeping.ran(migration, self.by, time.monotonic() - started)

    def undo(self, step: Step) -> bool:
        """Take a migration of this promotion back, with its undo script; False if it has none."""
        script = next(s for s in self.document(step.part)["migrations"] if s["name"] == step.item)
        if "undo" not in script:
            return False
        with self.database.transaction():
            self.structures.note_before(PartId.parse(step.part))
            self.place.bookkeeping.leave_unrecorded(self.names.schema(PartId.parse(step.part).name))
            self._run_script(script["undo"])
            self.place.bookkeeping.forget_migration(step.part.partition(":")[2], step.item)
            self.place.bookkeeping.forget_step(self.key, step.number)
        return True

    def _run_script(self, sql: str) -> None:
        for statement in split_script(sql, self.assembly.dialect):
            self.database.execute(self.names.statement(statement))

    def _prepare(self, step: Step) -> StepReport:
        table = self.assembly.tables[step.item]
        real = self.real(step.item)
        self.database.create_schema(real.rpartition(".")[0])
        with self.database.transaction(), self.structures.recording():
            live = self.database.structure([real.rpartition(".")[0]]).get(real)
            missing = [c for c in table.columns if live is None or c.name not in live.by_name]
            if live is None:
                columns = ", ".join(f"{quoted(c.name)} {self.type(c.type)}" for c in missing)
                self.database.execute(f"CREATE TABLE {quoted(real)} ({columns})")
            else:
                for c in missing:
                    self.database.execute(
                        f"ALTER TABLE {quoted(real)} ADD COLUMN {quoted(c.name)} "
                        f"{self.type(c.type)}"
                    )
            self._mark(step)
        return _DONE

    def type(self, type_: str) -> str:
        """A column type of the project's dialect in the database's."""
        kind = exp.DataType.build(type_, dialect=self.assembly.dialect, udt=True)
        return kind.sql(dialect=self.database.dialect)

    # ---- models -------------------------------------------------------------------------------

    def _build(self, step: Step) -> StepReport:
        name = step.part.partition(":")[2]
        document = self.document(step.part)
        beside = self._beside(name)
        with self.database.transaction():
            sql = self.sql(document["sql"], self._now_or_beside)
            rows: int | None
            if self._grows(document, self.real(name)):
                rows = self._grown(beside, self.real(name), sql, document)
            else:
                store = "view" if document["store"] == "view" else "table"
                rows = self.database.build(beside, store, sql)
            self.staging.built(self.real(name))
            self._mark(step)
        if rows is None:
            return StepReport(state=StepState.DONE, message="view")
        size = self.database.size(beside)
        message = f"{rows:,} {'row' if rows == 1 else 'rows'}"
        message += f", {_spell_size(size)}" if size is not None else ""
        return StepReport(state=StepState.DONE, message=message, rows=rows, size=size)

    def _grows(self, document: Mapping[str, Any], live: str) -> bool:
        """Whether a model keeps the rows that it has."""
        keeps = document["store"] == "increment" and document["on_change"] == "keep"
        return keeps and self.database.kinds().get(live) == "table"

    def _grown(self, beside: str, live: str, sql: str, document: Mapping[str, Any]) -> int:
        """Build the new rows of a model beside, and put to them those that stay."""
        key = document["key"]
        self.database.build(beside, "table", new_rows(sql, live, document["since"], key))
        tables = self.database.structure([live.rpartition(".")[0]])
        both = [c.name for c in tables[beside].columns if c.name.lower() in tables[live].by_name]
        self.database.execute(kept_rows(beside, live, both, key))
        return int(self.database.rows(f"SELECT count(*) FROM {quoted(beside)}")[0][0])

    def _check(self, step: Step) -> StepReport:
        part = PartId.parse(step.part)
        document = self.document(step.part)
        if part.kind is Kind.CHECK:
            return self._check_file(document)
        table = quoted(self._now_or_beside(part.name.lower()))
        if not self.database.rows(f"SELECT 1 FROM {table} LIMIT 1"):
            return StepReport(state=StepState.NOTHING_CHECKED, message="there are no rows")
        checks = checks_of(part.name.lower(), document["key"], document["checks"])
        faults = []
        for check in checks:
            sql = self.sql(check.query, self._now_or_beside)
            count = self.database.rows(sql)[0][0]
            if count:
                faults.append(f"{check.text}: {count:,} {'row' if count == 1 else 'rows'} not")
        if faults:
            return StepReport(state=StepState.FAILED, message="; ".join(faults))
        return StepReport(state=StepState.DONE, message=f"{len(checks)} checks hold")

    def _check_file(self, document: Mapping[str, Any]) -> StepReport:
        sql = self.sql(document["sql"], self._now_or_beside)
        count = self.database.rows(f"SELECT count(*) FROM ({sql}) AS found")[0][0]
        if not count:
            return StepReport(state=StepState.DONE, message="no row found")
        found = f"{count:,} {'row' if count == 1 else 'rows'} found"
        said = f"{document['message']}: {found}" if document["message"] else found
        failed = document["severity"] == "error"
        return StepReport(state=StepState.FAILED if failed else StepState.DONE, message=said)

    def _switch(self, step: Step) -> StepReport:
        if step.action == "remove":
            return self._remove_model(step)
        switches = []
        for built in self.steps:
            if built.phase is not Phase.BUILD:
                continue
            name = built.part.partition(":")[2]
            document = self.document(built.part)
            is_view = document["store"] == "view"
            switches.append(
                Switch(
                    name=self.real(name),
                    staging=self._beside(name),
                    store="view" if is_view else "table",
                    view_sql=self.sql(document["sql"], self.real) if is_view else None,
                    replaced=self.staging.replaced_name(self.real(name)),
                )
            )
        with self.database.transaction():
            self.staging.drop_replaced()
            self._switch_over(switches)
            self.place.bookkeeping.put(
                self._live_part(PartId.parse(s.part)) for s in self.steps if s.phase is Phase.BUILD
            )
            self._mark(step)
        return StepReport(state=StepState.DONE, message=f"{len(switches)} models live")

    def _switch_over(self, switches: Sequence[Switch]) -> None:
        """Switch over, and record what is aside now and what is live. Inside a transaction."""
        self.database.switch_over(switches)
        keep = self.environment.database.keep_replaced
        self.staging.switched(switches, keep_replaced=keep)
        self.structures.record_models({switch.name for switch in switches})

    def _remove_model(self, step: Step) -> StepReport:
        real = self.real(step.part.partition(":")[2])
        gone = Switch(
            name=real,
            staging=None,
            store="table",
            view_sql=None,
            replaced=self.staging.replaced_name(real),
        )
        with self.database.transaction():
            self.staging.drop_replaced()
            self._switch_over([gone])
            self.place.bookkeeping.remove(step.part)
            self._mark(step)
        return StepReport(state=StepState.DONE, message="removed; a table is kept aside")

    def sql(self, query: str | exp.Query, name: Callable[[str], str]) -> str:
        """A query as the database reads it, each table under the name that ``name`` gives it."""
        dialect = self.assembly.dialect
        tree = parse_query(query, dialect) if isinstance(query, str) else query
        return to_text(with_tables(tree, name, dialect), self.database.dialect)

    def real(self, name: str) -> str:
        """A logical table's name in this environment."""
        return self.names.table(name)

    def _beside(self, name: str) -> str:
        return self.staging.names[self.real(name)]

    def _now_or_beside(self, name: str) -> str:
        """Until the switch-over, what this promotion builds is read under its name beside."""
        return self._beside(name) if name in self.building else self.real(name)

    # ---- services -----------------------------------------------------------------------------

    def _deliver(self, step: Step) -> StepReport:
        part = PartId.parse(step.part)
        rendered = self.prepared.rendered[part]
        service = self.place.gateway if _in_gateway(part.kind) else self.place.workspace
        service.put(step.part, rendered.digest, rendered.document)
        message = "in place"
        if part.kind is Kind.FLOW:
            reason = self.place.gateway.activate(step.part)
            if reason is not None:
                return StepReport(
                    state=StepState.FAILED, message=f"the gateway refuses to activate it: {reason}"
                )
            message = "active"
        with self.database.transaction():
            self.place.bookkeeping.put([self._live_part(part)])
        return StepReport(state=StepState.DONE, message=message)

    def _withdraw(self, step: Step) -> StepReport:
        part = PartId.parse(step.part)
        service = self.place.gateway if _in_gateway(part.kind) else self.place.workspace
        service.remove(step.part)
        with self.database.transaction():
            self.place.bookkeeping.remove(step.part)
        return StepReport(state=StepState.DONE, message="removed")

    # ---- the end ------------------------------------------------------------------------------

    def _verify(self, step: Step) -> StepReport:
        """Read everything back from where it was put, and compare."""
        live = self.place.composition(self.now())
        wrong = []
        looked_at = 0
        for part, rendered in self.prepared.rendered.items():
            name = str(part)
            if name in self.failed:
                continue
            looked_at += 1
            if part.kind is Kind.MODEL and self.real(part.name) not in live.tables:
                wrong.append(f"{name} is not in the database")
            elif part.kind.value in SERVICE_KINDS:
                item = live.items.get(name)
                if item is None or item.digest != rendered.digest:
                    wrong.append(f"{name} is not there as it was put")
        for pipeline in self.assembly.of_kind(Kind.PIPELINE):
            for schedule in self.assembly.outlines[pipeline].schedule_names:
                declared = self.environment.schedule_state(pipeline.name, schedule)
                now = live.schedules.get(f"{pipeline.name}.{schedule}")
                if now != declared:
                    wrong.append(f"schedule {pipeline.name}.{schedule} is {now}, not {declared}")
        if wrong:
            return StepReport(state=StepState.FAILED, message="; ".join(wrong))
        return StepReport(state=StepState.DONE, message=f"{looked_at} parts are as they were put")

    def _record(self, step: Step) -> StepReport:
        """Say in the database what is live: every part of the bundle, also those left alone."""
        prepared, now = self.prepared, self.now()
        gone = set(self.place.composition(now).parts) - {str(p) for p in self.assembly.parts}
        with self.database.transaction():
            # first, as it asks which parts were live before
            schemas = self.assembly.of_kind(Kind.SCHEMA)
            self.structures.record_rest(
                [part for part in schemas if not self.assembly.facts[part].managed_outside],
                {part for part in schemas if "wanted" in self.document(str(part))},
            )
            self.place.bookkeeping.put(self._live_part(part) for part in self.assembly.parts)
            leaving = [n for n in gone if not n.startswith(f"{Kind.SCHEMA.value}:")]
            if leaving:
                self.place.bookkeeping.remove(*leaving)
            self.place.bookkeeping.completed(
                LastPromotion(
                    promotion=self.promotion.id,
                    bundle=prepared.bundle.name,
                    digest=prepared.bundle.digest,
                    commit=prepared.bundle.commit,
                    by=self.by,
                    at=now,
                )
            )
            self._mark(step)
        return StepReport(state=StepState.DONE, message=f"{len(self.assembly.parts)} parts")

    def _live_parts(self) -> dict[str, LivePart]:
        return {str(part): self._live_part(part) for part in self.assembly.parts}

    def _live_part(self, part: PartId) -> LivePart:
        facts = self.assembly.facts[part]
        bundle = self.prepared.bundle
        return LivePart(
            part=str(part),
            project=bundle.project,
            bundle=bundle.name,
            digest=self.prepared.rendered[part].digest,
            content=self.assembly.parts[part].digest,
            commit=bundle.commit,
            promotion=self.promotion.id,
            put_at=self.now(),
            values={use.parameter: self.prepared.values[use.parameter].text for use in facts.uses},
            tables={t.name: tuple((c.name, c.type) for c in t.columns) for t in facts.provides},
            required={
                t.name: names
                for t in facts.provides
                if (names := tuple(c.name for c in t.columns if c.required))
            },
            managed=not facts.managed_outside,
            keys={t.name: t.key for t in facts.provides if t.key},
            reads={table: tuple(sorted(names)) for table, names in facts.columns_read.items()},
        )

    def _mark(self, step: Step) -> None:
        self.place.bookkeeping.record_step(self.key, step.number, self.now())


_DONE = StepReport(state=StepState.DONE)


def _in_gateway(kind: Kind) -> bool:
    return kind in {Kind.CONNECTION, Kind.FLOW}


def _spell_size(size: int) -> str:
    """Bytes in the largest unit of which there is at least one: ``3.4 MB``."""
    amount, unit = float(size), "bytes"
    for larger in ("kB", "MB", "GB", "TB"):
        if amount < 1000:
            break
        amount, unit = amount / 1000, larger
    return f"{amount:.0f} {unit}" if unit == "bytes" else f"{amount:.1f} {unit}"
