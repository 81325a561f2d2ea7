"""A review as one page: for somebody who has to say yes or no, from this page alone.

It needs no network and no script, reads on a telephone, and prints.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Iterator, Sequence
from html import escape

from inchworm.application.reviewing import ChangedFile, Review
from inchworm.core.checks.findings import Finding, Severity, has_errors
from inchworm.core.counting import counted
from inchworm.core.identifiers import promotion_key
from inchworm.core.promotion.promotion import Step
from inchworm.core.promotion.states import State
from inchworm.report.lineage_svg import lineage_svg
from inchworm.report.side_by_side import as_html

_OPEN_FILES = 4
"""Files whose differences are open from the start."""
_LONG = 30
"""Rows from which a table is folded."""

_NAMED = 6
"""Affected parts and columns of a change that are named."""

_STYLE = """
:root { --ink: #1b1f2a; --quiet: #5b6661; --line: #d5dad3; --paper: #fdfcf8; --good: #1b6e53;
        --bad: #a3261c; --care: #8a5a00; --tint: #eef2f0; }
body { font: 16px/1.5 system-ui, sans-serif; color: var(--ink); background: var(--paper);
       margin: 0 auto; max-width: 76rem; padding: 1rem 1.25rem 4rem; }
h1 { font-size: 1.5rem; margin: .2rem 0; } h2 { font-size: 1.15rem; margin: 2.2rem 0 .6rem; }
.quiet { color: var(--quiet); } .good { color: var(--good); } .bad { color: var(--bad); }
.care { color: var(--care); } .good, .bad, .care { font-weight: 600; }
table { border-collapse: collapse; width: 100%; }
th, td { text-align: left; vertical-align: top; padding: .3rem .9rem .3rem 0;
         border-bottom: 1px solid var(--line); overflow-wrap: break-word; }
th { font-weight: 600; color: var(--quiet); }
dl { display: grid; grid-template-columns: max-content 1fr; gap: .35rem 1.2rem; margin: 1rem 0; }
dt { color: var(--quiet); } dd { margin: 0; }
.verdict { border: 1px solid var(--line); border-left: 6px solid var(--quiet); background: #fff;
           padding: .2rem 1.2rem .6rem; margin: 1rem 0; }
.verdict.good { border-left-color: var(--good); } .verdict.bad { border-left-color: var(--bad); }
.verdict.care { border-left-color: var(--care); } .verdict { font-weight: 400; color: var(--ink); }
.verdict > p:first-child { font-size: 1.15rem; font-weight: 600; margin: .6rem 0; }
code, pre { font: 13px/1.5 ui-monospace, monospace; } pre { white-space: pre-wrap;
       background: var(--tint); padding: .6rem .8rem; margin: .4rem 0; overflow-wrap: anywhere; }
code { white-space: pre-wrap; overflow-wrap: anywhere; }
details { border-top: 1px solid var(--line); padding: .35rem 0; }
summary { cursor: pointer; } summary b { font-weight: 600; }
.difference { table-layout: fixed; margin: .5rem 0 1rem; background: #fff; }
.difference td, .difference th { border: 0; padding: 0 .6rem; }
.difference col.number { width: 2.6rem; }
.difference td.number { color: var(--quiet); text-align: right; padding: 0 .3rem;
       font: 12px/1.7 ui-monospace, monospace; }
.differs td.gone { background: #fbeae7; } .differs td.come { background: #e6f2ec; }
.difference td.none { background: var(--tint) !important; } .gap td { color: var(--quiet); }
.lineage { max-width: 100%; height: auto; background: #fff; border: 1px solid var(--line); }
.lineage rect { fill: var(--tint); stroke: var(--quiet); }
.lineage .touched rect { fill: #f6eedd; stroke: var(--care); stroke-width: 2.5; }
.lineage text { font: 12px system-ui, sans-serif; } .lineage .touched text { font-weight: 700; }
.lineage .edge { fill: none; stroke: #23527c; } .lineage marker path { fill: #23527c; }
@media (max-width: 44rem) {
  dl { grid-template-columns: 1fr; gap: 0; } dd { margin-bottom: .6rem; }
  table:not(.difference) thead { display: none; }
  table:not(.difference) tr { display: block; padding: .4rem 0; border-bottom: 1px solid #d5dad3; }
  table:not(.difference) td { display: block; border: 0; padding: .05rem 0; }
  td[data-what]::before { content: attr(data-what) ": "; color: var(--quiet); }
  .difference, .difference tbody, .difference tr, .difference td { display: block; }
  .difference td.number, .difference thead, .difference colgroup,
  .difference tr.same td.come, .difference td.none { display: none; }
}
@media print { body { max-width: none; font-size: 11pt; } details { break-inside: avoid; } }
"""


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
        *_section("Before it may run", _entry(review)),
        *_section("What happens", _steps(review)),
        *_section("What changes for those who rely on it", _changes(review)),
        *_section("Side by side with what is live", _files(review.files)),
        *_section("Lineage", _lineage(review)),
        *_section("Values", _values(review)),
        *_section("Findings", _findings(draft.findings)),
        *_section("What happened to this bundle elsewhere", _proofs(review)),
        *_section("The statements that run", _statements(review)),
        f'<p class="quiet">draft <code>{escape(draft.digest)}</code></p>',
    ]
    return (
        '<!doctype html><html lang="en"><head><meta charset="utf-8">'
        '<meta name="viewport" content="width=device-width, initial-scale=1">'
        f"<title>{escape(name)}</title><style>{_STYLE}</style></head>"
        f"<body>{''.join(body)}</body></html>\n"
    )


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
    listed = "".join(f"<dt>{escape(k)}</dt><dd>{_html(v)}</dd>" for k, v in pairs)
    yield f'<div class="verdict {kind}"><p>{escape(text)}</p><dl>{listed}</dl></div>'


def _ways(review: Review) -> Iterator[tuple[str, str]]:
    id_, entry = review.promotion.id, review.environment.entry
    if entry.approvals:
        who = ", ".join(entry.by) or "anybody"
        who += "" if entry.by_author else ", but no author of the changes"
        yield "May approve", who
        yield "To say yes", _code(f"inchworm approve {id_}")
        yield "To say no", _code(f"inchworm approve {id_} --reject --because TEXT")
    yield "To carry it out", _code(f"inchworm promote {id_}")


def _summary(steps: Sequence[Step]) -> str:
    """The steps by what they do to which kind of part, the most first."""
    kinds = Counter(
        (step.action, str(step.part).partition(":")[0]) for step in steps if ":" in str(step.part)
    )
    told = [f"{action} {counted(count, kind)}" for (action, kind), count in kinds.most_common()]
    return ", ".join(told) or "nothing but the record"


def _counts(findings: Sequence[Finding]) -> str:
    counts = Counter(finding.severity for finding in findings)
    told = [counted(counts[severity], severity.value) for severity in Severity if counts[severity]]
    return ", ".join(told) or "none"


# ---- sections ----------------------------------------------------------------------------------


def _section(heading: str, content: Iterable[str]) -> Iterator[str]:
    """A section, unless nothing is in it."""
    told = "".join(content)
    if told:
        yield f"<section><h2>{escape(heading)}</h2>{told}</section>"


def _entry(review: Review) -> Iterator[str]:
    entry = review.entry
    if entry.judged:
        yield _table(
            ("", "condition", "evidence"),
            (
                (_state("met" if e.is_met else "missing", e.is_met), e.condition, e.evidence)
                for e in entry.judged
            ),
        )
    if entry.exception_text:
        yield f'<p class="bad">Let in by exception, {escape(entry.exception_text)}</p>'
    said = [
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
    if said:
        yield _table(("said", "by", "known by", "at", "because", ""), said)


def _steps(review: Review) -> Iterator[str]:
    draft = review.promotion.draft
    yield f"<p>{escape(counted(len(draft.steps), 'step'))}: {escape(_summary(draft.steps))}.</p>"
    reasons = Counter(step.reason.partition(";")[0] for step in draft.steps)
    if len(draft.steps) > _LONG:
        yield _table(
            ("steps", "why"), ((str(count), why) for why, count in reasons.most_common(12))
        )
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
    yield _folded("All steps", _table(("", "what", "part", "why", "usually"), lines), len(lines))
    if draft.left_alone:
        kept = ", ".join(counted(n, kind) for kind, n in draft.left_alone.items())
        yield f'<p class="quiet">Left alone: {escape(kept)}.</p>'


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
        table = _table(("", "part", "what", "weight", "affects"), lines)
        yield _folded(counted(len(lines), "change"), table, len(lines))


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
        yield _table(("parameter", f"in {draft.environment}", f"in {came}", "before"), lines)
    if draft.overrides:
        yield _table(("given for once", "value"), draft.overrides.items())
    if draft.secrets:
        kept = [(secret.name, secret.reference, secret.version) for secret in draft.secrets]
        yield _table(("secret", "kept in", "version"), kept)


def _findings(findings: Sequence[Finding]) -> Iterator[str]:
    lines = [
        (
            _state(finding.severity.value, finding.severity is Severity.NOTE),
            finding.rule,
            str(finding.part or finding.file or ""),
            finding.message,
            finding.remedy or "",
        )
        for finding in findings
    ]
    if lines:
        table = _table(("", "rule", "part", "what", "what to do"), lines)
        yield _folded(_counts(findings), table, len(lines))


def _proofs(review: Review) -> Iterator[str]:
    lines = [
        (
            proof.environment,
            proof.record,
            proof.what,
            _state(proof.state, proof.state == State.DONE.value),
            f"{_shown(proof.at)} UTC",
            proof.by,
            proof.detail,
        )
        for proof in review.proofs
    ]
    if lines:
        yield _table(("in", "", "what", "state", "at", "by", ""), lines)
    elif review.environment.after:
        yield "<p>Nothing of it is in this ledger.</p>"


def _statements(review: Review) -> Iterator[str]:
    if review.unread:
        yield f"<p>They are not told: {escape(review.unread)}</p>"
    for step, statements in review.statements:
        told = "\n\n".join(f"{each.rstrip().rstrip(';')};" for each in statements)
        what = f"{step.number}. {step.action} {step.part} {step.item}".strip()
        yield (f"<details><summary>{escape(what)}</summary><pre>{escape(told)}</pre></details>")


# ---- pieces ------------------------------------------------------------------------------------


def _first(names: Sequence[str]) -> str:
    more = f" and {len(names) - _NAMED} more" if len(names) > _NAMED else ""
    return ", ".join(names[:_NAMED]) + more


class _Html(str):
    """A text that is HTML already."""

    __slots__ = ()


def _code(text: str) -> _Html:
    return _Html(f"<code>{escape(text)}</code>")


def _html(text: str) -> str:
    return text if isinstance(text, _Html) else escape(text)


def _state(text: str, is_good: bool) -> _Html:
    return _Html(f'<span class="{"good" if is_good else "care"}">{escape(text)}</span>')


def _table(headings: Sequence[str], lines: Iterable[Sequence[str]]) -> str:
    head = "".join(f"<th>{escape(heading)}</th>" for heading in headings)
    body = "".join(
        f"<tr>{''.join(_cell(h, text) for h, text in zip(headings, line, strict=True))}</tr>"
        for line in lines
    )
    return f"<table><thead><tr>{head}</tr></thead><tbody>{body}</tbody></table>"


def _cell(heading: str, text: str) -> str:
    what = f' data-what="{escape(heading)}"' if heading and text else ""
    return f"<td{what}>{_html(text)}</td>"


def _folded(summary: str, content: str, size: int) -> str:
    if size <= _LONG:
        return content
    return f"<details><summary>{escape(summary)} ({size})</summary>{content}</details>"


def _shown(at: str) -> str:
    return at[:16].replace("T", " ")
