"""Carrying out a promotion, step by step, so that it can go on after a crash at any instant.

Every step is journalled in the ledger before and after. A database step leaves a mark in the
database's own bookkeeping within its transaction; if the ledger does not know how a step ended, the
mark tells. Service calls can be repeated without harm. So a promotion that stopped goes on at its
first step that is not done, and nothing takes effect twice.

A failure before the switch-over puts the environment back: what was built beside is removed, paused
schedules resume. Migrations that ran stay, and are said so. After the switch-over the remaining
steps are tried all the same, and the promotion ends *partly done*.
"""

from __future__ import annotations

import os
import time
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

from sqlglot import exp

from inchworm.core.composition import (
    BESIDE,
    KEPT,
    SERVICE_KINDS,
    LastPromotion,
    LivePart,
    RanMigration,
)
from inchworm.core.datachecks import checks_of
from inchworm.core.drafting import environment_state, real_name, values_digest
from inchworm.core.errors import EnvironmentMoved, InchwormError, UsageError
from inchworm.core.parts import Kind, PartId
from inchworm.core.promotion import (
    BEFORE_SWITCH,
    Phase,
    Promotion,
    State,
    Step,
    StepReport,
    StepState,
)
from inchworm.core.sql.parse import parse_query, split_script
from inchworm.core.sql.render import to_text, with_real_names, with_tables
from inchworm.engine.places import Lock, Place, open_place
from inchworm.engine.promote import Prepared
from inchworm.store.ledger import Ledger
from inchworm.targets.databases.base import Switch, quoted


class Reporter:
    """Hears what happens. The methods are empty: override what is wanted."""

    def reached(self, identity: str, at: str) -> None:
        """The environment is open, and nothing has been done yet."""

    def step_started(self, step: Step) -> None:
        """A step begins."""

    def step_ended(self, step: Step, report: StepReport) -> None:
        """A step has ended."""


@dataclass(kw_only=True)
class Work:
    """Everything that carrying out needs.

    Attributes:
        now: the current time, ISO 8601, UTC.
        locks: the folder for lock files.
    """

    prepared: Prepared
    promotion: Promotion
    ledger: Ledger
    root: Path
    locks: Path
    by: str
    now: Callable[[], str]
    reporter: Reporter = field(default_factory=Reporter)


def carry_out(work: Work) -> Promotion:
    """Carry out a promotion, or go on with one that stopped.

    Raises:
        EnvironmentMoved: when the environment is not as drafted, or is locked.
        UsageError: when the promotion is over already.
        KeyboardInterrupt: after recording where it stopped.
    """
    promotion = work.promotion
    if promotion.state in {State.DONE, State.DROPPED}:
        raise UsageError(
            f"{promotion.id} is {promotion.state}.",
            next="Draft a new one: inchworm promote BUNDLE.",
        )
    lock = Lock(work.locks, promotion.draft.environment)
    holder = {"by": work.by, "promotion": promotion.id, "process": os.getpid()}
    prepared = work.prepared
    with (
        lock.held(holder),
        open_place(
            prepared.environment,
            prepared.bundle.project,
            work.root,
            prepared.values,
            read_only=False,
        ) as place,
    ):
        work.promotion = work.ledger.promotion(promotion.id)
        _check_unmoved(work, place)
        work.reporter.reached(place.identity, work.now())
        return _Carrier(work, place).run()


def _check_unmoved(work: Work, place: Place) -> None:
    """The environment must be as drafted; after a stop, nobody else may have been there."""
    promotion, draft = work.promotion, work.promotion.draft
    again = f"inchworm promote {draft.bundle} --to {draft.environment}"
    if draft.bundle_digest != work.prepared.bundle.digest:
        raise EnvironmentMoved(
            f"{draft.bundle} is not the bundle that {promotion.id} was drafted with.",
            next=f"Draft again: {again}",
        )
    if promotion.state is not State.DRAFTED:
        number = int(promotion.id[1:])
        later = [
            other.id
            for other in work.ledger.promotions()
            if int(other.id[1:]) > number
            and other.draft.environment == draft.environment
            and other.state not in {State.DRAFTED, State.DROPPED}
        ]
        if later:
            raise EnvironmentMoved(
                f"{later[-1]} went into {draft.environment} after {promotion.id} stopped.",
                next=f"Draft again: {again}",
            )
        return
    now = environment_state(work.prepared.environment, place.composition(work.now()))
    if now != draft.environment_state or values_digest(work.prepared.values) != draft.values_digest:
        raise EnvironmentMoved(
            f"{draft.environment} moved since {promotion.id} was drafted "
            f"at {promotion.drafted_at}.",
            next=f"Draft again: {again}",
        )


