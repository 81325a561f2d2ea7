"""Drafting: what a promotion would do in an environment as it stands, each step with its reason.

Pure: the bundle, its values, and what is live come in; a
:class:`~inchworm.core.promotion.Draft` comes out, its steps in the order of
:class:`~inchworm.core.promotion.Phase`.
"""

from __future__ import annotations

import datetime as dt
from collections import Counter
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from inchworm.core.checks import rules
from inchworm.core.checks.environment_rules import breaking, check_environment, drifted, hanging
from inchworm.core.composition import SERVICE_KINDS, Composition, LivePart
from inchworm.core.environments import Environment
from inchworm.core.errors import ProjectError
from inchworm.core.facts import Assembly
from inchworm.core.findings import Finding, Severity, in_order
from inchworm.core.migrations import Pending, pending_migrations
from inchworm.core.parts import Digest, Kind, PartId, digest_of
from inchworm.core.physical_names import PhysicalNames, physical_table
from inchworm.core.promotion import DifferingValue, Draft, Phase, Step, UsedSecret
from inchworm.core.rendering import Rendered, canonical
from inchworm.core.sql.columns import tables_in
from inchworm.core.sql.parse import parse_statements, split_script
from inchworm.core.structure.changes import Change, Effect
from inchworm.core.structure.definitions import Thing
from inchworm.core.values import Value

#: Service parts are delivered in this order: what others need comes first.
_DELIVERY = (Kind.CONNECTION, Kind.LIBRARY, Kind.FLOW, Kind.NOTEBOOK, Kind.PIPELINE)


@dataclass(frozen=True, kw_only=True)
class Planned:
    """The changes by which a schema gets the structure that is wanted, and what is against them."""

    changes: tuple[Change, ...]
    findings: tuple[Finding, ...] = ()


@dataclass(frozen=True, kw_only=True)
class Request:
    """Everything that a draft is made from."""

    bundle: str
    bundle_digest: Digest
    environment: Environment
    assembly: Assembly
    rendered: Mapping[PartId, Rendered]
    values: Mapping[str, Value]
    live: Composition
    names: PhysicalNames
    today: dt.date
    came_from: str | None = None
    values_there: Mapping[str, Value] = field(default_factory=dict)
    secrets: tuple[UsedSecret, ...] = ()
    planned: Mapping[PartId, Planned] = field(default_factory=dict)
    """What schemas with a wanted structure need."""
    baselines: Mapping[PartId, Sequence[str]] = field(default_factory=dict)
    """Of schemas that may have their baseline already, what is otherwise, in words."""
    overwrite: bool = False
    """Whether changes that were made by hand may be lost."""
    overrides: Mapping[str, str] = field(default_factory=dict)


def draft(request: Request) -> Draft:
    """What promoting the bundle would do."""
    return _Drafting(request).draft()


def environment_state(environment: Environment, live: Composition) -> Digest:
    """Digest of an environment as declared and as it stands."""
    declared = {
        "url": environment.database.url,
        "schema_pattern": environment.database.schema_pattern,
        "workspace": environment.workspace.url,
        "gateway": environment.gateway.url,
        "default": environment.default_schedule,
        "schedules": dict(environment.schedules),
        "live": live.state,
    }
    return digest_of(canonical(declared))


def values_digest(values: Mapping[str, Value]) -> Digest:
    """Digest of all values; of secrets, the references."""
    return digest_of(canonical({name: value.text for name, value in values.items()}))


