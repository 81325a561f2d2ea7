"""From reasons to ordered steps."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Iterator, Mapping, Sequence
from functools import cached_property

from msgspec.structs import replace

from inchworm.core.environments.verification import Asked, Verification
from inchworm.core.identifiers import Kind, PartId, Whole
from inchworm.core.promotion.aside import Aside
from inchworm.core.promotion.drafting.reasons import Reason, listed
from inchworm.core.promotion.drafting.request import Request
from inchworm.core.promotion.drafting.rolling_back import taken_back, taken_back_step, undo_steps
from inchworm.core.promotion.drafting.schedules import schedule_steps
from inchworm.core.promotion.drafting.structures import put_back
from inchworm.core.promotion.migrations import Pending
from inchworm.core.promotion.promotion import Step, step_of
from inchworm.core.promotion.rollback import Undone
from inchworm.core.promotion.states import Phase
from inchworm.core.rendered import When
from inchworm.core.structure.changes import Effect

_DELIVERY = sorted((kind for kind in Kind if kind.delivered), key=lambda kind: kind.delivered)

_ORDER = {phase: place for place, phase in enumerate(Phase)}


def steps_of(
    request: Request,
    reasons: Mapping[PartId, Reason],
    pending: Sequence[Pending],
    removed: Sequence[PartId],
    undone: Undone,
) -> tuple[Step, ...]:
    """The ordered steps; none when there is nothing to do.

    Args:
        request: what the draft is made from.
        reasons: the parts that the promotion works on.
        pending: the migrations that are going to run or to be assumed.
        removed: parts that are live, and not in the bundle any more.
        undone: the migrations that are taken back.
    """
    return _numbered(_Planning(request, reasons, undone).steps(pending, removed))


class _Planning:
    def __init__(self, request: Request, reasons: Mapping[PartId, Reason], undone: Undone) -> None:
        self.request = request
        self.assembly = request.assembly
        self.live = request.live
        self.reasons = reasons
        self.undone = undone

    def steps(self, pending: Sequence[Pending], removed: Sequence[PartId]) -> list[Step]:
        """All steps, in the order of their phases."""
        pausing, setting = schedule_steps(self.request, self.reasons, removed)
        work = [
            *self._put_back(),
            *undo_steps(self.undone, Phase.MIGRATE, late=False),
            *self._migrations(pending, Phase.MIGRATE, When.BEFORE),
            *self._structures(Phase.MIGRATE, late=False),
            *self._stored_tables(),
            *self._builds(),
            *self._checks(),
            *self._switch_over(removed),
            *undo_steps(self.undone, Phase.MIGRATE_AFTER, late=True),
            *self._migrations(pending, Phase.MIGRATE_AFTER, When.AFTER),
            *self._structures(Phase.MIGRATE_AFTER, late=True),
            *self._deliveries(removed),
            *self._forgotten(removed),
        ]
        holding = list(self._holds())
        if not work and not setting and not holding and not self._has_news(removed):
            return []
        scripts = [*self._scripts(When.BEFORE), *self._scripts(When.AFTER)] if work else []
        steps = [*pausing, *scripts, *work, *setting, *holding]
        if steps:
            why = "everything is read back"
            steps.append(step_of(Phase.VERIFY, Whole.ENVIRONMENT, "verify", why))
            steps += [
                step_of(Phase.VERIFY, asking, "ask", _question(each), each.name)
                for asking, each in self._questions(steps)
            ]
        what = f"{self.request.bundle} is what runs here"
        steps.append(step_of(Phase.RECORD, Whole.ENVIRONMENT, "record", what))
        return sorted(steps, key=lambda step: _ORDER[step.phase])

    def _questions(self, steps: Sequence[Step]) -> Iterator[tuple[PartId | Whole, Verification]]:
        """What the environment asks, and each part that is put in place."""
        for each in self.request.environment.verifications:
            yield Whole.ENVIRONMENT, each
        for step in steps:
            if step.phase is Phase.DELIVER and isinstance(step.part, PartId):
                for each in self.assembly.outlines[step.part].verifications:
                    yield step.part, each

    def _has_news(self, removed: Sequence[PartId]) -> bool:
        """Whether the bookkeeping has to change although nothing else does."""
        last = self.live.last
        if self.reasons or removed or last is None:
            return True
        sources = {str(part): source for part, source in self.request.sources.items()}
        return (
            last.digest != self.request.bundle_digest
            or last.mixture.sources != sources
            or last.mixture.is_choice is not self.request.is_choice
        )

    def _holds(self) -> Iterator[Step]:
        """Holds that come or change, and those that go."""
        before = {hold.part: hold for hold in self.live.holds}
        after = {hold.part: hold for hold in self.request.holds}
        for part in sorted({*before, *after}):
            old, new = before.get(part), after.get(part)
            if new is None and old is not None:
                ended = old.until is not None and not old.holds_on(self.request.today)
                reason = f"it was held until {old.until}" if ended else "the hold is lifted"
                yield step_of(Phase.HOLD, part, "lift", reason)
            elif new is not None and (
                old is None or (old.because, old.until) != (new.because, new.until)
            ):
                until = f", until {new.until}" if new.until else ""
                yield step_of(Phase.HOLD, part, "hold", f"{new.because}{until}")

    # ---- structure ----------------------------------------------------------------------------

    def _migrations(self, pending: Sequence[Pending], phase: Phase, when: When) -> Iterator[Step]:
        for migration in pending:
            if migration.when is not when:
                continue
            action, reason = "run", "has not run in this database"
            if migration.assumed:
                action, reason = "assume", "what it would make is there already"
                if migration.takes_up:
                    reason = "it takes up what was changed here by hand"
            yield step_of(phase, migration.schema, action, reason, migration.name)

    def _put_back(self) -> Iterator[Step]:
        for schema, tables in put_back(self.request).items():
            names = [table.name for table in tables]
            is_or_are = "is" if len(names) == 1 else "are"
            reason = f"{listed(names)} {is_or_are} missing; made again, empty"
            yield step_of(Phase.PUT_BACK, schema, "put back", reason)

    def _structures(self, phase: Phase, *, late: bool) -> Iterator[Step]:
        for schema, planned in self.request.structures:
            changes = [change for change in planned.changes if change.late is late]
            if changes:
                counts = Counter(change.effect for change in changes)
                reason = ", ".join(f"{counts[e]} {e.value}" for e in Effect if counts[e])
                item = "what goes" if late else "wanted structure"
                yield step_of(phase, schema, "change", reason, item)

    def _scripts(self, when: When) -> Iterator[Step]:
        phase = Phase.BEFORE if when is When.BEFORE else Phase.AFTER
        for part in self.assembly.of_kind(Kind.SCHEMA):
            if self.assembly.outlines[part].managed_outside:
                continue
            schema = self.request.rendered.schema(part)
            for script in schema.before if when is When.BEFORE else schema.after:
                yield step_of(phase, part, "run", "runs at every promotion", script.name)

    def _stored_tables(self) -> Iterator[Step]:
        """Tables that notebooks fill must be there before what reads them is built."""
        for part in self.assembly.of_kind(Kind.NOTEBOOK):
            for name in self.assembly.outlines[part].interfaces:
                table = self.assembly.tables[name]
                live = self.live.tables.get(self.request.physical(name))
                if live is None and table.columns:
                    reason = "its table is not there yet"
                    yield step_of(Phase.PREPARE, part, "add", reason, name)
                elif live is not None:
                    new = [c.name for c in table.columns if c.name not in live.by_name]
                    if new:
                        reason = f"its table lacks {', '.join(new)}"
                        yield step_of(Phase.PREPARE, part, "change", reason, name)

    # ---- models -------------------------------------------------------------------------------

    @cached_property
    def _built(self) -> list[PartId]:
        return [part for part in self.assembly.model_order if part in self.reasons]

    def _builds(self) -> Iterator[Step]:
        for part in self._built:
            action, reason = self.reasons[part]
            if part in self._taken_back:
                yield taken_back_step(part, reason, self._taken_back[part])
                continue
            former = self.request.moved.get(part, part)
            is_live = self.request.physical(former.name) in self.live.tables
            if self.request.rendered.model(part).keeps_rows and is_live:
                reason += "; its rows stay, new ones come"
            yield step_of(Phase.BUILD, part, action, reason)

    @cached_property
    def _taken_back(self) -> Mapping[PartId, Aside]:
        return taken_back(self.request, self._built)

    def _checks(self) -> Iterator[Step]:
        """Of what is built; a table that is taken back was checked when it was built."""
        built = [part for part in self._built if part not in self._taken_back]
        for part in built:
            model = self.request.rendered.model(part)
            if model.key or model.checks:
                yield step_of(Phase.CHECK, part, "check", "its data before anybody sees it")
        rebuilt = {part.name for part in built}
        for check in self.assembly.of_kind(Kind.CHECK):
            read = sorted(rebuilt.intersection(self.assembly.outlines[check].reads))
            if read:
                yield step_of(Phase.CHECK, check, "check", f"reads {listed(read)}")
            elif check in self.reasons:
                yield step_of(Phase.CHECK, check, "check", self.reasons[check].why)

    def _switch_over(self, removed: Sequence[PartId]) -> Iterator[Step]:
        """What goes and what comes take effect together, so that no reader misses a table."""
        moved = {former: part for part, former in self.request.moved.items()}
        for part in removed:
            if part.kind is Kind.MODEL:
                reason = "is not in the bundle any more"
                if part in moved:
                    reason = f"is moved to {moved[part].name}"
                yield step_of(Phase.SWITCH, part, "remove", reason)
        if self._built:
            count = len(self._built)
            reason = f"{count} built beside go live together" if count > 1 else "it goes live"
            if self._taken_back:
                reason = f"{count} go live together" if count > 1 else reason
            yield step_of(Phase.SWITCH, Whole.MODELS, "switch over", reason)

    # ---- services -----------------------------------------------------------------------------

    def _deliveries(self, removed: Sequence[PartId]) -> Iterator[Step]:
        for kind in _DELIVERY:
            for part in self.assembly.of_kind(kind):
                if part in self.reasons:
                    yield step_of(Phase.DELIVER, part, *self.reasons[part])
        for kind in reversed(_DELIVERY):
            for part in removed:
                if part.kind is kind:
                    reason = "is not in the bundle any more"
                    yield step_of(Phase.WITHDRAW, part, "remove", reason)

    def _forgotten(self, removed: Sequence[PartId]) -> Iterator[Step]:
        """Parts that go from the record alone: there is nothing else of them, or it stays."""
        for part in removed:
            if part.kind is Kind.SCHEMA:
                reason = "is not in the bundle any more; its tables stay"
                yield step_of(Phase.WITHDRAW, part, "remove", reason)
            elif part.kind is not Kind.MODEL and not part.kind.is_service:
                reason = "is not in the bundle any more"
                yield step_of(Phase.WITHDRAW, part, "remove", reason)


def _question(verification: Verification) -> str:
    """What is asked, and what is expected, in one line."""
    asked = " ".join(verification.question.split())
    if verification.asked is Asked.RUN:
        return f"a run of {asked} has to succeed"
    expected = verification.answer or f"status {verification.status}"
    return f"{asked} {expected}"


def _numbered(steps: Iterable[Step]) -> tuple[Step, ...]:
    return tuple(replace(step, number=number) for number, step in enumerate(steps, start=1))
