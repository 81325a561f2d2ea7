"""Promotions: what was drafted, the steps that it is made of, and how each of them stands."""

from __future__ import annotations

import datetime as dt
from collections.abc import Mapping
from enum import StrEnum
from typing import Any

from msgspec import Struct, field
from msgspec.structs import asdict

from inchworm.core.checks.findings import Finding, finding_from
from inchworm.core.entry.approvals import Approval
from inchworm.core.entry.judging import Admission
from inchworm.core.entry.rules import NO_RULES, Rules
from inchworm.core.execution import StepReport, StepState
from inchworm.core.identifiers import PartId, PromotionId, Subject, subject_named
from inchworm.core.parts import Digest, digest_of
from inchworm.core.promotion.choosing import Sources
from inchworm.core.promotion.composition import Circumstances, CompletedPromotion
from inchworm.core.promotion.holds import Hold
from inchworm.core.promotion.rollback import Rollback, Undone, UndoneMigration
from inchworm.core.promotion.statements import Statements
from inchworm.core.promotion.states import Phase, State
from inchworm.core.structure.changes import Change


class Step(Struct, frozen=True, kw_only=True):
    """One thing to do.

    Attributes:
        number: its place, from 1.
        part: what it works on.
        action: a word such as ``add``, ``change``, ``rebuild``, ``remove``, ``run``, ``pause``.
        reason: why it is there.
        item: what within the part: a migration's or schedule's name.
    """

    number: int
    phase: Phase
    part: Subject
    action: str
    reason: str
    item: str = ""

    def to_json(self) -> dict[str, Any]:
        """The step as the ledger keeps it."""
        return {
            "number": self.number,
            "phase": self.phase.value,
            "part": str(self.part),
            "action": self.action,
            "reason": self.reason,
            "item": self.item,
        }

    @classmethod
    def from_json(cls, data: Mapping[str, Any]) -> Step:
        """A step as the ledger kept it."""
        phase, part = Phase(data["phase"]), subject_named(data["part"])
        return cls(**{**data, "phase": phase, "part": part})


class Direction(StrEnum):
    """Where a bundle takes an environment, compared with what runs there."""

    FIRST = "first"
    """Nothing was promoted there yet."""
    ON = "on"
    SAME = "same"
    """It is the bundle that runs there."""
    BACK = "back"


def step_of(phase: Phase, part: Subject, action: str, reason: str, item: str = "") -> Step:
    """A step whose number is not known yet."""
    return Step(number=0, phase=phase, part=part, action=action, reason=reason, item=item)


class DifferingValue(Struct, frozen=True, kw_only=True):
    """A value that this promotion uses, and that is another one elsewhere or was one before.

    Attributes:
        here: the value; of a secret, its reference.
        there: that of the environment which the bundle comes from.
        before: that of the last promotion here, where a live part was put with another one.
    """

    name: str
    here: str
    there: str | None
    before: str | None = None

    def to_json(self) -> dict[str, Any]:
        """The value as the ledger keeps it."""
        return asdict(self)


class UsedSecret(Struct, frozen=True, kw_only=True):
    """A secret that a promotion uses: where it is kept, and the version that was there."""

    name: str
    reference: str
    version: str = ""

    def to_json(self) -> dict[str, Any]:
        """The secret as the ledger keeps it."""
        return asdict(self)