class _Drafting:
    def __init__(self, request: Request) -> None:
        self.request = request
        self.assembly = request.assembly
        self.live = request.live
        self.findings: list[Finding] = []
        self.reasons: dict[PartId, tuple[str, str]] = {}
        """Action and reason of every part that does not stay as it is."""

    def draft(self) -> Draft:
        request = self.request
        pending, wrong = pending_migrations(
            self.assembly,
            request.rendered,
            self.live,
            request.environment.database,
            request.baselines,
        )
        self.findings.extend(wrong)
        self.findings.extend(self._names_left(pending))
        for part in self.assembly.parts:
            changed = self._changed(part)
            if changed is not None:
                self.reasons[part] = changed
        self._spread(pending)
        self.findings.extend(check_environment(self.assembly, self.live))
        self._permit()
        early = {p.schema for p in pending if p.when == "before" and not p.assumed}
        early |= {
            schema for schema, p in self._planned if any(c.lost and not c.late for c in p.changes)
        }
        changing = [schema for schema, planned in self._planned if planned.changes]
        touched = {str(part) for part in [*self.reasons, *(p.schema for p in pending), *changing]}
        environment = self.request.environment
        self.findings.extend(breaking(self.assembly, self.live, early, environment))
        taken_up = {key for p in pending for key in p.takes_up} | self._as_wanted()
        self.findings.extend(
            drifted(
                self.live,
                touched,
                taken_up,
                environment,
                self._remade(),
                overwrite=self.request.overwrite,
            )
        )
        removed = self._removed()
        replaced = [part for part in (*self.reasons, *removed) if part.kind is Kind.MODEL]
        self.findings.extend(
            hanging(self.live, {self._real(part.name): str(part) for part in replaced})
        )
        steps = _numbered(self._steps(pending, removed))
        return Draft(
            environment=request.environment.name,
            bundle=request.bundle,
            bundle_digest=request.bundle_digest,
            today=request.today.isoformat(),
            environment_state=environment_state(request.environment, self.live),
            values_digest=values_digest(request.values),
            steps=steps,
            findings=tuple(in_order(self.findings)),
            differing=self._differing(),
            values=self._values_used(),
            secrets=request.secrets,
            changes={str(part): planned.changes for part, planned in self._planned},
            overrides=request.overrides,
            came_from=request.came_from,
            left_alone=self._left_alone(),
        )

    # ---- what changes -------------------------------------------------------------------------

    def _changed(self, part: PartId) -> tuple[str, str] | None:
        """Action and reason for a part by itself, without what is upstream of it."""
        rendered = self.request.rendered[part]
        live = self.live.parts.get(str(part))
        if part.kind.value in SERVICE_KINDS:
            return self._changed_item(part, rendered, live)
        if live is None:
            return "add", "new here"
        if live.digest != rendered.digest:
            return "change", self._why(part, live)
        if part.kind is Kind.MODEL and self._real(part.name) not in self.live.tables:
            return "rebuild", "is missing in the database"
        return None

    def _changed_item(
        self, part: PartId, rendered: Rendered, live: LivePart | None
    ) -> tuple[str, str] | None:
        item = self.live.items.get(str(part))
        if item is None:
            return "add", "new here" if live is None else "was removed there by hand"
        if item.digest != rendered.digest:
            if live is not None and live.digest == rendered.digest:
                return "change", "was changed there by hand"
            return "change", self._why(part, live) if live else "is there, but not from a bundle"
        if part.kind is Kind.FLOW and item.state != "active":
            return "change", "is not active"
        return None

    def _why(self, part: PartId, live: LivePart) -> str:
        """Why a part is rendered differently from what is live."""
        if live.content != self.assembly.parts[part].digest:
            return "content changed"
        used = sorted({use.parameter for use in self.assembly.outlines[part].uses})
        changed = [n for n in used if live.values.get(n) != self.request.values[n].text]
        if changed:
            return (
                f"{'parameter' if len(changed) == 1 else 'parameters'} {', '.join(changed)} changed"
            )
        return "rendered differently"

    def _spread(self, pending: Sequence[Pending]) -> None:
        """Everything that reads what changes is built again, in lineage order."""
        touched = self._tables_touched(pending)
        for part in self.assembly.model_order:
            if part in self.reasons:
                continue
            rebuilt = [
                other.name
                for other in sorted(self.assembly.upstream[part])
                if other.kind is Kind.MODEL and other in self.reasons
            ]
            by_schema = [table for table in self.assembly.outlines[part].reads if table in touched]
            if rebuilt:
                self.reasons[part] = ("rebuild", f"depends on {_listed(rebuilt)}")
            elif by_schema:
                self.reasons[part] = ("rebuild", f"a migration changes {_listed(by_schema)}")

    def _tables_touched(self, pending: Sequence[Pending]) -> set[str]:
        touched: set[str] = set()
        for migration in pending:
            if migration.assumed:
                continue
            for script in self._scripts(migration.schema, "migrations"):
                if script["name"] == migration.name:
                    for statement in parse_statements(script["sql"], self.assembly.dialect):
                        touched |= set(tables_in(statement, self.assembly.dialect))
        for schema, planned in self._planned:
            for change in planned.changes:
                if not change.late and (change.lost or change.effect is Effect.SLOW):
                    table = ".".join(change.name.partition(".")[2].split(".")[:1])
                    touched.add(f"{schema.name}.{table}")
        return touched

    def _removed(self) -> list[PartId]:
        """Parts that are live but no longer in the bundle. Schemas stay: they hold data."""
        removed = []
        for name in self.live.parts:
            part = PartId.parse(name)
            if part in self.assembly.parts:
                continue
            if part.kind is Kind.SCHEMA:
                message = f"{part} is not in the bundle any more; its tables stay"
                self.findings.append(rules.HELD.finding(message, part=part))
            else:
                removed.append(part)
        return removed

    def _scripts(self, schema: PartId, when: str) -> list[Mapping[str, Any]]:
        return list(self.request.rendered[schema].document.get(when, ()))

    def _names_left(self, pending: Sequence[Pending]) -> Iterator[Finding]:
        """Statements that are going to run, and would reach schemas of others here."""
        running = {(p.schema, p.name) for p in pending if not p.assumed}
        for schema in self.assembly.of_kind(Kind.SCHEMA):
            migrations = [
                script
                for script in self._scripts(schema, "migrations")
                if (schema, script["name"]) in running
            ]
            always = [s for when in ("before", "after") for s in self._scripts(schema, when)]
            for script in [*migrations, *always]:
                for key in ("sql", "undo"):
                    for statement in split_script(script.get(key, ""), self.assembly.dialect):
                        try:
                            self.request.names.statement(statement)
                        except ProjectError as error:
                            yield rules.SCHEMA_NAME_LEFT.finding(
                                error.what, part=schema, file=script.get("file")
                            )

    # ---- wanted structure ---------------------------------------------------------------------

    @property
    def _planned(self) -> list[tuple[PartId, Planned]]:
        return sorted(self.request.planned.items())

    def _permit(self) -> None:
        """What loses data needs a permission, by name; and rows may stand in the way."""
        may_lose = set(self.request.environment.database.may_lose)
        for schema, planned in self._planned:
            self.findings.extend(planned.findings)
            for change in planned.changes:
                for name, rows in zip(change.lost, change.rows, strict=True):
                    logical = f"{schema.name}.{name.partition('.')[2]}"
                    table = ".".join(logical.split(".")[:2])
                    allowed = not may_lose.isdisjoint({logical, table})
                    self.findings.append(
                        rules.LOSES_DATA.finding(
                            f"{change.what} {change.name} loses {rows} values of {name}",
                            part=schema,
                            file=self.request.environment.file,
                            severity=Severity.NOTE if allowed else None,
                            remedy="It is listed under may_lose." if allowed else None,
                        )
                    )

    def _remade(self) -> set[str]:
        """Tables that a change of structure makes again, by key."""
        return {
            f"{Thing.TABLE.value} {change.name}"
            for _, planned in self._planned
            for change in planned.changes
            if change.what == "make table"
        }

    def _as_wanted(self) -> set[str]:
        """Changes made by hand to schemas of wanted structure that agree with what is wanted."""
        touched = [
            name
            for _, planned in self._planned
            for change in planned.changes
            for name in change.name.split(", ")
        ]
        schemas = {self._real(f"{schema.name}.x").rpartition(".")[0] for schema, _ in self._planned}
        return {
            d.key
            for d in self.live.differences
            if d.name.partition(".")[0] in schemas
            and not any(name == d.name or name.startswith(f"{d.name}.") for name in touched)
        }

    def _restructurings(self, phase: Phase, *, late: bool) -> Iterator[Step]:
        for schema, planned in self._planned:
            changes = [change for change in planned.changes if change.late is late]
            if changes:
                counts = Counter(change.effect for change in changes)
                said = ", ".join(f"{counts[e]} {e.value}" for e in Effect if counts[e])
                item = "what goes" if late else "wanted structure"
                yield _step(phase, str(schema), "change", said, item)

    # ---- steps --------------------------------------------------------------------------------

    def _steps(self, pending: Sequence[Pending], removed: Sequence[PartId]) -> list[Step]:
        paused, resumed = self._schedules()
        work = [
            *self._migrations(pending, Phase.MIGRATE, "before"),
            *self._restructurings(Phase.MIGRATE, late=False),
            *self._stored_tables(),
            *self._builds(removed),
            *self._migrations(pending, Phase.MIGRATE_AFTER, "after"),
            *self._restructurings(Phase.MIGRATE_AFTER, late=True),
            *self._deliveries(removed),
        ]
        recorded = self._recorded(removed)
        if not work and not resumed and not recorded:
            return []
        scripts_before = self._always("before", Phase.BEFORE) if work else []
        scripts_after = self._always("after", Phase.AFTER) if work else []
        steps = [*paused, *scripts_before, *work, *scripts_after, *resumed]
        if steps:
            steps.append(_step(Phase.VERIFY, "environment", "verify", "everything is read back"))
        what = f"{self.request.bundle} is what runs here"
        steps.append(_step(Phase.RECORD, "environment", "record", what))
        return sorted(steps, key=lambda step: _PLACE[step.phase])

    def _migrations(self, pending: Sequence[Pending], phase: Phase, when: str) -> Iterator[Step]:
        for migration in pending:
            if migration.when != when:
                continue
            if migration.assumed:
                action, reason = "assume", "what it would make is there already"
                if migration.takes_up:
                    reason = "it takes up what was changed here by hand"
            else:
                action, reason = "run", "has not run in this database"
            yield _step(phase, str(migration.schema), action, reason, migration.name)

    def _always(self, when: str, phase: Phase) -> list[Step]:
        return [
            _step(phase, str(schema), "run", "runs at every promotion", script["name"])
            for schema in self.assembly.of_kind(Kind.SCHEMA)
            for script in self._scripts(schema, when)
        ]

    def _stored_tables(self) -> Iterator[Step]:
        """Tables that notebooks fill must be there before what reads them is built."""
        for part in self.assembly.of_kind(Kind.NOTEBOOK):
            for table in self.assembly.facts[part].provides:
                live = self.live.tables.get(self._real(table.name))
                if live is None and table.columns:
                    reason = "its table is not there yet"
                    yield _step(Phase.PREPARE, str(part), "add", reason, table.name)
                elif live is not None:
                    new = [c.name for c in table.columns if c.name not in live.by_name]
                    if new:
                        reason = f"its table lacks {', '.join(new)}"
                        yield _step(Phase.PREPARE, str(part), "change", reason, table.name)

    def _builds(self, removed: Sequence[PartId]) -> Iterator[Step]:
        built = [part for part in self.assembly.model_order if part in self.reasons]
        for part in built:
            action, reason = self.reasons[part]
            document = self.request.rendered[part].document
            if document.get("on_change") == "keep" and self._real(part.name) in self.live.tables:
                reason += "; its rows stay, new ones come"
            yield _step(Phase.BUILD, str(part), action, reason)
        for part in built:
            document = self.request.rendered[part].document
            if document["key"] or document["checks"]:
                yield _step(Phase.CHECK, str(part), "check", "its data before anybody sees it")
        rebuilt = {part.name for part in built}
        for check in self.assembly.of_kind(Kind.CHECK):
            read = sorted(rebuilt.intersection(self.assembly.outlines[check].reads))
            if read:
                reason = f"reads {_listed(read)}"
                yield _step(Phase.CHECK, str(check), "check", reason)
            elif check in self.reasons:
                yield _step(Phase.CHECK, str(check), "check", self.reasons[check][1])
        gone = [part for part in removed if part.kind is Kind.MODEL]
        for part in gone:
            yield _step(Phase.SWITCH, str(part), "remove", "is not in the bundle any more")
        if built:
            what = f"{len(built)} built beside go live together"
            yield _step(Phase.SWITCH, "models", "switch over", what)

    def _deliveries(self, removed: Sequence[PartId]) -> Iterator[Step]:
        for kind in _DELIVERY:
            for part in self.assembly.of_kind(kind):
                if part in self.reasons:
                    yield _step(Phase.DELIVER, str(part), *self.reasons[part])
        for kind in reversed(_DELIVERY):
            for part in removed:
                if part.kind is kind:
                    reason = "is not in the bundle any more"
                    yield _step(Phase.WITHDRAW, str(part), "remove", reason)

    def _recorded(self, removed: Sequence[PartId]) -> bool:
        """Whether the bookkeeping has to change although nothing else does."""
        last = self.live.last
        if self.reasons or removed or last is None:
            return True
        return last.digest != self.request.bundle_digest

    # ---- schedules ----------------------------------------------------------------------------

    def _schedules(self) -> tuple[list[Step], list[Step]]:
        """Which schedules pause, and which state they get: only those touched, or differing."""
        paused: list[Step] = []
        resumed: list[Step] = []
        for pipeline in self.assembly.of_kind(Kind.PIPELINE):
            touching = self._touching(pipeline)
            for schedule in self.assembly.outlines[pipeline].schedule_names:
                now = self.live.schedules.get(f"{pipeline.name}.{schedule}")
                declared = self.request.environment.schedule_state(pipeline.name, schedule)
                if touching and now == "on":
                    paused.append(
                        _step(Phase.PAUSE, str(pipeline), "pause", f"{touching} changes", schedule)
                    )
                stopped = bool(touching) and now == "on"
                if declared == "on" and (stopped or now != "on"):
                    action = "resume" if now == "on" else "switch on"
                elif declared == "off" and now not in {None, "off"}:
                    action = "switch off"
                else:
                    continue
                reason = f"{self.request.environment.name} declares it {declared}"
                resumed.append(_step(Phase.RESUME, str(pipeline), action, reason, schedule))
        return paused, resumed

    def _touching(self, pipeline: PartId) -> str | None:
        """The first part by which a promotion touches a pipeline."""
        if pipeline in self.reasons:
            return "the pipeline"
        waiting = [p for stage in self.assembly.outlines[pipeline].stages for p in stage.works_on]
        seen: set[PartId] = set()
        while waiting:
            part = waiting.pop(0)
            if part in seen or part not in self.assembly.upstream:
                continue
            seen.add(part)
            if part in self.reasons:
                return str(part)
            waiting += sorted(self.assembly.upstream[part])
        return None

    # ---- what the reader of a draft wants to know ---------------------------------------------

    def _differing(self) -> tuple[DifferingValue, ...]:
        """Values that the touched parts use, and that differ where the bundle came from."""
        used = {u.parameter for part in self.reasons for u in self.assembly.outlines[part].uses}
        found = []
        for name in sorted(used):
            here = self.request.values[name].text
            other = self.request.values_there.get(name)
            there = other.text if other is not None else None
            before = self._before(name, here)
            if there != here or before is not None:
                found.append(DifferingValue(name=name, here=here, there=there, before=before))
        return tuple(found)

    def _values_used(self) -> dict[str, str]:
        used = {use.parameter for o in self.assembly.outlines.values() for use in o.uses}
        return {name: self.request.values[name].text for name in sorted(used)}

    def _before(self, name: str, here: str) -> str | None:
        """Another value that a live part was put with."""
        were = (part.values.get(name) for part in self.live.parts.values())
        return next((value for value in were if value is not None and value != here), None)

    def _left_alone(self) -> dict[str, int]:
        counts = Counter(
            part.kind.value for part in self.assembly.parts if part not in self.reasons
        )
        return dict(sorted(counts.items()))

    def _real(self, name: str) -> str:
        """A logical table's name in this environment; what is managed outside keeps its name."""
        return physical_table(name, self.assembly, self.request.environment)


def _step(phase: Phase, part: str, action: str, reason: str, item: str = "") -> Step:
    return Step(number=0, phase=phase, part=part, action=action, reason=reason, item=item)


def _numbered(steps: Iterable[Step]) -> tuple[Step, ...]:
    return tuple(
        Step(number=i, phase=s.phase, part=s.part, action=s.action, reason=s.reason, item=s.item)
        for i, s in enumerate(steps, start=1)
    )


def _listed(names: Sequence[str]) -> str:
    shown = ", ".join(names[:3])
    return f"{shown} and {len(names) - 3} more" if len(names) > 3 else shown


_PLACE = {phase: place for place, phase in enumerate(Phase)}
