"""Entry: what a promotion has to show before it may run in an environment, and who said yes."""

from __future__ import annotations

import datetime as dt
import json
from collections.abc import Iterable, Sequence
from enum import Enum
from typing import TYPE_CHECKING

from msgspec import Struct
from msgspec.structs import replace

from inchworm.application.route import ask_passages
from inchworm.application.rules import rules_in_force
from inchworm.application.signing import keep_head, own_signing_key, vouched_for
from inchworm.application.workplace import Workplace
from inchworm.core.entry.approvals import Approval, Identity, Verdict, signature_in
from inchworm.core.entry.conditions import NO_CONDITIONS, measure_condition, ran_condition
from inchworm.core.entry.judging import (
    Admission,
    Answer,
    CheckedApproval,
    Evidence,
    Judged,
    Number,
    Passed,
    judge,
    missing,
)
from inchworm.core.entry.people import People
from inchworm.core.entry.statements import envelope, signed_bytes
from inchworm.core.environments.environment import Environment
from inchworm.core.errors import UsageError, Waiting
from inchworm.core.identifiers import PartId
from inchworm.core.ledger.entries import head_in
from inchworm.core.ledger.runs import RunsAsked
from inchworm.core.parts import Digest
from inchworm.core.promotion.composition import passed
from inchworm.core.promotion.promotion import Promotion
from inchworm.core.promotion.states import State
from inchworm.core.running.states import RunState
from inchworm.engine.asking import ask
from inchworm.engine.route import Passage
from inchworm.project.git import (
    Contributors,
    commit_has,
    contributors,
    everybody,
    user_name,
)

if TYPE_CHECKING:
    from inchworm.core.bundle.bundle import Bundle
    from inchworm.store.keys import SigningKey
    from inchworm.store.ledger import Ledger


class Asking(Enum):
    """Whether commands of ``ask`` are started."""

    STARTED = "started"
    """The promotion is about to be carried out."""
    LEFT = "left"
    """Somebody looks at it, and nothing is executed."""


class Entry(Struct, frozen=True, kw_only=True):
    """How a promotion stands to what an environment demands.

    Attributes:
        judged: every condition, met or not.
        approvals: what people said, and whether it counts.
        exception: who let it in although conditions are missing; None where nobody did.
        asked: whether the commands that the environment names were started for it.
    """

    judged: tuple[Judged, ...] = ()
    approvals: tuple[CheckedApproval, ...] = ()
    exception: CheckedApproval | None = None
    asked: Asking = Asking.LEFT

    @property
    def missing(self) -> list[Judged]:
        """The conditions that are not met."""
        return missing(self.judged)

    @property
    def is_open(self) -> bool:
        """Whether the promotion may run."""
        return not self.missing or self.exception is not None

    @property
    def admission(self) -> Admission | None:
        """By what the promotion is let in, as the ledger keeps it; None where nothing is asked."""
        if not self.judged and self.exception is None:
            return None
        return Admission(judged=self.judged, exception=self.exception_text)

    @property
    def exception_text(self) -> str:
        """Who let it in, why, and without what, in words; empty where nobody had to."""
        if self.exception is None or (self.judged and not self.missing):
            return ""
        approval_given = self.exception.approval
        if not self.judged:
            return f"by {self.exception.person.name}: {approval_given.because}"
        lacking = "; ".join(f"{each.condition} ({each.evidence})" for each in self.missing)
        return f"by {self.exception.person.name}: {approval_given.because}. Missing: {lacking}"


def entry_of(workplace: Workplace, promotion: Promotion, asking: Asking = Asking.LEFT) -> Entry:
    """Judge everything that the environment of a promotion demands.

    Args:
        workplace: the workplace.
        promotion: the promotion.
        asking: whether the commands that the environment names are started.

    Raises:
        ProjectError: when ``people.toml`` is wrong.
        UsageError: when an environment is named that there is not.
    """
    environment = workplace.project.environment(promotion.draft.environment)
    rules = rules_in_force(workplace, environment)
    conditions, people = rules.conditions, rules.people
    if conditions == NO_CONDITIONS and not promotion.approvals:
        return Entry(asked=asking)
    if conditions.exception_skips_route:
        before = (*conditions.passed_in, *environment.after)
        conditions = replace(conditions, passed_in=tuple(dict.fromkeys(before)))
    environment = replace(environment, entry=conditions)
    checked = checked_approvals(promotion, people, workplace.ledger)
    evidence = _evidence(workplace, promotion, environment, checked, people, asking)
    judged = tuple(judge(conditions, evidence, people))
    exceptions = (
        each
        for each in checked
        if each.approval.verdict is Verdict.EXCEPTION
        and not each.problem
        and people.may(each.person, conditions.exception)
        and (each.is_signed or not conditions.signed)
    )
    exception = next(exceptions, None)
    return Entry(judged=judged, approvals=checked, exception=exception, asked=asking)