class Draft(Struct, frozen=True, kw_only=True):
    """What a promotion would do in an environment as it stands.

    Attributes:
        today: the day that relative dates in values were worked out for, ISO 8601.
        environment_state: digest of what the environment looked like.
        values: every value that a part of the bundle uses, as text; of secrets, the references.
        overrides: values that were given for once, as text.
        left_alone: parts that stay as they are, each with the reason, grouped by reason.
    """

    environment: str
    bundle: str
    bundle_digest: Digest
    today: str
    environment_state: Digest
    values_digest: Digest
    steps: tuple[Step, ...]
    findings: tuple[Finding, ...] = ()
    differing: tuple[DifferingValue, ...] = ()
    values: Mapping[str, str] = field(default_factory=dict)
    secrets: tuple[UsedSecret, ...] = ()
    changes: Mapping[PartId, tuple[Change, ...]] = field(default_factory=dict)
    """Changes to wanted structures, by schema part; carried out exactly as they are here."""
    overrides: Mapping[str, str] = field(default_factory=dict)
    came_from: str | None = None
    left_alone: Mapping[str, int] = field(default_factory=dict)
    direction: Direction = Direction.ON
    runs_there: CompletedPromotion | None = None
    """The promotion whose bundle ran in the environment when the draft was made."""
    by_hand: tuple[str, ...] = ()
    """Marks of what was otherwise than promotions had left it when the draft was made."""
    is_tried: bool = False
    """Whether the database has read every statement that is going to run."""
    rollback: Rollback | None = None
    """What makes it a rollback, where it is one."""
    sources: Sources = field(default_factory=dict)
    """The parts that stay as in other bundles, or stay out."""
    is_choice: bool = False
    """Whether some of them stay because they were not chosen, and not by holds alone."""
    holds: tuple[Hold, ...] = ()
    """The holds in force afterwards."""
    corner: str = ""
    """Whose corner it goes into, where the environment has corners."""
    undone: Undone = field(default_factory=dict)
    """The migrations that a rollback takes back, by schema; exactly as they are here."""
    bundle_seal: str = ""
    """The digest of the bundle's manifest; empty in drafts of former versions."""
    bases: Mapping[PartId, str] = field(default_factory=dict)
    """The commit with which each part that changes is live; empty text where that is not known."""
    is_hold: bool = False
    """Whether it places or lifts a hold, which whoever drafted it has decided."""
    rules: Rules = NO_RULES
    """The rules by which it is let in, as they were when the draft was made."""

    @property
    def circumstances(self) -> Circumstances:
        """With what it comes about, besides the bundle."""
        today = dt.date.fromisoformat(self.today)
        return Circumstances(today=today, overrides=self.overrides, holds=self.holds)

    @property
    def digest(self) -> Digest:
        """Digest over bundle, values, environment state and steps: what is reviewed."""
        steps = "\n".join(f"{s.phase} {s.part} {s.action} {s.item}" for s in self.steps)
        pieces = (self.environment, self.bundle_digest, self.values_digest, self.environment_state)
        changes = [sql for those in self.changes.values() for c in those for sql in c.statements]
        undos = [each.undo for those in self.undone.values() for each in those]
        stays = [f"{part} {source}" for part, source in self.sources.items()]
        stays += [f"{hold.part} {hold.because} {hold.until}" for hold in self.holds]
        context = [f"{part} was {commit}" for part, commit in sorted(self.bases.items())]
        context += [f"manifest {self.bundle_seal}"] if self.bundle_seal else []
        context += [f"rules {self.rules.digest}"] if self.rules.digest else []
        context += ["hold"] if self.is_hold else []
        return digest_of("\n".join([*pieces, steps, *changes, *undos, *stays, *context]).encode())

    def to_json(self) -> dict[str, Any]:
        """The draft as the ledger keeps it."""
        return {
            "environment": self.environment,
            "bundle": self.bundle,
            "bundle_digest": self.bundle_digest,
            "today": self.today,
            "environment_state": self.environment_state,
            "values_digest": self.values_digest,
            "digest": self.digest,
            "steps": [step.to_json() for step in self.steps],
            "findings": [finding.to_json() for finding in self.findings],
            "differing": [value.to_json() for value in self.differing],
            "values": dict(self.values),
            "secrets": [secret.to_json() for secret in self.secrets],
            "changes": {
                str(part): [change.to_json() for change in changes]
                for part, changes in self.changes.items()
            },
            "overrides": dict(self.overrides),
            "came_from": self.came_from,
            "left_alone": dict(self.left_alone),
            "direction": self.direction.value,
            "runs_there": self.runs_there.to_json() if self.runs_there else None,
            "by_hand": list(self.by_hand),
            **({"rollback": self.rollback.to_json()} if self.rollback else {}),
            **({"is_tried": True} if self.is_tried else {}),
            **({"sources": {str(p): s for p, s in self.sources.items()}} if self.sources else {}),
            **({"is_choice": True} if self.is_choice else {}),
            **({"holds": [hold.to_json() for hold in self.holds]} if self.holds else {}),
            **({"corner": self.corner} if self.corner else {}),
            **({"undone": _undone_to_json(self.undone)} if self.undone else {}),
            **({"bundle_seal": self.bundle_seal} if self.bundle_seal else {}),
            **({"bases": {str(p): c for p, c in self.bases.items()}} if self.bases else {}),
            **({"is_hold": True} if self.is_hold else {}),
            **({"rules": asdict(self.rules)} if self.rules.digest else {}),
        }

    @classmethod
    def from_json(cls, data: Mapping[str, Any]) -> Draft:
        """A draft as the ledger kept it."""
        fields = {key: data[key] for key in cls.__struct_fields__ if key in data}
        fields["steps"] = tuple(Step.from_json(step) for step in data["steps"])
        fields["findings"] = tuple(finding_from(finding) for finding in data["findings"])
        fields["differing"] = tuple(DifferingValue(**value) for value in data["differing"])
        fields["secrets"] = tuple(UsedSecret(**secret) for secret in data.get("secrets", ()))
        fields["changes"] = {
            PartId.parse(part): tuple(Change.from_json(change) for change in changes)
            for part, changes in data.get("changes", {}).items()
        }
        fields["direction"] = Direction(data.get("direction", Direction.ON))
        ran = data.get("runs_there")
        fields["runs_there"] = CompletedPromotion.from_json(ran) if ran else None
        fields["by_hand"] = tuple(data.get("by_hand", ()))
        rollback = data.get("rollback")
        fields["rollback"] = Rollback.from_json(rollback) if rollback else None
        fields["sources"] = {
            PartId.parse(part): source for part, source in data.get("sources", {}).items()
        }
        fields["holds"] = tuple(map(Hold.from_json, data.get("holds", ())))
        fields["undone"] = {
            PartId.parse(part): tuple(map(UndoneMigration.from_json, undone))
            for part, undone in data.get("undone", {}).items()
        }
        fields["bases"] = {PartId.parse(p): c for p, c in data.get("bases", {}).items()}
        fields["rules"] = Rules(**data["rules"]) if "rules" in data else NO_RULES
        return cls(**fields)