class _Carrier:
    def __init__(self, work: Work, place: Place) -> None:
        self.work = work
        self.place = place
        self.prepared = work.prepared
        self.assembly = work.prepared.reading.assembly
        self.environment = work.prepared.environment
        self.database = place.database
        self.steps = work.promotion.draft.steps
        self.key = f"{work.ledger.id}:{work.promotion.id}"
        self.building = {s.part.partition(":")[2] for s in self.steps if s.phase is Phase.BUILD}
        self.failed: list[str] = []
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

    def run(self) -> Promotion:
        """All steps that are not done yet."""
        work = self.work
        before = work.promotion
        work.promotion = work.ledger.move(before, State.RUNNING)
        self.place.bookkeeping.ensure()
        marks = self.place.bookkeeping.marks(self.key)
        for step in self.steps:
            known = work.promotion.report_of(step).state
            if known in {StepState.DONE, StepState.NOTHING_CHECKED}:
                continue
            if step.number in marks:
                self._journal(step, StepReport(state=StepState.DONE, message="took effect before"))
                continue
            if self.failed and step.phase is Phase.RECORD:
                break
            try:
                report = self._carry(step)
            except KeyboardInterrupt:
                self._stopped(step)
                raise
            if report.state is StepState.FAILED:
                self.failed.append(step.part)
                if step.phase in BEFORE_SWITCH:
                    return self._put_back(step, report)
        if self.failed:
            message = f"{len(self.failed)} of {len(self.steps)} steps failed"
            return work.ledger.move(work.promotion, State.PARTLY_DONE, message)
        return work.ledger.move(work.promotion, State.DONE)

    def _carry(self, step: Step) -> StepReport:
        self.work.reporter.step_started(step)
        self.work.ledger.step(self.work.promotion, step.number, StepReport(state=StepState.RUNNING))
        started = time.monotonic()
        try:
            report = self.do[step.phase](step)
        except InchwormError as error:
            message = f"{error.what} {error.next or ''}".strip()
            report = StepReport(state=StepState.FAILED, message=message)
        report = replace(report, seconds=time.monotonic() - started)
        self._journal(step, report)
        return report

    def _journal(self, step: Step, report: StepReport) -> None:
        self.work.ledger.step(self.work.promotion, step.number, report)
        self.work.reporter.step_ended(step, report)

    # ---- stopping -----------------------------------------------------------------------------

    def _stopped(self, step: Step) -> None:
        """Somebody pressed Ctrl-C: schedules run again, what was built is kept for going on."""
        self._unpause()
        message = f"stopped by {self.work.by} at step {step.number} of {len(self.steps)}"
        self.work.ledger.move(self.work.promotion, State.FAILED, message)

    def _put_back(self, step: Step, report: StepReport) -> Promotion:
        """A step failed before the switch-over: leave the environment as it was."""
        with self.database.transaction():
            for other in self.steps:
                if other.phase is Phase.BUILD:
                    self.database.drop(self._beside(other.part.partition(":")[2]))
                    self.place.bookkeeping.unmark(self.key, other.number)
        for other in self.steps:
            if other.phase in {Phase.BUILD, Phase.CHECK} and other != step:
                self._wait_again(other)
        self._unpause()
        ran = [
            other.item
            for other in self.steps
            if other.phase is Phase.MIGRATE
            and self.work.ledger.promotion(self.work.promotion.id).report_of(other).state
            is StepState.DONE
        ]
        stayed = f"; these migrations ran and stay: {', '.join(ran)}" if ran else ""
        message = f"step {step.number} ({step.part}) failed before the switch-over{stayed}"
        return self.work.ledger.move(self.work.promotion, State.FAILED, message)

    def _unpause(self) -> None:
        for step in self.steps:
            if step.phase is Phase.PAUSE:
                self._set_schedule(step, "on")
                self._wait_again(step)

    def _wait_again(self, step: Step) -> None:
        self.work.ledger.step(self.work.promotion, step.number, StepReport(state=StepState.WAITING))

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

    def _document(self, part: str) -> Mapping[str, Any]:
        return self.prepared.rendered[PartId.parse(part)].document

    def _script(self, step: Step) -> StepReport:
        when = "before" if step.phase is Phase.BEFORE else "after"
        script = next(s for s in self._document(step.part)[when] if s["name"] == step.item)
        with self.database.transaction():
            self._run_script(script["sql"])
            self._mark(step)
        return _DONE

    def _migrate(self, step: Step) -> StepReport:
        schema = step.part.partition(":")[2]
        script = next(s for s in self._document(step.part)["migrations"] if s["name"] == step.item)
        started = time.monotonic()
        assumed = step.action == "assume"
        with self.database.transaction():
            if not assumed:
                self.database.create_schema(self.environment.database.real_schema(schema))
                self._run_script(script["sql"])
            migration = RanMigration(
                schema=schema,
                name=script["name"],
                checksum=script["checksum"],
                outcome="assumed" if assumed else "ran",
                promotion=self.work.promotion.id,
                ran_at=self.work.now(),
            )
            self.place.bookkeeping.ran(migration, self.work.by, time.monotonic() - started)
            self._mark(step)
        return StepReport(state=StepState.DONE, message="assumed" if assumed else "ran")

    def _run_script(self, sql: str) -> None:
        dialect = self.assembly.dialect
        renames = self.environment.database.schema_pattern != "{schema}"
        for statement in split_script(sql, dialect):
            if renames or dialect != self.database.dialect:
                statement = with_real_names(
                    statement, self._schema_name, dialect, self.database.dialect
                )
            self.database.execute(statement)

    def _schema_name(self, schema: str) -> str:
        if schema in self.assembly.outside_schemas:
            return schema
        return self.environment.database.real_schema(schema)

    def _prepare(self, step: Step) -> StepReport:
        table = self.assembly.tables[step.item]
        real = self._real(step.item)
        with self.database.transaction():
            self.database.create_schema(real.rpartition(".")[0])
            live = self.database.structure([real.rpartition(".")[0]]).get(real)
            missing = [c for c in table.columns if live is None or c.name not in live.by_name]
            if live is None:
                columns = ", ".join(f"{quoted(c.name)} {self._type(c.type)}" for c in missing)
                self.database.execute(f"CREATE TABLE {quoted(real)} ({columns})")
            else:
                for c in missing:
                    self.database.execute(
                        f"ALTER TABLE {quoted(real)} ADD COLUMN {quoted(c.name)} "
                        f"{self._type(c.type)}"
                    )
            self._mark(step)
        return _DONE

    def _type(self, type_: str) -> str:
        """A column type of the project's dialect in the database's."""
        kind = exp.DataType.build(type_, dialect=self.assembly.dialect, udt=True)
        return kind.sql(dialect=self.database.dialect)

    # ---- models -------------------------------------------------------------------------------

    def _build(self, step: Step) -> StepReport:
        name = step.part.partition(":")[2]
        document = self._document(step.part)
        beside = self._beside(name)
        with self.database.transaction():
            self.database.create_schema(beside.rpartition(".")[0])
            sql = self._sql(document["sql"], self._now_or_beside)
            rows = self.database.build(beside, document["store"], sql)
            self._mark(step)
        message = "view" if rows is None else f"{rows:,} rows"
        return StepReport(state=StepState.DONE, message=message)

    def _check(self, step: Step) -> StepReport:
        part = PartId.parse(step.part)
        document = self._document(step.part)
        if part.kind is Kind.CHECK:
            return self._check_file(document)
        table = quoted(self._now_or_beside(part.name.lower()))
        if not self.database.rows(f"SELECT 1 FROM {table} LIMIT 1"):
            return StepReport(state=StepState.NOTHING_CHECKED, message="there are no rows")
        checks = checks_of(part.name.lower(), document["key"], document["checks"])
        faults = []
        for check in checks:
            sql = self._sql(check.query, self._now_or_beside)
            count = self.database.rows(sql)[0][0]
            if count:
                faults.append(f"{check.text}: {count:,} {'row' if count == 1 else 'rows'} not")
        if faults:
            return StepReport(state=StepState.FAILED, message="; ".join(faults))
        return StepReport(state=StepState.DONE, message=f"{len(checks)} checks hold")

    def _check_file(self, document: Mapping[str, Any]) -> StepReport:
        sql = self._sql(document["sql"], self._now_or_beside)
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
            document = self._document(built.part)
            is_view = document["store"] == "view"
            switches.append(
                Switch(
                    name=self._real(name),
                    beside=self._beside(name),
                    store=document["store"],
                    view_sql=self._sql(document["sql"], self._real) if is_view else None,
                    kept=self._real(name) + KEPT,
                )
            )
        with self.database.transaction():
            self.database.switch_over(switches)
            self.place.bookkeeping.put(
                self._live_part(PartId.parse(s.part)) for s in self.steps if s.phase is Phase.BUILD
            )
            self._mark(step)
        return StepReport(state=StepState.DONE, message=f"{len(switches)} models live")

    def _remove_model(self, step: Step) -> StepReport:
        real = self._real(step.part.partition(":")[2])
        gone = Switch(name=real, beside=None, store="table", view_sql=None, kept=real + KEPT)
        with self.database.transaction():
            self.database.switch_over([gone])
            self.place.bookkeeping.remove(step.part)
            self._mark(step)
        return StepReport(state=StepState.DONE, message="removed; a table is kept aside")

    def _sql(self, query: str | exp.Query, name: Callable[[str], str]) -> str:
        dialect = self.assembly.dialect
        tree = parse_query(query, dialect) if isinstance(query, str) else query
        return to_text(with_tables(tree, name, dialect), self.database.dialect)

    def _real(self, name: str) -> str:
        return real_name(name.lower(), self.assembly, self.environment)

    def _beside(self, name: str) -> str:
        return self._real(name) + BESIDE

    def _now_or_beside(self, name: str) -> str:
        """Until the switch-over, what this promotion builds is read under its name beside."""
        return self._beside(name) if name in self.building else self._real(name)

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
        live = self.place.composition(self.work.now())
        wrong = []
        looked_at = 0
        for part, rendered in self.prepared.rendered.items():
            name = str(part)
            if name in self.failed:
                continue
            looked_at += 1
            if part.kind is Kind.MODEL and self._real(part.name) not in live.tables:
                wrong.append(f"{name} is not in the database")
            elif part.kind.value in SERVICE_KINDS:
                item = live.items.get(name)
                if item is None or item.digest != rendered.digest:
                    wrong.append(f"{name} is not there as it was put")
        for pipeline in self.assembly.of_kind(Kind.PIPELINE):
            for schedule in self.assembly.facts[pipeline].schedules:
                declared = self.environment.schedule_state(pipeline.name, schedule)
                now = live.schedules.get(f"{pipeline.name}.{schedule}")
                if now != declared:
                    wrong.append(f"schedule {pipeline.name}.{schedule} is {now}, not {declared}")
        if wrong:
            return StepReport(state=StepState.FAILED, message="; ".join(wrong))
        return StepReport(state=StepState.DONE, message=f"{looked_at} parts are as they were put")

    def _record(self, step: Step) -> StepReport:
        """Say in the database what is live: every part of the bundle, also those left alone."""
        prepared, now = self.prepared, self.work.now()
        gone = set(self.place.composition(now).parts) - {str(p) for p in self.assembly.parts}
        with self.database.transaction():
            self.place.bookkeeping.put(self._live_part(part) for part in self.assembly.parts)
            leaving = [n for n in gone if not n.startswith(f"{Kind.SCHEMA.value}:")]
            if leaving:
                self.place.bookkeeping.remove(*leaving)
            self.place.bookkeeping.completed(
                LastPromotion(
                    promotion=self.work.promotion.id,
                    bundle=prepared.bundle.name,
                    digest=prepared.bundle.digest,
                    commit=prepared.bundle.commit,
                    by=self.work.by,
                    at=now,
                )
            )
            self._mark(step)
        return StepReport(state=StepState.DONE, message=f"{len(self.assembly.parts)} parts")

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
            promotion=self.work.promotion.id,
            put_at=self.work.now(),
            values={use.parameter: self.prepared.values[use.parameter].text for use in facts.uses},
            tables={t.name: tuple((c.name, c.type) for c in t.columns) for t in facts.provides},
            reads={r.table: tuple(sorted(r.columns or ())) for r in facts.reads},
        )

    def _mark(self, step: Step) -> None:
        self.place.bookkeeping.mark(self.key, step.number, self.work.now())


_DONE = StepReport(state=StepState.DONE)


def _in_gateway(kind: Kind) -> bool:
    return kind in {Kind.CONNECTION, Kind.FLOW}
