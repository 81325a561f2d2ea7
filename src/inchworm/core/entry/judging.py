"""Judging: which entry conditions a promotion meets, by what evidence, and which it does not.

Pure: whatever is known comes in, a list of judged conditions comes out.
"""

from __future__ import annotations

import datetime as dt
from collections.abc import Iterator, Mapping, Sequence
from typing import Any
from zoneinfo import ZoneInfo

from msgspec import Struct, field
from msgspec.structs import asdict

from inchworm.core.checks.findings import Finding, Severity
from inchworm.core.counting import counted
from inchworm.core.entry.approvals import Approval, Verdict
from inchworm.core.entry.closed_hours import closed_by
from inchworm.core.entry.conditions import EntryConditions, measure_condition, ran_condition
from inchworm.core.entry.people import People, Person
from inchworm.core.parameters.values import spell_duration
from inchworm.core.parts import Digest


class Judged(Struct, frozen=True, kw_only=True):
    """One entry condition.

    Attributes:
        condition: what is demanded, in words.
        is_met: whether it is met.
        evidence: by what, or what is missing.
    """

    condition: str
    is_met: bool
    evidence: str


class Admission(Struct, frozen=True, kw_only=True):
    """By what a promotion was let into an environment.

    Attributes:
        judged: every entry condition, as it was when the promotion began.
        exception: who let it in although some were missing, and why; empty where nobody had to.
    """

    judged: tuple[Judged, ...] = ()
    exception: str = ""

    def to_json(self) -> dict[str, Any]:
        """The admission as the ledger keeps it."""
        return asdict(self) | {"judged": [asdict(judged) for judged in self.judged]}

    @classmethod
    def from_json(cls, data: Mapping[str, Any]) -> Admission:
        """An admission as the ledger kept it."""
        judged = tuple(Judged(**each) for each in data["judged"])
        return cls(judged=judged, exception=data["exception"])


class CheckedApproval(Struct, frozen=True, kw_only=True):
    """An approval, with what became of looking at it.

    Attributes:
        person: who it is from.
        is_signed: whether it is signed with the key that ``people.toml`` has of that person.
        problem: why it does not count; empty when it does.
    """

    approval: Approval
    person: Person
    is_signed: bool = False
    problem: str = ""


class Vouched(Struct, frozen=True, kw_only=True):
    """A signature of a bundle, with what became of looking at it.

    Attributes:
        person: whose key it is; None where it does not count.
        problem: why it does not; empty when it does.
    """

    person: Person | None = None
    problem: str = ""


class Passed(Struct, frozen=True, kw_only=True):
    """How an environment that a bundle has to pass through stands to it.

    Attributes:
        since: when it went in there, ISO 8601; empty when it did not, or was taken back.
        by: the promotion.
        problem: why that environment could not be asked.
    """

    since: str = ""
    by: str = ""
    problem: str = ""


class Number(Struct, frozen=True, kw_only=True):
    """A number that a notebook measured: its value, and the run."""

    value: float
    run: str


class Answer(Struct, frozen=True, kw_only=True):
    """How a command ended that was asked: its exit code, None if it took too long; its text."""

    code: int | None
    text: str


class Evidence(Struct, frozen=True, kw_only=True):
    """Everything that conditions are judged by.

    Attributes:
        promotion: the promotion's key.
        digest: of its draft.
        environment: where it goes.
        now: the present time, with a zone.
        authors: names of those who made the changes; None where nobody knows them.
        vouched: the signatures of the bundle.
        passed: by environment.
        measured: the latest number that a run of this bundle measured, by notebook, name and
            environment; of the environment that it goes to, the latest of any bundle.
        ran: the latest run of this bundle that succeeded, by part and environment.
        answers: of the commands that were asked.
    """

    promotion: str
    digest: Digest
    environment: str
    now: dt.datetime
    findings: Sequence[Finding] = ()
    approvals: Sequence[CheckedApproval] = ()
    authors: Sequence[str] | None = ()
    vouched: Sequence[Vouched] = ()
    passed: Mapping[str, Passed] = field(default_factory=dict)
    measured: Mapping[tuple[str, str, str], Number] = field(default_factory=dict)
    ran: Mapping[tuple[str, str], str] = field(default_factory=dict)
    answers: Mapping[str, Answer] = field(default_factory=dict)


def judge(conditions: EntryConditions, evidence: Evidence, people: People) -> list[Judged]:
    """Every condition that is demanded, met or not."""
    return list(_Judging(conditions, evidence, people).all())


def missing(judged: Sequence[Judged]) -> list[Judged]:
    """Those that are not met."""
    return [each for each in judged if not each.is_met]