def _undone_to_json(undone: Undone) -> dict[str, Any]:
    return {str(part): [each.to_json() for each in those] for part, those in undone.items()}


_PASSED_BY = "passed by "


def passed_by(promotion: PromotionId) -> str:
    """The reason for which a draft is dropped when another promotion went there before it."""
    return f"{_PASSED_BY}{promotion}"


class Promotion(Struct, frozen=True, kw_only=True):
    """A promotion as the ledger knows it."""

    id: PromotionId
    draft: Draft
    state: State
    drafted_at: str
    drafted_by: str
    changed_at: str
    changed_by: str
    commit: str | None
    steps: Mapping[int, StepReport]
    message: str = ""
    approvals: tuple[Approval, ...] = ()
    """What people said about the draft, in that order."""
    admission: Admission | None = None
    """By what it was let in, once it began; None where the environment demands nothing."""
    done_at: str = ""
    """When it was completed; empty where it was not."""
    done_by: str = ""
    recorded: tuple[Statements, ...] = ()
    """The statements of its steps, from each time that it began or went on."""

    @property
    def statements(self) -> dict[int, tuple[str, ...]]:
        """The SQL that each step ran or was about to run, by its number.

        Former versions did not record it.
        """
        by_step: dict[int, tuple[str, ...]] = {}
        for each in self.recorded:
            by_step |= each.by_step()
        return by_step

    @property
    def was_passed(self) -> bool:
        """Whether another promotion went there before this draft was carried out."""
        return self.state is State.DROPPED and self.message.startswith(_PASSED_BY)

    def report_of(self, step: Step) -> StepReport:
        """How a step stands."""
        return self.steps.get(step.number, StepReport(state=StepState.WAITING))
