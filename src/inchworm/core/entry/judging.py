"""Judging: which entry conditions a promotion meets, by what evidence, and which it does not.

Pure: whatever is known comes in, a list of judged conditions comes out.
"""

from __future__ import annotations

import datetime as dt
from collections.abc import Collection, Iterator, Mapping, Sequence
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
        is_passing: True if it may be met at one time and not at another, such as an hour of the
            day; what people have said and signed is not.
    """

    condition: str
    is_met: bool
    evidence: str
    is_passing: bool = False


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
        return asdict(self) | {"judged": [_to_json(judged) for judged in self.judged]}

    @classmethod
    def from_json(cls, data: Mapping[str, Any]) -> Admission:
        """An admission as the ledger kept it."""
        judged = tuple(Judged(**each) for each in data["judged"])
        return cls(judged=judged, exception=data["exception"])


def _to_json(judged: Judged) -> dict[str, Any]:
    return {"condition": judged.condition, "is_met": judged.is_met, "evidence": judged.evidence}


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
        recorded: the same by the ledger; empty where it does not know that promotion.
        by: the promotion.
        problem: why that environment could not be asked.
    """

    since: str = ""
    recorded: str = ""
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
        lacking: what is not known of the authors, in words; empty where everything is.
        vouched: the signatures of the bundle.
        passed: by environment.
        measured: the latest number that a run of this bundle measured, by notebook, name and
            environment; of the environment that it goes to, the latest of any bundle.
        ran: the latest run of this bundle that succeeded, by part and environment.
        answers: of the commands that were asked; None while nobody has started them.
        is_rollback: True of a rollback, of which no measures, runs or passages are asked.
    """

    promotion: str
    digest: Digest
    environment: str
    now: dt.datetime
    findings: Sequence[Finding] = ()
    approvals: Sequence[CheckedApproval] = ()
    authors: Collection[str] | None = ()
    lacking: str = ""
    vouched: Sequence[Vouched] = ()
    passed: Mapping[str, Passed] = field(default_factory=dict)
    measured: Mapping[tuple[str, str, str], Number] = field(default_factory=dict)
    ran: Mapping[tuple[str, str], str] = field(default_factory=dict)
    answers: Mapping[str, Answer] | None = field(default_factory=dict)
    is_rollback: bool = False


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
        if self.conditions.each_of:
            yield self._of_each_group()
        if self.conditions.bundle_signed:
            yield self._bundle_signed()
        yield from self._passages()
        if self.conditions.no_warnings:
            yield self._warnings()
        if self.conditions.closed:
            yield self._open()
        if not self.evidence.is_rollback:
            yield from map(self._measure, self.conditions.measures)
            yield from map(self._ran, self.conditions.ran)
        for command in self.conditions.ask:
            yield self._asked(command)

    # ---- approvals ----------------------------------------------------------------------------

    def _approvals(self) -> Judged:
        wanted = self.conditions
        condition = counted(wanted.approvals, "approval")
        if wanted.by:
            condition += f" by {', '.join(wanted.by)}"
        counting, refused = self._counted()
        lacking = wanted.approvals - len(counting)
        given = ", ".join(counting.values()) or "none yet"
        evidence = given if lacking <= 0 else f"{given}; {lacking} missing"
        return Judged(
            condition=condition + self._manner,
            is_met=lacking <= 0,
            evidence="; ".join([evidence, *refused]),
        )

    def _of_each_group(self) -> Judged:
        """One approval of each group, every one from another person."""
        counting, refused = self._counted()
        people = {name: self.people.called(name) for name in counting}
        may = {
            group: [name for name, person in people.items() if group in person.groups]
            for group in self.conditions.each_of
        }
        given = assigned(may)
        words = [f"{group}: {counting.get(given.get(group, ''), 'missing')}" for group in may]
        return Judged(
            condition=f"an approval of each of {', '.join(may)}{self._manner}",
            is_met=len(given) == len(may),
            evidence="; ".join([*words, *refused]),
        )

    @property
    def _manner(self) -> str:
        """How approvals have to be given, in words."""
        signed = ", signed" if self.conditions.signed else ""
        by_others = ", not by an author of the changes"
        return signed + ("" if self.conditions.authors_may_approve else by_others)

    def _counted(self) -> tuple[dict[str, str], list[str]]:
        """Who has approved, by name, and how; and why others do not count. Each person is once."""
        counting: dict[str, str] = {}
        refused: dict[str, str] = {}
        for each in self.evidence.approvals:
            if each.approval.verdict is not Verdict.APPROVED:
                continue
            name = each.person.name
            why = each.problem or self._does_not_count(each)
            if why:
                refused[name] = f"{name}'s does not count: {why}"
            else:
                how = "signed" if each.is_signed else f"as {each.approval.identity} says"
                counting[name] = f"{name} ({how})"
        return counting, [text for name, text in refused.items() if name not in counting]

    def _does_not_count(self, each: CheckedApproval) -> str:
        """Why an approval does not count, in words; empty when it does."""
        wanted = self.conditions
        day = self.evidence.now.date()
        if not each.person.span.has(day):
            return "their time in people.toml is over, or has not begun"
        if wanted.signed and not each.is_signed:
            return "it is not signed"
        if wanted.by and not self.people.may(each.person, wanted.by):
            return "not among those who may approve"
        if wanted.authors_may_approve:
            return ""
        if self.evidence.authors is None:
            return f"the authors of the changes are not known here{self._lacking}"
        names = {author.lower() for author in self.evidence.authors}
        if each.approval.by.lower() in names or any(map(each.person.is_called, names)):
            return f"an author of the changes{self._lacking}"
        return ""

    @property
    def _lacking(self) -> str:
        """What is not known of the authors, and how to learn it, in words."""
        if not self.evidence.lacking:
            return ""
        return (
            f" ({self.evidence.lacking}; git fetch --unshallow, or of that commit, helps; "
            "until then everybody in the history counts as an author)"
        )

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
                    is_passing=True,
                )
            if self.conditions.rested:
                yield self._rested(name, passed)

    def _rested(self, name: str, passed: Passed) -> Judged:
        wanted = dt.timedelta(seconds=self.conditions.rested)
        condition = f"rested {spell_duration(wanted)} in {name}"
        if not passed.since:
            return Judged(
                condition=condition,
                is_met=False,
                evidence=passed.problem or "not there yet",
                is_passing=True,
            )
        times = [_moment(passed.since), *([_moment(passed.recorded)] if passed.recorded else [])]
        rested = self.evidence.now - max(times)
        evidence = f"there since {_shown(max(times).isoformat())} UTC"
        if max(times) - min(times) > _SAME_MOMENT:
            evidence += (
                f" (the database says {_shown(passed.since)}, the ledger "
                f"{_shown(passed.recorded)}: the later counts)"
            )
        if rested < wanted:
            evidence += f"; {spell_duration(wanted - rested)} to go"
        return Judged(
            condition=condition, is_met=rested >= wanted, evidence=evidence, is_passing=True
        )

    def _warnings(self) -> Judged:
        warnings = [f for f in self.evidence.findings if f.severity is Severity.WARNING]
        evidence = "none"
        if warnings:
            more = f" and {len(warnings) - 1} more" if len(warnings) > 1 else ""
            evidence = f"{warnings[0].rule}: {warnings[0].message}{more}"
        return Judged(
            condition="no warnings", is_met=not warnings, evidence=evidence, is_passing=True
        )

    def _open(self) -> Judged:
        zone = ZoneInfo(self.conditions.timezone)
        local = self.evidence.now.astimezone(zone)
        closed = closed_by(self.conditions.closed, local)
        local_time = f"{local:%a %H:%M} {self.conditions.timezone}"
        return Judged(
            condition=f"not {', '.join(self.conditions.closed)}",
            is_met=closed is None,
            evidence=f"it is {local_time}" + (f": closed, {closed}" if closed else ""),
            is_passing=True,
        )

    def _measure(self, text: str) -> Judged:
        wanted = measure_condition(text)
        notebook = str(wanted.notebook)
        number = self.evidence.measured.get((notebook, wanted.name, wanted.environment))
        if number is None:
            evidence = f"no run of this bundle has measured it in {wanted.environment}"
            return Judged(condition=text, is_met=False, evidence=evidence, is_passing=True)
        live = self.evidence.measured.get((notebook, wanted.name, self.evidence.environment))
        evidence = f"{number.value:g} in {number.run}"
        if wanted.of_live:
            evidence += f"; live {live.value:g} in {live.run}" if live else "; nothing live yet"
        is_met = wanted.holds(number.value, live.value if live else None)
        return Judged(condition=text, is_met=is_met, evidence=evidence, is_passing=True)

    def _ran(self, text: str) -> Judged:
        part, environment = ran_condition(text)
        run = self.evidence.ran.get((str(part), environment))
        evidence = f"{run} succeeded" if run else "no run of this bundle has succeeded there"
        return Judged(
            condition=f"{part} ran in {environment}",
            is_met=run is not None,
            evidence=evidence,
            is_passing=True,
        )

    def _asked(self, command: str) -> Judged:
        if self.evidence.answers is None:
            evidence = "asked when the promotion is carried out"
            return Judged(condition=command, is_met=True, evidence=evidence)
        answer = self.evidence.answers.get(command, Answer(code=None, text="it was not asked"))
        answered = answer.text or (f"exit code {answer.code}" if answer.code else "yes")
        return Judged(
            condition=command, is_met=answer.code == 0, evidence=answered, is_passing=True
        )


def assigned(may: Mapping[str, Sequence[str]]) -> dict[str, str]:
    """Return a person for each group, nobody for two, for as many groups as that is possible.

    Args:
        may: the people of each group.

    The method is that of augmenting paths (Kuhn, 1955).
    """
    of_person: dict[str, str] = {}

    def finds(group: str, tried: set[str]) -> bool:
        for person in may[group]:
            if person in tried:
                continue
            tried.add(person)
            if person not in of_person or finds(of_person[person], tried):
                of_person[person] = group
                return True
        return False

    for group in may:
        finds(group, set())
    return {group: person for person, group in of_person.items()}


_SAME_MOMENT = dt.timedelta(minutes=10)
"""By how much two records of one moment may differ."""


def _moment(text: str) -> dt.datetime:
    moment = dt.datetime.fromisoformat(text)
    return moment if moment.tzinfo else moment.replace(tzinfo=dt.UTC)


def _shown(text: str) -> str:
    return text[:16].replace("T", " ")