def demand_entry(workplace: Workplace, promotion: Promotion, judged: Entry | None) -> Entry:
    """What a promotion has shown, where that is enough.

    Args:
        workplace: the workplace.
        promotion: the promotion.
        judged: how it stands to the conditions, where that was just judged.

    What the ledger says of its state lets nothing in. Of one that goes on, what was met when it
    began is met still if the environment's own database knows that it began; approvals and
    signatures are looked at again.

    Raises:
        Waiting: when a condition is missing.
    """
    entry = judged if judged and judged.asked is Asking.STARTED else standing(workplace, promotion)
    if not entry.is_open:
        lacking = "".join(f"\n  {each.condition}: {each.evidence}" for each in entry.missing)
        raise Waiting(
            f"{promotion.id} waits in front of {promotion.draft.environment}:{lacking}",
            next=f"inchworm review {promotion.id} shows it; inchworm approve {promotion.id} "
            f"says yes; then: inchworm promote {promotion.id}",
        )
    return entry


def standing(workplace: Workplace, promotion: Promotion) -> Entry:
    """How a promotion that is about to be carried out, or to go on, stands to the conditions."""
    entry = entry_of(workplace, promotion, Asking.STARTED)
    if promotion.state is not State.DRAFTED and entry.missing:
        return _with_admission(workplace, promotion, entry)
    return entry


def _with_admission(workplace: Workplace, promotion: Promotion, entry: Entry) -> Entry:
    """How a promotion that goes on stands, with what was met when it began.

    The ledger's word for that counts only with the database's: it was claimed by this promotion.
    """
    (passage,) = ask_passages(workplace, [promotion.draft.environment])
    if promotion.admission is None or passage.claimed_by != promotion.id.key:
        return entry
    met = {each.condition: each for each in promotion.admission.judged if each.is_met}
    judged = tuple(
        met.get(each.condition, each) if not each.is_met and each.is_passing else each
        for each in entry.judged
    )
    return replace(entry, judged=judged)


def say(workplace: Workplace, id_: str, verdict: Verdict, because: str) -> Promotion:
    """Approve or reject a draft, or let it in by exception; signed, where there is a key.

    A draft that is rejected is dropped.

    Raises:
        UsageError: when it is no draft any more, or whoever is at work may not say so.
    """
    promotion = workplace.ledger.promotion(id_)
    if not promotion.state.may_go_on:
        raise UsageError(
            f"{promotion.id} is {promotion.state}: nothing is left to be said about its draft.",
            next="See inchworm history.",
        )
    if verdict is not Verdict.APPROVED and not because:
        raise UsageError("The record needs a reason.", next="Give it: --because TEXT.")
    key = own_signing_key(workplace)
    approval = _signed(workplace, promotion, verdict, because, key)
    if verdict is Verdict.EXCEPTION:
        _check_may_except(workplace, promotion, approval)
    promotion = workplace.ledger.judge(promotion.id, approval)
    if verdict is Verdict.REJECTED and promotion.state is State.DRAFTED:
        message = f"rejected by {approval.by}: {because}"
        promotion = workplace.ledger.move(promotion, State.DROPPED, message)
    keep_head(workplace)
    return promotion


def _check_may_except(workplace: Workplace, promotion: Promotion, approval: Approval) -> None:
    environment = workplace.project.environment(promotion.draft.environment)
    rules = rules_in_force(workplace, environment)
    people = rules.people
    checked = _checked(promotion, approval, people)
    allowed = rules.conditions.exception
    if not allowed:
        raise UsageError(
            f"{environment.name} takes nothing by exception.",
            where=environment.file,
            next='Who may is listed there under [entry]: exception = ["NAME"].',
        )
    if not people.may(checked.person, allowed):
        raise UsageError(
            f"{checked.person.name} may let nothing into {environment.name} by exception.",
            where=environment.file,
            next=f"Ask one of {', '.join(allowed)}.",
        )
    if rules.conditions.signed and not checked.is_signed:
        raise UsageError(
            f"An exception in {environment.name} has to be signed.",
            where=environment.file,
            next="Make a key, and have it put into people.toml: inchworm ledger key.",
        )


def _signed(
    workplace: Workplace,
    promotion: Promotion,
    verdict: Verdict,
    because: str,
    key: SigningKey | None,
) -> Approval:
    is_named = workplace.machine.environ.get("INCHWORM_USER") or user_name(workplace.root)
    identity = Identity.KEY if key else Identity.GIT if is_named else Identity.SYSTEM
    approval = Approval(
        verdict=verdict,
        promotion=promotion.id.key,
        digest=promotion.draft.digest,
        by=workplace.user,
        identity=identity,
        at=workplace.now(),
        because=because,
        head=workplace.ledger.head.text,
    )
    if key is None:
        return approval
    payload = approval.statement
    signature = key.sign(signed_bytes(payload))
    return replace(approval, envelope=envelope(payload, key.public, signature))