class _Judging:
    def __init__(self, conditions: EntryConditions, evidence: Evidence, people: People) -> None:
        self.conditions = conditions
        self.evidence = evidence
        self.people = people

    def all(self) -> Iterator[Judged]:
        """In the order in which people ask for them."""
        if self.conditions.approvals:
            yield self._approvals()
        if self.conditions.bundle_signed:
            yield self._bundle_signed()
        yield from self._passages()
        if self.conditions.no_warnings:
            yield self._warnings()
        if self.conditions.closed:
            yield self._open()
        for text in self.conditions.measures:
            yield self._measure(text)
        for text in self.conditions.ran:
            yield self._ran(text)
        for command in self.conditions.ask:
            yield self._asked(command)

    # ---- approvals ----------------------------------------------------------------------------

    def _approvals(self) -> Judged:
        wanted = self.conditions
        condition = counted(wanted.approvals, "approval")
        if wanted.by:
            condition += f" by {', '.join(wanted.by)}"
        condition += ", signed" if wanted.signed else ""
        condition += "" if wanted.by_author else ", not by an author of the changes"
        counting: dict[str, str] = {}
        refused: list[str] = []
        for each in self.evidence.approvals:
            if each.approval.verdict is not Verdict.APPROVED:
                continue
            why = each.problem or self._does_not_count(each)
            if why:
                refused.append(f"{each.person.name}'s does not count: {why}")
            else:
                how = "signed" if each.is_signed else f"as {each.approval.identity} says"
                counting[each.person.name] = f"{each.person.name} ({how})"
        given = ", ".join(counting.values()) or "none yet"
        lacking = wanted.approvals - len(counting)
        evidence = given if lacking <= 0 else f"{given}; {lacking} missing"
        return Judged(
            condition=condition,
            is_met=lacking <= 0,
            evidence="; ".join([evidence, *refused]),
        )

    def _does_not_count(self, each: CheckedApproval) -> str:
        """Why an approval does not count, in words; empty when it does."""
        wanted = self.conditions
        if wanted.signed and not each.is_signed:
            return "it is not signed"
        if wanted.by and not self.people.may(each.person, wanted.by):
            return "not among those who may approve"
        if not wanted.by_author:
            if self.evidence.authors is None:
                return "the authors of the changes are not known here"
            names = {author.lower() for author in self.evidence.authors}
            if each.approval.by.lower() in names or any(map(each.person.is_called, names)):
                return "an author of the changes"
        return ""

    def _bundle_signed(self) -> Judged:
        wanted = self.conditions.bundle_by
        condition = "bundle signed" + (f" by {' or '.join(wanted)}" if wanted else "")
        signers = [each.person for each in self.evidence.vouched if each.person is not None]
        counting = [p for p in signers if not wanted or self.people.may(p, wanted)]
        others = [f"{p.name}'s signature is not asked for" for p in signers if p not in counting]
        refused = [each.problem for each in self.evidence.vouched if each.problem]
        given = ", ".join(sorted({person.name for person in counting})) or "not signed"
        return Judged(
            condition=condition,
            is_met=bool(counting),
            evidence="; ".join([given, *others, *refused]),
        )

    # ---- everything else ----------------------------------------------------------------------

    def _passages(self) -> Iterator[Judged]:
        for name, passed in self.evidence.passed.items():
            if name in self.conditions.passed_in:
                how = passed.problem or f"{passed.by}, since {_shown(passed.since)} UTC"
                yield Judged(
                    condition=f"passed in {name}",
                    is_met=bool(passed.since),
                    evidence=how if passed.since or passed.problem else "not yet",
                )
            if self.conditions.rested:
                yield self._rested(name, passed)

    def _rested(self, name: str, passed: Passed) -> Judged:
        wanted = dt.timedelta(seconds=self.conditions.rested)
        condition = f"rested {spell_duration(wanted)} in {name}"
        if not passed.since:
            return Judged(
                condition=condition, is_met=False, evidence=passed.problem or "not there yet"
            )
        rested = self.evidence.now - _moment(passed.since)
        evidence = f"there since {_shown(passed.since)} UTC"
        if rested < wanted:
            evidence += f"; {spell_duration(wanted - rested)} to go"
        return Judged(condition=condition, is_met=rested >= wanted, evidence=evidence)

    def _warnings(self) -> Judged:
        warnings = [f for f in self.evidence.findings if f.severity is Severity.WARNING]
        evidence = "none"
        if warnings:
            more = f" and {len(warnings) - 1} more" if len(warnings) > 1 else ""
            evidence = f"{warnings[0].rule}: {warnings[0].message}{more}"
        return Judged(condition="no warnings", is_met=not warnings, evidence=evidence)

    def _open(self) -> Judged:
        zone = ZoneInfo(self.conditions.timezone)
        local = self.evidence.now.astimezone(zone)
        closed = closed_by(self.conditions.closed, local)
        local_time = f"{local:%a %H:%M} {self.conditions.timezone}"
        return Judged(
            condition=f"not {', '.join(self.conditions.closed)}",
            is_met=closed is None,
            evidence=f"it is {local_time}" + (f": closed, {closed}" if closed else ""),
        )

    def _measure(self, text: str) -> Judged:
        wanted = measure_condition(text)
        notebook = str(wanted.notebook)
        number = self.evidence.measured.get((notebook, wanted.name, wanted.environment))
        if number is None:
            evidence = f"no run of this bundle has measured it in {wanted.environment}"
            return Judged(condition=text, is_met=False, evidence=evidence)
        live = self.evidence.measured.get((notebook, wanted.name, self.evidence.environment))
        evidence = f"{number.value:g} in {number.run}"
        if wanted.of_live:
            evidence += f"; live {live.value:g} in {live.run}" if live else "; nothing live yet"
        is_met = wanted.holds(number.value, live.value if live else None)
        return Judged(condition=text, is_met=is_met, evidence=evidence)

    def _ran(self, text: str) -> Judged:
        part, environment = ran_condition(text)
        run = self.evidence.ran.get((str(part), environment))
        evidence = f"{run} succeeded" if run else "no run of this bundle has succeeded there"
        return Judged(
            condition=f"{part} ran in {environment}", is_met=run is not None, evidence=evidence
        )

    def _asked(self, command: str) -> Judged:
        answer = self.evidence.answers.get(command, Answer(code=None, text="it was not asked"))
        answered = answer.text or (f"exit code {answer.code}" if answer.code else "yes")
        return Judged(condition=command, is_met=answer.code == 0, evidence=answered)


def _moment(text: str) -> dt.datetime:
    moment = dt.datetime.fromisoformat(text)
    return moment if moment.tzinfo else moment.replace(tzinfo=dt.UTC)


def _shown(text: str) -> str:
    return text[:16].replace("T", " ")
