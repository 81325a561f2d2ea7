"""A review as one page: for somebody who has to say yes or no, from this page alone.

It needs no network and no script, reads on a telephone, and prints.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Sequence
from html import escape

from inchworm.application.reviewing import ChangedFile, Review
from inchworm.core.checks.findings import Finding, Severity, has_errors
from inchworm.core.counting import counted
from inchworm.core.identifiers import promotion_key
from inchworm.core.promotion.promotion import Step
from inchworm.core.promotion.states import State
from inchworm.report.lineage_svg import lineage_svg
from inchworm.report.page import LONG, as_text, code, folded, page, section, state_of, table
from inchworm.report.side_by_side import as_html

_OPEN_FILES = 4
"""Files whose differences are open from the start."""
_NAMED = 6
"""Affected parts and columns of a change that are named."""


def review_page(review: Review, read_at: str) -> str:
    """The page as HTML.

    Args:
        review: what it shows.
        read_at: when it was made, ISO 8601, UTC.
    """
    promotion, draft = review.promotion, review.promotion.draft
    name = f"{promotion.id} {draft.bundle} into {draft.environment}"
    into = "back into" if draft.rollback else "into"
    body = [
        f'<p class="quiet">{escape(str(promotion.id))}, read {_shown(read_at)} UTC</p>',
        f"<h1>{escape(draft.bundle)} {into} {escape(draft.environment)} "
        f'<span class="{"care" if review.environment.protected else "quiet"}">'
        f"({review.environment.protection})</span></h1>",
        *_verdict(review),
        *section("Before it may run", _entry(review)),
        *section("What happens", _steps(review)),
        *section("What changes for those who rely on it", _changes(review)),
        *section("Side by side with what is live", _files(review.files)),
        *section("Lineage", _lineage(review)),
        *section("Values", _values(review)),
        *section("Findings", _findings(draft.findings)),
        *section("What happened to this bundle elsewhere", _proofs(review)),
        *section("The statements that run", _statements(review)),
        f'<p class="quiet">draft <code>{escape(draft.digest)}</code></p>',
    ]
    return page(name, body)


def verdict_of(review: Review) -> tuple[str, str]:
    """The one sentence on top, and whether it is ``good``, ``bad`` or one to take care of."""
    promotion, entry = review.promotion, review.entry
    if promotion.state is not State.DRAFTED:
        text = f"It is {promotion.state.value}"
        return f"{text}: {promotion.message}." if promotion.message else f"{text}.", "care"
    if has_errors(promotion.draft.findings):
        return "Errors are in the way.", "bad"
    if entry.exception is not None and entry.missing:
        return "It may run by exception, although something is missing.", "bad"
    if entry.missing:
        lacking = "; ".join(each.condition for each in entry.missing)
        return f"It may not run yet: {lacking}.", "care"
    return "It may run.", "good"


def _verdict(review: Review) -> Iterator[str]:
    promotion, draft = review.promotion, review.promotion.draft
    text, kind = verdict_of(review)
    ran = draft.runs_there
    now = "nothing was promoted there yet"
    if ran is not None:
        now = f"{ran.bundle}, since {_shown(ran.at)} UTC, by {ran.by}"
    commit = f", commit {promotion.commit[:7]}" if promotion.commit else ""
    would = f"{draft.bundle}{commit}, drafted {_shown(promotion.drafted_at)} UTC by "
    would += promotion.drafted_by
    pairs = [("Runs there now", now), ("Would run", would)]
    if draft.rollback is not None:
        undone = ", ".join(str(promotion_key(key) or key) for key in draft.rollback.undoes)
        because = f", because {draft.rollback.because}" if draft.rollback.because else ""
        pairs.append(("Rollback", f"undoes {undone}{because}"))
    pairs.append(("Works on", _summary(draft.steps)))
    pairs.append(("Affects further", ", ".join(review.affected) or "nothing"))
    pairs.append(("Findings", _counts(draft.findings)))
    if review.seconds is not None:
        pairs.append(("Usually takes", f"about {max(1, round(review.seconds))} s"))
    if promotion.state is State.DRAFTED:
        pairs += _ways(review)
    listed = "".join(f"<dt>{escape(k)}</dt><dd>{as_text(v)}</dd>" for k, v in pairs)
    yield f'<div class="verdict {kind}"><p>{escape(text)}</p><dl>{listed}</dl></div>'


def _ways(review: Review) -> Iterator[tuple[str, str]]:
    id_, entry = review.promotion.id, review.environment.entry
    if entry.approvals:
        who = ", ".join(entry.by) or "anybody"
        who += "" if entry.authors_may_approve else ", but no author of the changes"
        yield "May approve", who
        yield "To say yes", code(f"inchworm approve {id_}")
        yield "To say no", code(f"inchworm approve {id_} --reject --because TEXT")
    yield "To carry it out", code(f"inchworm promote {id_}")


def _summary(steps: Sequence[Step]) -> str:
    """The steps by what they do to which kind of part, the most first."""
    kinds = Counter(
        (step.action, str(step.part).partition(":")[0]) for step in steps if ":" in str(step.part)
    )
    shown = [f"{action} {counted(count, kind)}" for (action, kind), count in kinds.most_common()]
    return ", ".join(shown) or "nothing but the record"


def _counts(findings: Sequence[Finding]) -> str:
    counts = Counter(finding.severity for finding in findings)
    shown = [counted(counts[severity], severity.value) for severity in Severity if counts[severity]]
    return ", ".join(shown) or "none"


# ---- sections ----------------------------------------------------------------------------------


def _entry(review: Review) -> Iterator[str]:
    entry = review.entry
    if entry.judged:
        yield table(
            ("", "condition", "evidence"),
            (
                (state_of("met" if e.is_met else "missing", e.is_met), e.condition, e.evidence)
                for e in entry.judged
            ),
        )
    if entry.exception_text:
        yield f'<p class="bad">Let in by exception, {escape(entry.exception_text)}</p>'
    approvals = [
        (
            each.approval.verdict.value,
            each.person.name,
            "signed" if each.is_signed else f"not signed, as {each.approval.identity.value} says",
            f"{_shown(each.approval.at)} UTC",
            each.approval.because,
            each.problem and f"does not count: {each.problem}",
        )
        for each in entry.approvals
    ]
    if approvals:
        yield table(("said", "by", "known by", "at", "because", ""), approvals)


def _steps(review: Review) -> Iterator[str]:
    draft = review.promotion.draft
    yield f"<p>{escape(counted(len(draft.steps), 'step'))}: {escape(_summary(draft.steps))}.</p>"
    reasons = Counter(step.reason.partition(";")[0] for step in draft.steps)
    if len(draft.steps) > LONG:
        yield table(("steps", "why"), ((str(count), why) for why, count in reasons.most_common(12)))
    lines = [
        (
            str(step.number),
            step.action,
            f"{step.part} {step.item}".strip(),
            step.reason,
            f"{review.usual[step.number]:.2f} s" if step.number in review.usual else "",
        )
        for step in draft.steps
    ]
    yield folded("All steps", table(("", "what", "part", "why", "usually"), lines), len(lines))
    if draft.left_alone:
        listed = ", ".join(counted(n, kind) for kind, n in draft.left_alone.items())
        yield f'<p class="quiet">Left alone: {escape(listed)}.</p>'


def _changes(review: Review) -> Iterator[str]:
    if review.changes is None:
        if review.promotion.draft.runs_there is not None:
            yield "<p>The bundle that runs there is not in the bundle store.</p>"
        return
    lines = [
        (
            change.what,
            "parameter" if change.part is None else str(change.part),
            f"{change.item} {change.detail}".strip(),
            change.weight.value,
            _first(change.affected),
        )
        for change in review.changes
    ]
    if lines:
        shown = table(("", "part", "what", "weight", "affects"), lines)
        yield folded(counted(len(lines), "change"), shown, len(lines))


def _files(files: Sequence[ChangedFile]) -> Iterator[str]:
    for place, file in enumerate(files):
        is_open = " open" if place < _OPEN_FILES and file.before is not None else ""
        what = "new" if file.before is None else "goes" if file.after is None else "changed"
        yield (
            f"<details{is_open}><summary><b>{escape(file.path)}</b> "
            f'<span class="quiet">{what}</span></summary>'
            f"{as_html(file.before, file.after)}</details>"
        )


def _lineage(review: Review) -> Iterator[str]:
    picture = lineage_svg(review.edges, review.touched)
    if picture:
        yield '<p class="quiet">What is worked on has a strong line; the rest reads it.</p>'
        yield picture


def _values(review: Review) -> Iterator[str]:
    draft = review.promotion.draft
    came = draft.came_from or "there"
    if draft.differing:
        lines = [(v.name, v.here, v.there or "", v.before or "") for v in draft.differing]
        yield table(("parameter", f"in {draft.environment}", f"in {came}", "before"), lines)
    if draft.overrides:
        yield table(("given for once", "value"), draft.overrides.items())
    if draft.secrets:
        listed = [(secret.name, secret.reference, secret.version) for secret in draft.secrets]
        yield table(("secret", "kept in", "version"), listed)


def _findings(findings: Sequence[Finding]) -> Iterator[str]:
    lines = [
        (
            state_of(finding.severity.value, finding.severity is Severity.NOTE),
            finding.rule,
            str(finding.part or finding.file or ""),
            finding.message,
            finding.remedy or "",
        )
        for finding in findings
    ]
    if lines:
        shown = table(("", "rule", "part", "what", "what to do"), lines)
        yield folded(_counts(findings), shown, len(lines))


def _proofs(review: Review) -> Iterator[str]:
    lines = [
        (
            proof.environment,
            proof.record,
            proof.what,
            state_of(proof.state, proof.state == State.DONE.value),
            f"{_shown(proof.at)} UTC",
            proof.by,
            proof.detail,
        )
        for proof in review.proofs
    ]
    if lines:
        yield table(("in", "", "what", "state", "at", "by", ""), lines)
    elif review.environment.after:
        yield "<p>Nothing of it is in this ledger.</p>"


def _statements(review: Review) -> Iterator[str]:
    if review.unread:
        yield f"<p>They are not told: {escape(review.unread)}</p>"
    for step, statements in review.statements:
        shown = "\n\n".join(f"{each.rstrip().rstrip(';')};" for each in statements)
        what = f"{step.number}. {step.action} {step.part} {step.item}".strip()
        yield (f"<details><summary>{escape(what)}</summary><pre>{escape(shown)}</pre></details>")


def _first(names: Sequence[str]) -> str:
    more = f" and {len(names) - _NAMED} more" if len(names) > _NAMED else ""
    return ", ".join(names[:_NAMED]) + more


def _shown(at: str) -> str:
    return at[:16].replace("T", " ")