def checked_approvals(
    promotion: Promotion, people: People, ledger: Ledger
) -> tuple[CheckedApproval, ...]:
    """What people said about a promotion's draft, each looked at."""
    seen = [head_in(approval.head) for approval in promotion.approvals]
    hashes = ledger.hashes({head.number for head in seen if head}) if any(seen) else {}
    return tuple(
        replace(checked, problem=checked.problem or _OTHER_LEDGER.format(head.number))
        if head is not None and hashes.get(head.number) != head.hash
        else checked
        for approval, head in zip(promotion.approvals, seen, strict=True)
        for checked in [_checked(promotion, approval, people)]
    )


_OTHER_LEDGER = "entry {} of the ledger was another one when it was given"


def _checked(promotion: Promotion, approval: Approval, people: People) -> CheckedApproval:
    """Whether an approval is of this draft, and from whom; a signature counts by its key alone."""
    person = people.called(approval.by)
    wrong = _problem(promotion, approval)
    if wrong:
        return CheckedApproval(approval=approval, person=person, problem=wrong)
    signature = signature_in(approval)
    owner = people.with_key(signature[0]) if signature else None
    if owner is not None and signature is not None:
        day = dt.date.fromisoformat(approval.at[:10])
        wrong = "" if owner.has_key_on(signature[0], day) else "their key was not valid that day"
        return CheckedApproval(approval=approval, person=owner, is_signed=True, problem=wrong)
    if signature is not None:
        problem = "it is signed with a key that people.toml does not have"
    else:
        problem = "people.toml has their key, and it is not signed" if person.keys else ""
    return CheckedApproval(approval=approval, person=person, problem=problem)


def _problem(promotion: Promotion, approval: Approval) -> str:
    """Why an approval counts in no case, in words; empty when it may."""
    if (approval.promotion, approval.digest) != (promotion.id.key, promotion.draft.digest):
        return "it is of another draft"
    if not approval.envelope:
        return "its signature is missing" if approval.identity is Identity.KEY else ""
    from inchworm.store.keys import is_signed_by

    signature = signature_in(approval)
    if signature is None:
        return "what is signed is another statement"
    if not is_signed_by(*signature, signed_bytes(approval.statement)):
        return "its signature is wrong"
    return ""


# ---- evidence ----------------------------------------------------------------------------------


def _evidence(
    workplace: Workplace,
    promotion: Promotion,
    environment: Environment,
    checked: tuple[CheckedApproval, ...],
    people: People,
    asking: Asking,
) -> Evidence:
    """Everything that the conditions of an environment ask for, and nothing else.

    A rollback brings back what was let in before: whoever drafted it is its author, and it has not
    to pass anywhere, to rest or to be measured again.
    """
    conditions, draft = environment.entry, promotion.draft
    is_rollback = draft.rollback is not None
    now = workplace.clock()
    bundle = workplace.bundles.get(draft.bundle)
    hands = _contributors(workplace, promotion, bundle)
    names: list[str] = []
    if (conditions.passed_in or conditions.rested) and not is_rollback:
        names = list(dict.fromkeys((*environment.after, *conditions.passed_in)))
    return Evidence(
        promotion=promotion.id.key,
        digest=draft.digest,
        environment=environment.name,
        now=now,
        findings=draft.findings,
        approvals=checked,
        authors=None if hands is None else hands.names,
        lacking="" if hands is None else hands.lacking,
        passed={
            passage.environment: _passed(workplace, passage, draft.bundle_digest)
            for passage in (ask_passages(workplace, names) if names else ())
        },
        vouched=vouched_for(workplace, bundle, people) if conditions.bundle_signed else (),
        measured=_measured(workplace, promotion, environment),
        ran=_ran(workplace, promotion, environment),
        answers=_answers(workplace, promotion, environment) if asking is Asking.STARTED else None,
        is_rollback=is_rollback,
    )


def _contributors(
    workplace: Workplace, promotion: Promotion, bundle: Bundle
) -> Contributors | None:
    """Whoever had a hand in what a promotion changes; None if that is not known at all.

    That is whoever wrote, committed or helped to write a commit that came since what any changed
    part runs as there, or one that is taken away by going back behind it. Of a hold, its lifting or
    a rollback it is who drafted it; of files that were not committed, also who packed them.
    """
    draft = promotion.draft
    decided = frozenset({promotion.drafted_by})
    if draft.rollback is not None or (draft.is_hold and not draft.bases):
        return Contributors(names=decided)
    if bundle.commit is None or bundle.seal != (draft.bundle_seal or bundle.seal):
        return None
    bases = set(draft.bases.values())
    since = {commit for commit in bases if commit}
    before = draft.runs_there
    if before is not None and before.commit is not None and (not since or "" in bases):
        since.add(before.commit)
    new = [part for part, commit in draft.bases.items() if not commit and before is not None]
    files = [path for part in new for path in _files_of(bundle, part)]
    involved = contributors(workplace.root, bundle.commit, since, files)
    names, lacking = set(involved.names), [involved.lacking] if involved.lacking else []
    if not bundle.is_clean:
        names |= workplace.ledger.packers(bundle.digest) or {promotion.drafted_by}
    elif not commit_has(workplace.root, bundle.commit, bundle.files):
        lacking.append(f"commit {bundle.commit[:12]} does not have the files of {bundle.name}")
        names |= everybody(workplace.root)
    if draft.is_hold:
        names |= decided
    if involved.lacking and not involved.names:
        return None
    return Contributors(names=frozenset(names), lacking="; ".join(lacking))


def _files_of(bundle: Bundle, part: PartId) -> Sequence[str]:
    """The files of a part, as its bundle lists them."""
    parts = {entry.get("id"): entry.get("files", ()) for entry in bundle.manifest["parts"]}
    files: Sequence[str] = parts.get(str(part), ())
    return files


def _passed(workplace: Workplace, passage: Passage, digest: Digest) -> Passed:
    if passage.problem:
        return Passed(problem=passage.problem)
    if not passed(passage.promotions, digest):
        return Passed()
    undone = {key for promotion in passage.promotions for key in promotion.undoes}
    # how long it has been there counts from when it came, not from a later promotion of the same
    first = next(p for p in passage.promotions if p.digest == digest and p.promotion not in undone)
    ledger = workplace.ledger
    is_ours = first.id is not None and first.id.ledger == ledger.id
    completed = ledger.completed(first.id) if first.id is not None and is_ours else None
    recorded = "" if completed is None else completed.at
    return Passed(since=first.at, recorded=recorded, by=str(first.id or first.promotion))


def _measured(
    workplace: Workplace, promotion: Promotion, environment: Environment
) -> dict[tuple[str, str, str], Number]:
    """The latest numbers: of runs of this bundle, and of what is live where it goes."""
    wanted = [measure_condition(text) for text in environment.entry.measures]
    if not wanted or promotion.draft.rollback is not None:
        return {}
    digest = promotion.draft.bundle_digest
    numbers: dict[tuple[str, str, str], Number] = {}
    for measured in workplace.ledger.measured():
        is_live = measured.environment in environment.names
        if is_live or measured.bundle_digest == digest:
            key = (measured.part, measured.name, measured.environment)
            numbers[key] = Number(value=measured.value, run=str(measured.run))
    return numbers


def _ran(
    workplace: Workplace, promotion: Promotion, environment: Environment
) -> dict[tuple[str, str], str]:
    """The latest runs of this bundle that succeeded, of what has to have run."""
    ran: dict[tuple[str, str], str] = {}
    digest = promotion.draft.bundle_digest
    for part, name in map(ran_condition, environment.entry.ran):
        demanded = (part, name, digest, RunState.DONE)
        asked = RunsAsked(environment=name, subject=part, state=RunState.DONE)
        latest = workplace.ledger.runs(asked)[::-1]
        meant = next((run.id for run in latest if run.bundle_digest == digest), None)
        if meant is not None:  # the index says which is meant, its entries whether that is so
            run = workplace.ledger.run(meant)
            plan = run.plan
            if (plan.subject, plan.environment, plan.bundle_digest, run.state) == demanded:
                ran[str(part), name] = str(run.id)
    return ran


def _answers(
    workplace: Workplace, promotion: Promotion, environment: Environment
) -> dict[str, Answer]:
    commands: Iterable[str] = environment.entry.ask
    draft = {"format": "inchworm/draft/1", "promotion": str(promotion.id)}
    document = json.dumps(draft | promotion.draft.to_json()) if commands else ""
    seconds = environment.entry.ask_seconds
    allowed = (*_OF_THE_SYSTEM, *environment.entry.ask_environment)
    environ = {n: v for n, v in workplace.machine.environ.items() if n in allowed}
    for command in commands:
        workplace.machine.trust.demand(f"start {command}")
    return {
        command: ask(command, document, workplace.root, environ, seconds) for command in commands
    }


_OF_THE_SYSTEM = ("PATH", "HOME", "LANG", "LC_ALL", "TZ", "TMPDIR", "USER", "LOGNAME")
"""Environment variables that every command gets that is asked."""
